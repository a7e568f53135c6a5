/** The outside services of the demo, simulated: a neighbour's object store and the fleet office's database. They live as long as the server. */
import { fork } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { existsSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { fillRiverWatch } from '../../demo/river-watch';
import { quoteText } from '../../core/sql/tokens';
import type { EngineCalls } from '../engine/engine';
import { childEnvironment, programFile } from '../program-files';
import type { Services } from '../services';
import type { PostgresSettings } from '../sources/postgres';
import type { S3Settings } from '../storage/s3-store';
import { ObjectStoreStandIn } from './object-store';

type OnStop = (stop: () => Promise<void>) => void;

const BUCKET = 'river-watch';
const KEYS = { accessKeyId: 'tern-bay-visitor', secretAccessKey: 'mind-the-ducks', rights: ['list', 'read', 'write', 'delete'] as const };
const OFFICE = { storage: 'fleet-office', user: 'harbor', password: 'slack-water' };

/** At first start each is filled and connected; later its address, which is any free one, is brought up to date. */
export async function startStandIns(services: Services, onStop: OnStop): Promise<void> {
  await startRiverWatch(services, onStop);
  await startFleetOffice(services, onStop);
}

async function startRiverWatch({ config, lake, workEngine }: Services, onStop: OnStop): Promise<void> {
  const folder = path.join(config.home, 'stand-ins', 'object-store');
  const store = new ObjectStoreStandIn(folder, [KEYS]);
  const bucket = store.addBucket(BUCKET);
  const complete = path.join(folder, '.complete');
  if (!existsSync(complete)) {
    await fillRiverWatch(bucket, (csv) => zstd(workEngine, csv));
    writeFileSync(complete, '');
  }
  const endpoint = await store.listen(0);
  onStop(() => store.close());
  const known = lake.storages().find(({ storage }) => storage.name === BUCKET);
  const settings: S3Settings = { endpoint, region: 'bay-1', bucket: BUCKET, prefix: '', addressing: 'path' };
  if (!known) await lake.addStorage({ name: BUCKET, kind: 's3', location: '', settings, secret: lake.secrets.seal({ accessKeyId: KEYS.accessKeyId, secretAccessKey: KEYS.secretAccessKey }) }, config.person);
  else if ((known.storage.settings as S3Settings).endpoint !== endpoint) await lake.changeEndpoint(known.storage, endpoint, config.person);
}

/** Its process takes seconds to come up; the server does not wait for it. */
async function startFleetOffice({ config, lake, log, events }: Services, onStop: OnStop): Promise<void> {
  const child = fork(path.join(programFile('server'), 'fleet-office.js'), [], { env: childEnvironment({ OFFICE_PASSWORD: OFFICE.password }), stdio: ['ignore', 'ignore', 'inherit', 'ipc'] });
  onStop(async () => {
    if (child.exitCode === null) child.kill('SIGKILL');
  });
  child.once('message', ({ port }: { port: number }) => {
    void connect(port).catch((error: unknown) => log.error({ err: error }, 'connecting the fleet office'));
  });

  async function connect(port: number): Promise<void> {
    const known = lake.storages().find(({ storage }) => storage.name === OFFICE.storage);
    const settings: PostgresSettings = { host: '127.0.0.1', port, database: 'postgres', user: OFFICE.user, ssl: false };
    if (!known) await lake.addStorage({ name: OFFICE.storage, kind: 'postgres', location: '', settings, secret: lake.secrets.seal(OFFICE.password) }, config.person);
    else await lake.changePort(known.storage, port, config.person);
    events.tell({ topic: 'catalog' });
  }
}

/** Packed by the engine, since this version of Node.js cannot. */
async function zstd(engine: EngineCalls, csv: string): Promise<Uint8Array> {
  const [plain, packed] = ['plain', 'packed'].map((name) => path.join(os.tmpdir(), `${randomUUID()}.${name}`)) as [string, string];
  writeFileSync(plain, csv);
  try {
    await engine.call('run', { sql: `COPY (SELECT line FROM read_csv(${quoteText(plain)}, columns = {'line': 'VARCHAR'}, auto_detect = false, delim = '\x01', header = false, quote = '', escape = '')) TO ${quoteText(packed)} (FORMAT csv, HEADER false, QUOTE '', ESCAPE '', DELIMITER '\x01', COMPRESSION zstd)` });
    return readFileSync(packed);
  } finally {
    for (const file of [plain, packed]) rmSync(file, { force: true });
  }
}
