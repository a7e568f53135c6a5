/** The ways a scan plan becomes SQL give the same rows, whatever the number of partitions and files. */
import { mkdirSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { FolderTable, MemoryListings, type FolderDefinition } from '../../core/folder/table';
import { fullOptions } from '../../core/folder/read-options';
import type { DataFile } from '../../core/scan/plan';
import type { Predicate } from '../../core/scan/predicate';
import { parseTypeName } from '../../core/schema/type-names';
import { field } from '../../core/schema/types';
import { readTable, storeAt, temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { NO_ROWS_FILE, parquetScan } from './parquet-scan';

let engine: LocalEngine;
const folder = temporaryFolder();
const DAYS = 75; // more than branches allow, and more files than stand in the query itself
const csv = fullOptions({ format: 'csv', delimiter: '|' });
const fieldsOf = (columns: Record<string, string>) => Object.entries(columns).map(([name, type]) => field(name, parseTypeName(type)));

beforeAll(async () => {
  engine = await LocalEngine.start();
  const copies = Array.from({ length: DAYS }, (_, n) => {
    mkdirSync(path.join(folder.path, `parquet/part=p${n % 50}/n=${n}`), { recursive: true });
    return `COPY (SELECT i::BIGINT AS i, 'it''s ' || i AS name FROM range(${n}, ${n + 4}) r(i)) TO '${folder.path}/parquet/part=p${n % 50}/n=${n}/a.parquet' (FORMAT parquet)`;
  });
  await engine.call('run', { sql: copies.join('; ') });
  mkdirSync(path.join(folder.path, 'text'));
  writeFileSync(path.join(folder.path, 'text/a.csv'), 'id|name|Extra\n1|one|x\n2|"a|b"|y\n');
  writeFileSync(path.join(folder.path, 'text/b.csv'), 'NAME|id\nthree|3\n|4\n');
  mkdirSync(path.join(folder.path, 'json'));
  writeFileSync(path.join(folder.path, 'json/a.jsonl'), '{"id": 1, "place": {"lat": 1.5}}\n{"id": 2, "tags": ["a"], "unknown": 1}\n');
});
afterAll(folder.remove);

function table(root: string, definition: Omit<FolderDefinition, 'partitionColumns'>, partitionColumns: string[] = []): FolderTable {
  return new FolderTable(storeAt(folder.path), root, `t.${root}`, { ...definition, partitionColumns }, new MemoryListings());
}
const read = async (from: FolderTable, sql: string, predicate?: Predicate) => (await readTable(engine, storeAt(folder.path), from, { sql, ...(predicate ? { predicate } : {}) })).rows;

describe('a scan', () => {
  const parts = () => table('parquet', { pattern: 'part={part}/n={n}/*', options: { format: 'parquet' }, fields: fieldsOf({ i: 'bigint', name: 'varchar', part: 'varchar', n: 'integer' }) }, ['part', 'n']);

  it('gives each file its own partition values, by branches or by a join', async () => {
    const all = await read(parts(), 'SELECT n, part, i FROM t ORDER BY n, i');
    expect(all).toEqual(Array.from({ length: DAYS }, (_, n) => [0, 1, 2, 3].map((k) => [n, `p${n % 50}`, n + k])).flat());
    const few = await read(parts(), 'SELECT n, part, i FROM t ORDER BY n, i', { op: 'compare', column: ['n'], comparison: '<', value: 5 });
    expect(few).toEqual(all.slice(0, 20));
  });

  it.each(['name', 'field-id'] as const)('divides one large file among threads, matched by %s, and its rows keep their order, their places and those that were left out', async (match) => {
    const rows = 400_000;
    const large = path.join(folder.path, `large-${match}.parquet`);
    await engine.call('run', { sql: `COPY (SELECT i AS was, {'deep': i * 2} AS nested FROM range(${rows}) r(i)) TO '${large}' (FORMAT parquet, ROW_GROUP_SIZE 10000${match === 'name' ? '' : ', FIELD_IDS {was: 1, nested: {__duckdb_field_id: 2, deep: 3}}'})` });
    const fields = [{ ...field(match === 'name' ? 'was' : 'id', 'long'), id: 1 }, { ...field('later', 'double'), id: 9 }, { ...field('nested', { kind: 'struct', fields: [{ ...field('deep', 'long'), id: 3 }] }), id: 2 }];
    const file: DataFile = { path: 'large', bytes: 1, rows: rows - 2, modified: 0, partition: {}, constants: {}, partitionStats: () => undefined, stats: () => undefined, rowFilter: { listed: 'left-out', count: 2, key: 'k', physicalRows: rows, load: async () => new Uint32Array() } };
    const { setup, relation } = parquetScan({ name: 't', fields, match, files: [file], localPath: () => large, rows: new Map([['k', Uint32Array.from([0, 250_000])]]), withPositions: true });
    expect(relation).toContain(NO_ROWS_FILE);
    const first = fields[0]!.name;
    const asked = `SELECT count(*), sum(${first}), count(later), sum(nested.deep), count(*) FILTER (WHERE __row <> ${first}), max(__file) FROM ${relation}`;
    const sum = (rows * (rows - 1)) / 2 - 250_000;
    expect((await engine.call('run', { sql: [...setup, asked].join('; ') })).rows).toEqual([[rows - 2, sum, 0, 2 * sum, 0, 0]]);
    expect((await engine.call('run', { sql: `${setup.join('; ')}; SELECT bool_and(${first} > before) FROM (SELECT ${first}, lag(${first}, 1, -1) OVER () AS before FROM ${relation})` })).rows).toEqual([[true]]);
  });

  it('counts rows when no column of the files is asked for', async () => {
    expect(await read(parts(), 'SELECT part, count(*) FROM t WHERE n >= 50 GROUP BY part ORDER BY part LIMIT 2')).toEqual([['p0', 4], ['p1', 4]]);
  });

  it('has the columns of the table and no rows when every file was skipped', async () => {
    expect(await read(parts(), "SELECT count(*), max(name), typeof(max(i)) FROM t", { op: 'compare', column: ['n'], comparison: '>', value: 1000 })).toEqual([[0, null, 'BIGINT']]);
  });

  it('matches delimited columns by each file\'s own header, in any order and case', async () => {
    const text = table('text', { pattern: '*', options: csv, fields: fieldsOf({ id: 'bigint', name: 'varchar', extra: 'varchar' }) });
    expect(await read(text, 'SELECT id, name, extra FROM t ORDER BY id')).toEqual([[1, 'one', 'x'], [2, 'a|b', 'y'], [3, 'three', null], [4, null, null]]);
  });

  it('keeps nested JSON nested, and reads null where a key is missing', async () => {
    const json = table('json', { pattern: '*', options: fullOptions({ format: 'json' }), fields: fieldsOf({ id: 'bigint', place: 'struct(lat double)', tags: 'varchar[]' }) });
    expect(await read(json, 'SELECT id, place, tags FROM t ORDER BY id')).toEqual([[1, { lat: 1.5 }, null], [2, null, ['a']]]);
  });
});
