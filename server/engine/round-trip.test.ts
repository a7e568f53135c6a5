/** Tables that our writers make, read by our readers and by independent ones (hyparquet, icebird). */
import { createReadStream, readFileSync, readdirSync, statSync } from 'node:fs';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import path from 'node:path';
import { parquetReadObjects } from 'hyparquet';
import { compressors } from 'hyparquet-compressors';
import { icebergRead } from 'icebird';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { append as appendDelta, addColumns as addDeltaColumns, createDeltaTable, latestState, overwrite } from '../../core/delta/operations';
import { schemaOf } from '../../core/delta/schema';
import { DeltaTable } from '../../core/delta/table';
import { addColumns as addIcebergColumns, append as appendIceberg, createIcebergTable } from '../../core/iceberg/operations';
import { FilePointer } from '../../core/iceberg/pointer';
import { parseSchema as parseIcebergSchema, schemaJson } from '../../core/iceberg/schema';
import { IcebergTable } from '../../core/iceberg/table';
import { parseTypeName } from '../../core/schema/type-names';
import { field, type TableSchema } from '../../core/schema/types';
import { testPorts } from '../../core/testing/ports';
import { parseDate } from '../../core/values/text';
import type { DiskStore } from '../storage/disk-store';
import { readTable, storeAt, temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { EngineRowFiles } from './row-files';

const COLUMNS = {
  n: 'bigint', small: 'integer', x: 'double', real: 'float', ok: 'boolean', price: 'decimal(18,2)', wide: 'decimal(38,10)', day: 'date', ts: 'timestamptz', name: 'varchar', raw: 'blob',
  place: 'struct(lat double, city varchar)', tags: 'varchar[]',
};
const schema: TableSchema = { fields: Object.entries(COLUMNS).map(([name, type]) => field(name, parseTypeName(type))) };
/** Twelve rows over three days, with nulls, NaN and the extremes of each type among them. */
const SOURCE = `
  SELECT n::BIGINT AS n, (n * 1000)::INTEGER AS small, CASE WHEN n = 3 THEN 'nan' WHEN n = 4 THEN 'inf' ELSE n / 4 END::DOUBLE AS x, (n / 8)::FLOAT AS real, n % 2 = 0 AS ok,
         CASE WHEN n = 5 THEN 1234567890123456.78 ELSE n + 0.25 END::DECIMAL(18,2) AS price, (n * 1.5)::DECIMAL(38,10) AS wide, DATE '2026-03-01' + (n % 3)::INTEGER AS day,
         TIMESTAMPTZ '2026-03-01 00:00:00+00' + to_days((n % 3)::INTEGER) + to_microseconds(n) AS ts, CASE WHEN n = 6 THEN NULL ELSE 'größe 😀 ' || n END AS name, encode('b' || n) AS raw,
         {'lat': n / 10, 'city': 'c' || n}::STRUCT(lat DOUBLE, city VARCHAR) AS place, CASE WHEN n = 7 THEN NULL ELSE ['a', NULL, 'n' || n] END AS tags
  FROM range(12) numbers(n)`;
const EVERYTHING = 'SELECT * FROM t ORDER BY n';

let engine: LocalEngine;
const folder = temporaryFolder();
let server: Server;
let served: DiskStore;
let store: DiskStore;
let truth: unknown[][];

beforeAll(async () => {
  engine = await LocalEngine.start();
  store = storeAt(folder.path);
  server = createServer((request, response) => {
    const file = path.join(folder.path, decodeURIComponent(new URL(request.url!, 'http://x').pathname));
    const { size } = statSync(file, { throwIfNoEntry: false }) ?? {};
    if (size === undefined) return response.writeHead(404).end();
    const range = /bytes=(\d+)-(\d*)/.exec(request.headers.range ?? '');
    const [start, end] = range ? [Number(range[1]), range[2] ? Number(range[2]) : size - 1] : [0, size - 1];
    response.writeHead(range ? 206 : 200, { 'content-length': end - start + 1, 'accept-ranges': 'bytes' });
    if (request.method === 'HEAD') return response.end();
    createReadStream(file, { start, end }).pipe(response);
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  served = storeAt(folder.path, `http://127.0.0.1:${(server.address() as AddressInfo).port}`);
  truth = (await engine.call('run', { sql: `SELECT * FROM (${SOURCE}) ORDER BY n` })).rows;
});
afterAll(() => {
  server.close();
  folder.remove();
});

async function deltaTable(name: string): Promise<DeltaTable> {
  const table = new DeltaTable(store, name, `ns.${name}`);
  await createDeltaTable(table, { schema, partitionColumns: ['day'] }, testPorts(1));
  const files = [];
  for (const day of ['2026-03-01', '2026-03-02', '2026-03-03']) {
    const written = { fields: schema.fields.filter((each) => each.name !== 'day') };
    files.push(await new EngineRowFiles(engine, store).write({ sql: `SELECT * FROM (${SOURCE}) WHERE day = '${day}' ORDER BY n`, path: `${name}/day=${day}/part.parquet`, schema: written, partition: { day: parseDate(day)! } }));
  }
  await appendDelta(table, files, testPorts(2));
  return table;
}

async function icebergTable(name: string): Promise<IcebergTable> {
  const table = new IcebergTable(served, name, `ns.${name}`, new FilePointer(served, name));
  const metadata = await createIcebergTable(table, { schema, partitionBy: [{ source: 'ts', transform: 'day' }] }, testPorts(1));
  await appendRows(table, parseIcebergSchema(metadata.schemas[0]!, name), SOURCE, 2);
  return table;
}

async function appendRows(table: IcebergTable, withIds: TableSchema, source: string, writer: number): Promise<void> {
  const files = [];
  for (const day of ['2026-03-01', '2026-03-02', '2026-03-03']) {
    files.push(await new EngineRowFiles(engine, served).write({
      sql: `SELECT * FROM (${source}) WHERE ts::DATE = '${day}' ORDER BY n`, path: `${table.root}/data/${writer}-${day}.parquet`, schema: withIds, partition: { ts_day: parseDate(day)! }, keyValues: { 'iceberg.schema': JSON.stringify(schemaJson(withIds)) },
    }));
  }
  await appendIceberg(table, files, testPorts(writer));
}

describe('a Delta table that we wrote', () => {
  it('gives back every value of every type', async () => {
    const { rows, columns } = await readTable(engine, store, await deltaTable('d1'), { sql: EVERYTHING });
    expect(columns.map(({ name, type }) => [name, type])).toEqual(Object.entries(COLUMNS).map(([name, type]) => [name, type]));
    expect(rows).toEqual(truth);
  });

  it('has statistics from which files are skipped, and never a row lost', async () => {
    const table = await deltaTable('d2');
    const read = async (column: string, comparison: '=' | '>', value: number | bigint | string) => {
      const predicate = { op: 'compare' as const, column: column.split('.'), comparison, value };
      const literal = typeof value === 'string' ? `'${value}'` : String(value);
      const plan = await (await table.snapshot({ kind: 'latest' })).plan(predicate);
      const { rows } = await readTable(engine, store, table, { predicate, sql: `SELECT n FROM t WHERE ${column} ${comparison} ${literal} ORDER BY n` });
      return [plan.files.read, rows.flat()];
    };
    expect(await read('n', '=', 11n)).toEqual([1, [11]]);
    expect(await read('name', '=', 'größe 😀 8')).toEqual([2, [8]]);
    expect(await read('x', '>', 2.4)).toEqual([3, [3, 4, 10, 11]]); // NaN and infinity are above every number
  });

  it('is read by an independent reader of log and Parquet', async () => {
    const table = await deltaTable('d3');
    await overwrite(table, [await new EngineRowFiles(engine, store).write({ sql: `SELECT * FROM (${SOURCE}) WHERE day = '2026-03-02'`, path: 'd3/day=2026-03-02/again.parquet', schema: { fields: schema.fields.filter((each) => each.name !== 'day') }, partition: { day: parseDate('2026-03-02')! } })], testPorts(3));
    const live = new Set<string>();
    const log = path.join(folder.path, 'd3/_delta_log');
    for (const file of readdirSync(log).sort()) {
      for (const line of readFileSync(path.join(log, file), 'utf8').trim().split('\n')) {
        const { add, remove } = JSON.parse(line) as { add?: { path: string }; remove?: { path: string } };
        if (remove) live.delete(decodeURIComponent(remove.path));
        if (add) live.add(decodeURIComponent(add.path));
      }
    }
    const rows = [];
    for (const each of live) rows.push(...(await parquetReadObjects({ file: new Uint8Array(readFileSync(path.join(folder.path, 'd3', each))).buffer, compressors })));
    expect(rows.map((row) => Number(row.n)).sort((a, b) => a - b)).toEqual([1, 4, 7, 10]);
    expect(rows.find((row) => row.n === 4n)).toMatchObject({ small: 4000, x: Infinity, name: 'größe 😀 4', place: { lat: 0.4, city: 'c4' } });
  });

  it('reads null in a column that came later', async () => {
    const table = await deltaTable('d4');
    await addDeltaColumns(table, [field('later', 'int')], testPorts(3));
    const { metadata } = await latestState(table);
    expect(schemaOf(metadata, 'd4').fields.at(-1)!.name).toBe('later');
    expect((await readTable(engine, store, table, { sql: 'SELECT count(*), count(later) FROM t' })).rows).toEqual([[12, 0]]);
  });
});

describe('an Iceberg table that we wrote', () => {
  it('gives back every value of every type', async () => {
    expect((await readTable(engine, store, await icebergTable('i1'), { sql: EVERYTHING })).rows).toEqual(truth);
  });

  it('is read by an independent Iceberg reader over HTTP', async () => {
    const table = await icebergTable('i2');
    const rows = await icebergRead({ tableUrl: `${served.uri}/${table.root}` });
    const found = rows.map((row) => [Number(row.n), row.name, row.price, row.place]).sort((a, b) => a[0] - b[0]);
    expect(found).toEqual(truth.map((row) => [row[0], row[9], Number(row[5]), row[11]]));
  });

  it('reads null in a column that came later, and a renamed file column by its id', async () => {
    const table = await icebergTable('i3');
    const metadata = await addIcebergColumns(table, [field('later', 'int')], testPorts(3));
    const now = parseIcebergSchema(metadata.schemas.at(-1)!, 'i3');
    // The next file calls the column otherwise; its field id says which it is.
    const renamed = { fields: now.fields.map((each) => (each.name === 'n' ? { ...each, name: 'number' } : each)) };
    const file = await new EngineRowFiles(engine, served).write({ sql: `SELECT n + 100 AS number, * EXCLUDE (n), 5 AS later FROM (${SOURCE}) WHERE ts::DATE = '2026-03-01'`, path: 'i3/data/renamed.parquet', schema: renamed, partition: { ts_day: parseDate('2026-03-01')! } });
    await appendIceberg(table, [file], testPorts(4));
    const { rows } = await readTable(engine, store, table, { sql: 'SELECT n, later FROM t WHERE n IN (0, 100) ORDER BY n' });
    expect(rows).toEqual([[0, null], [100, 5]]);
  });

  it('opens only the day that is asked for', async () => {
    const table = await icebergTable('i4');
    const day = BigInt(parseDate('2026-03-02')!) * 86_400_000_000n;
    const predicate = { op: 'and' as const, args: [{ op: 'compare' as const, column: ['ts'], comparison: '>=' as const, value: day }, { op: 'compare' as const, column: ['ts'], comparison: '<' as const, value: day + 86_400_000_000n }] };
    const plan = await (await table.snapshot({ kind: 'latest' })).plan(predicate);
    expect(plan.files).toEqual({ total: 3, read: 1, skippedByPartition: 2, skippedByBounds: 0 });
    expect((await readTable(engine, store, table, { predicate, sql: 'SELECT n FROM t ORDER BY n' })).rows.flat()).toEqual([1, 4, 7, 10]);
  });
});
