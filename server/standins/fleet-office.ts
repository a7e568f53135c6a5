/**
 * The fleet office's database, simulated: boats, crews, buoys and visits in PGlite behind the PostgreSQL wire protocol,
 * in a process of its own. Its rows are made at every start, always the same. Says on which port it listens.
 */
import { createServer, type Socket } from 'node:net';
import type { AddressInfo } from 'node:net';
import { PGlite } from '@electric-sql/pglite';
import { createScramSha256Data } from 'pg-gateway';
import { fromNodeSocket } from 'pg-gateway/node';

const password = process.env.OFFICE_PASSWORD;
process.on('SIGINT', () => undefined);
process.on('disconnect', () => process.exit(0));

const database = new PGlite();
await database.waitReady;
await database.exec(`
  CREATE SCHEMA fleet; CREATE SCHEMA stores;
  CREATE TABLE fleet.boats (boat text PRIMARY KEY, built integer NOT NULL, length_m numeric(5,2), moored_at text);
  INSERT INTO fleet.boats VALUES ('Little Auk', 1998, 9.4, 'Holm Quay'), ('Dunlin', 2007, 11.25, 'Merrow Lock'), ('Knot', 2015, 7.8, 'Pell Island');
  CREATE TABLE fleet.crews (person text PRIMARY KEY, boat text REFERENCES fleet.boats, joined date NOT NULL, certificates text[]);
  INSERT INTO fleet.crews VALUES ('M. Reed', 'Little Auk', '2011-04-02', '{skipper,diver}'), ('J. Okafor', 'Dunlin', '2019-09-15', '{skipper}'), ('A. Sunde', 'Dunlin', '2021-02-20', '{}'), ('R. Holt', 'Knot', '2016-06-01', '{diver}');
  CREATE TABLE fleet.buoys (buoy_id text PRIMARY KEY, place text NOT NULL, moored_on date NOT NULL, depth_m double precision, serial uuid NOT NULL);
  INSERT INTO fleet.buoys SELECT 'TB-' || lpad(n::text, 2, '0'), (ARRAY['Gannet Sound', 'Holm Quay', 'Brackle Point', 'Whinny Sands', 'Otter Ness', 'Low Scar', 'Merrow Lock', 'Pell Island'])[1 + (n - 1) % 8], DATE '2019-03-01' + n * 13, 4 + (n * 37 % 50) / 4.0, md5('buoy' || n)::uuid FROM generate_series(1, 48) n;
  CREATE TABLE fleet.visits (visit_id bigint PRIMARY KEY, buoy_id text NOT NULL REFERENCES fleet.buoys, visited_at timestamptz NOT NULL, boat text, work text, minutes integer, details jsonb);
  INSERT INTO fleet.visits SELECT n, 'TB-' || lpad((1 + n * 7 % 48)::text, 2, '0'), TIMESTAMPTZ '2025-04-01 08:00+00' + n * interval '103 minutes', (ARRAY['Little Auk', 'Dunlin', 'Knot'])[1 + n % 3], (ARRAY['clean', 'battery', 'probe', 'lamp'])[1 + n % 4], 15 + n % 50, jsonb_build_object('wind', n % 9) FROM generate_series(1, 5000) n;
  CREATE VIEW fleet.last_visits AS SELECT buoy_id, max(visited_at) AS visited_at, count(*) AS visits FROM fleet.visits GROUP BY buoy_id;
  CREATE TABLE stores.parts (part text PRIMARY KEY, in_stock integer, price numeric);
  INSERT INTO stores.parts VALUES ('probe', 12, 249.50), ('battery', 40, 18.95), ('lamp', 9, 31);
  COMMENT ON COLUMN fleet.visits.minutes IS 'Time on station';
  ANALYZE;`);

const secret = await createScramSha256Data(password!);
/** The database has one session, so connections take turns. */
let turn: Promise<void> = Promise.resolve();

const server = createServer((socket) => void serve(socket));
server.listen(0, '127.0.0.1', () => process.send?.({ port: (server.address() as AddressInfo).port }));

async function serve(socket: Socket): Promise<void> {
  // Small answers must not wait for each other.
  socket.setNoDelay(true);
  socket.on('error', () => undefined);
  let free: () => void = () => undefined;
  const before = turn;
  const closed = new Promise<void>((resolve) => socket.once('close', () => resolve()));
  turn = before.then(() => new Promise<void>((resolve) => (free = resolve)));
  void closed.then(async () => {
    await before;
    await database.exec('ROLLBACK; DISCARD ALL').catch(() => undefined);
    free();
  });
  await fromNodeSocket(socket, {
    serverVersion: '17.0 (Kind Harbor stand-in)',
    auth: { method: 'scram-sha-256', getScramSha256Data: () => secret },
    async onMessage(data, { isAuthenticated }) {
      if (!isAuthenticated) return;
      await before;
      return database.execProtocolRaw(data);
    },
  });
}
