/** The PostgreSQL adapter, whose client is the database's own library, against the stand-in that speaks its protocol. */
import { fork, type ChildProcess } from 'node:child_process';
import path from 'node:path';
import { Client } from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { TRUE, type Predicate } from '../../core/scan/predicate';
import { typeName } from '../../core/schema/type-names';
import { programFile } from '../program-files';
import { PostgresDriver } from './postgres';
import { selectStatement } from './postgres-sql';

let office: ChildProcess;
let port: number;
const settings = () => ({ host: '127.0.0.1', port, database: 'postgres', user: 'harbor', ssl: false });
const driver = (password = 'tide') => new PostgresDriver(settings(), () => password);

beforeAll(async () => {
  office = fork(path.join(programFile('server'), 'fleet-office.js'), [], { env: { ...process.env, OFFICE_PASSWORD: 'tide' }, stdio: ['ignore', 'ignore', 'inherit', 'ipc'] });
  port = await new Promise((resolve) => office.once('message', (message: { port: number }) => resolve(message.port)));
}, 60_000);
afterAll(() => void office.kill('SIGKILL'));

async function read(table: string, predicate: Predicate = TRUE, only?: string[], limit?: number) {
  const reading = driver();
  const fields = (await reading.columns()).get(table)!.filter((field) => only === undefined || only.includes(field.name));
  const [schema, name] = table.split('/') as [string, string];
  const rows: Record<string, unknown>[] = [];
  for await (const batch of reading.rows({ schema, name, fields, predicate, ...(limit === undefined ? {} : { limit }) })) rows.push(...batch);
  return rows;
}

describe('a PostgreSQL database', () => {
  it('tells its tables and views, and their columns with types', async () => {
    expect((await driver().objects()).map(({ schema, name, kind, rows }) => [`${schema}.${name}`, kind, rows])).toEqual([
      ['fleet.boats', 'table', 3], ['fleet.buoys', 'table', 48], ['fleet.crews', 'table', 4], ['fleet.last_visits', 'view', null], ['fleet.visits', 'table', 5000], ['stores.parts', 'table', 3],
    ]);
    const columns = await driver().columns();
    const types = (table: string) => columns.get(table)!.map(({ name, type, required }) => `${name} ${typeName(type)}${required ? ' required' : ''}`);
    expect(types('fleet/boats')).toEqual(['boat varchar required', 'built integer required', 'length_m decimal(5,2)', 'moored_at varchar']);
    expect(types('fleet/crews')).toContain('certificates varchar[]');
    expect(types('fleet/visits')).toEqual(expect.arrayContaining(['visited_at timestamptz required', 'details varchar']));
    expect(columns.get('fleet/visits')!.find((field) => field.name === 'minutes')!.comment).toBe('Time on station');
  });

  it('is asked for the columns and rows that are wanted alone, in as many steps as it takes', async () => {
    expect((await read('fleet/visits')).length).toBe(5000);
    expect(await read('fleet/crews', { op: 'compare', column: ['person'], comparison: '<', value: 'B' }, ['person', 'certificates'])).toEqual([{ person: 'A. Sunde', certificates: [] }]);
    expect((await read('fleet/visits', { op: 'in', column: ['work'], values: ['lamp'] }, ['visit_id'])).length).toBe(1250);
    expect((await read('fleet/buoys', TRUE, undefined, 2)).length).toBe(2);
  });

  it('serves several readers, each with a connection of its own', async () => {
    const counts = await Promise.all([read('fleet/visits', TRUE, ['work']), read('fleet/buoys'), read('stores/parts')]);
    expect(counts.map((rows) => rows.length)).toEqual([5000, 48, 3]);
  });

  it('cannot be written through its own client when it is read', async () => {
    const client = new Client({ ...settings(), password: 'tide' });
    await client.connect();
    expect((await client.query("SELECT count(*)::int AS n FROM fleet.visits WHERE buoy_id = $1", ['TB-08'])).rows[0]).toEqual({ n: 105 });
    await client.query('BEGIN READ ONLY');
    await expect(client.query('DELETE FROM fleet.visits')).rejects.toMatchObject({ code: '25006' });
    await client.end();
  });

  it.each([
    ['a wrong password', () => driver('wrong'), 'refused', 'does not accept the user harbor'],
    ['nobody there', () => new PostgresDriver({ ...settings(), port: 9 }, () => ''), 'limit', 'does not answer (ECONNREFUSED)'],
  ])('says what is wrong: %s', async (_, make, kind, message) => {
    await expect(make().objects()).rejects.toMatchObject({ kind, message: expect.stringContaining(message) as string });
  });
});

describe('a reading as a statement', () => {
  const fields = ['buoy "x" varchar', 'n bigint', 'p struct(a bigint)'].map((column) => ({ name: column.slice(0, column.lastIndexOf(' ', column.indexOf('struct') > 0 ? 2 : undefined)), type: column.endsWith('bigint') ? ({ kind: 'long' } as const) : column.includes('struct') ? ({ kind: 'struct', fields: [] } as const) : ({ kind: 'string' } as const), required: false })) as never[];
  const of = (predicate: Predicate) => selectStatement({ schema: 's"; DROP', name: 't', fields: [], predicate }, fields);
  const text = (value: string): Predicate => ({ op: 'compare', column: ['buoy "x"'], comparison: '>=', value });

  it('keeps values out of its text, and orders texts by their bytes', () => {
    expect(of(text("a'; --"))).toEqual({ text: 'SELECT 1 AS present FROM "s""; DROP"."t" WHERE "buoy ""x"""::text COLLATE "C" >= $1::text', values: ["a'; --"] });
  });

  it('lets every row through where one side of an OR cannot be asked, and asks what it can of an AND', () => {
    const nested: Predicate = { op: 'compare', column: ['p', 'a'], comparison: '=', value: 1n };
    expect(of({ op: 'or', args: [text('a'), nested] })).toEqual({ text: 'SELECT 1 AS present FROM "s""; DROP"."t"', values: [] });
    expect(of({ op: 'and', args: [nested, { op: 'null', column: ['n'] }] }).text).toContain('WHERE ("n" IS NULL)');
  });
});
