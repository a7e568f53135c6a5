/** Statements against Iceberg tables of every version and way of writing. */
import { mkdirSync, statSync } from 'node:fs';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { refsOf } from '../../core/iceberg/metadata';
import { adoptFolder, changePartitioning, changeSchema, setProperties, type NewTable } from '../../core/iceberg/operations';
import { withRenamedColumn } from '../../core/iceberg/schema-edit';
import { parseTransform, applyTransform } from '../../core/iceberg/transforms';
import { field, type LogicalType } from '../../core/schema/types';
import { parseTypeName } from '../../core/schema/type-names';
import { parseValue } from '../../core/values/text';
import { LATEST } from '../../core/table/contract';
import { randomIds, systemClock } from '../lake/lake';
import { DiskStore } from '../storage/disk-store';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { SqlBench } from '../testing/sql-bench';
import { transformSql } from './transform-partitions';

const ports = { clock: systemClock, ids: randomIds, who: 'tester' };
const folder = temporaryFolder();
let engine: LocalEngine;
let bench: SqlBench;
let count = 0;
let name = '';
beforeAll(async () => {
  engine = await LocalEngine.start();
  bench = new SqlBench(new DiskStore(folder.path), engine);
});
beforeEach(() => {
  name = `t${count++}`;
});
afterAll(() => {
  bench.remove();
  folder.remove();
});

const schema = { fields: [field('id', 'long'), field('g', 'string'), field('v', 'int'), field('day', 'date')] };
const MODES = ['delete', 'update', 'merge'].map((kind) => `write.${kind}.mode`);
const mode = (value: string) => Object.fromEntries(MODES.map((key) => [key, value]));
const WAYS: [string, NewTable][] = [
  ['version 2, copied', { schema }],
  ['version 2, marked', { schema, properties: mode('merge-on-read') }],
  ['version 2, marked by file, partitioned', { schema, partitionBy: [{ source: 'g', transform: 'identity' }, { source: 'id', transform: 'bucket[3]' }], properties: { ...mode('merge-on-read'), 'write.delete.granularity': 'file' } }],
  ['version 3, copied, partitioned', { schema, formatVersion: 3, partitionBy: [{ source: 'day', transform: 'month' }, { source: 'g', transform: 'truncate[1]' }], sortBy: ['v'] }],
  ['version 3, marked', { schema, formatVersion: 3, properties: mode('merge-on-read') }],
];
const row = (id: number, g: string | null, v: number | null, day: string | null) => `(${id}, ${g === null ? 'NULL' : `'${g}'`}, ${v}, ${day === null ? 'NULL' : `DATE '${day}'`})`;
const start = [row(1, 'a', 10, '2026-03-14'), row(2, 'b', 20, '1969-12-31'), row(3, '', null, null), row(4, null, 40, '2026-04-01')].join(', ');

describe.each(WAYS)('an Iceberg table of %s', (_, options) => {
  it('takes INSERT, UPDATE, DELETE, MERGE and REPLACE, and every version stays', async () => {
    await bench.createIceberg(name, options);
    const t = `bay.${name}`;
    const rows = (clause = '') => bench.rows(`SELECT id, g, v, day::VARCHAR FROM ${t} ${clause} ORDER BY id`);
    expect(await bench.count(`INSERT INTO ${t} VALUES ${start}`)).toMatchObject({ version: 1, rows_inserted: 4, rows_deleted: 0 });
    expect(await rows()).toEqual([[1, 'a', 10, '2026-03-14'], [2, 'b', 20, '1969-12-31'], [3, '', null, null], [4, null, 40, '2026-04-01']]);
    expect(await bench.count(`UPDATE ${t} SET v = coalesce(v, 0) + 1 WHERE id IN (1, 3)`)).toMatchObject({ version: 2, rows_updated: 2, rows_inserted: 0, rows_deleted: 0 });
    expect(await bench.count(`DELETE FROM ${t} WHERE g = 'b'`)).toMatchObject({ version: 3, rows_deleted: 1 });
    expect(await rows()).toEqual([[1, 'a', 11, '2026-03-14'], [3, '', 1, null], [4, null, 40, '2026-04-01']]);
    // A row that was updated before, one that was not, and a new one.
    const source = `(VALUES (1, 'c', 100), (4, 'gone', 0), (9, 'new', 90)) AS s(id, g, v)`;
    expect(await bench.count(`MERGE INTO ${t} AS t USING ${source} ON t.id = s.id WHEN MATCHED AND s.g = 'gone' THEN DELETE WHEN MATCHED THEN UPDATE SET g = s.g, v = s.v WHEN NOT MATCHED THEN INSERT (id, g, v) VALUES (s.id, s.g, s.v)`))
      .toMatchObject({ version: 4, rows_inserted: 1, rows_updated: 1, rows_deleted: 1 });
    expect(await rows()).toEqual([[1, 'c', 100, '2026-03-14'], [3, '', 1, null], [9, 'new', 90, null]]);
    expect(await bench.count(`REPLACE ROWS OF ${t} WHERE v >= 90 BY SELECT 5 AS id, 'e' AS g, 95 AS v`)).toMatchObject({ version: 5, rows_inserted: 1, rows_deleted: 2 });
    expect(await rows()).toEqual([[3, '', 1, null], [5, 'e', 95, null]]);
    expect((await rows('FOR SYSTEM_VERSION AS OF 2')).map(([id, , v]) => [id, v])).toEqual([[1, 11], [2, 20], [3, 1], [4, 40]]);
    expect(await bench.count(`REPLACE ALL ROWS OF ${t} BY SELECT 7 AS id`)).toMatchObject({ version: 6, rows_inserted: 1, rows_deleted: 2 });
    expect(await rows()).toEqual([[7, null, null, null]]);
    // A reader that has seen nothing yet.
    bench.openIceberg(name);
    expect((await rows('FOR SYSTEM_VERSION AS OF 4')).map(([id]) => id)).toEqual([1, 3, 9]);
    const totals = await (await bench.iceberg(name).snapshot({ kind: 'number', number: 4n })).totals();
    expect(totals.rows).toBe(3);
  });

  it('says nothing was done where no row is concerned, and makes no version', async () => {
    await bench.createIceberg(name, options);
    await bench.run(`INSERT INTO bay.${name} VALUES ${start}`);
    expect(await bench.count(`DELETE FROM bay.${name} WHERE id = 77`)).toMatchObject({ version: null, rows_deleted: 0 });
    expect((await bench.iceberg(name).snapshot(LATEST)).version).toBe(1);
  });

  it('loses nothing when statements run at once', async () => {
    await bench.createIceberg(name, options);
    await bench.run(`INSERT INTO bay.${name} SELECT i, 'g' || (i % 2), i, NULL FROM range(20) numbers(i)`);
    await Promise.all([
      ...[100, 101, 102].map((id) => bench.run(`INSERT INTO bay.${name} VALUES (${id}, 'x', 1, NULL)`)),
      bench.run(`UPDATE bay.${name} SET v = v + 1000 WHERE id < 5`), bench.run(`DELETE FROM bay.${name} WHERE id >= 15 AND id < 100`),
    ]);
    const found = await bench.rows(`SELECT id, v FROM bay.${name} ORDER BY id`);
    expect(found).toEqual([...Array.from({ length: 15 }, (_unused, id) => [id, id < 5 ? id + 1000 : id]), [100, 1], [101, 1], [102, 1]]);
  });
});

describe('an Iceberg table', () => {
  it('keeps row ids through every change of version 3, and gives new rows new ones', async () => {
    for (const way of ['copy-on-write', 'merge-on-read']) {
      const own = `${name}${way.slice(0, 4)}`;
      const table = await bench.createIceberg(own, { schema, formatVersion: 3, properties: mode(way) });
      await bench.run(`INSERT INTO bay.${own} VALUES ${start}`);
      await bench.run(`UPDATE bay.${own} SET v = 5 WHERE id = 2`);
      await bench.run(`DELETE FROM bay.${own} WHERE id = 1`);
      await bench.run(`INSERT INTO bay.${own} VALUES (8, 'h', 8, NULL)`);
      const { metadata } = await table.current();
      // Four rows at first; the rest depends on how many rows were written anew.
      expect(metadata['next-row-id']).toBeGreaterThanOrEqual(6);
      const snapshot = await table.snapshot(LATEST);
      const plan = await snapshot.plan({ op: 'true' });
      const ids: [unknown, number, number][] = [];
      for (const { file } of plan.considered) {
        const { file: entry, sequenceNumber } = table.entryOf(file);
        const gone = new Set(await file.rowFilter?.load());
        const { rows, columns } = await engine.call('run', { sql: `SELECT * FROM read_parquet('${folder.path}/${file.path}', file_row_number = true)` });
        const at = (each: string) => columns.indexOf(each);
        for (const values of rows) {
          const position = Number(values[at('file_row_number')]);
          if (gone.has(position)) continue;
          const [id, sequence] = [at('_row_id'), at('_last_updated_sequence_number')].map((index) => (index < 0 ? null : values[index]));
          ids.push([values[at('id')], Number(id ?? entry.firstRowId! + position), Number(sequence ?? sequenceNumber)]);
        }
      }
      ids.sort((a, b) => Number(a[0]) - Number(b[0]));
      expect(ids.slice(0, 3), way).toEqual([[2, 1, 2], [3, 2, 1], [4, 3, 1]]);
      expect(ids[3]![1], way).toBeGreaterThan(3);
      expect(ids[3]![2], way).toBe(4);
    }
  });

  it('writes to a branch and leaves the others; the branch is read by its name', async () => {
    const table = await bench.createIceberg(name, { schema });
    const t = `bay.${name}`;
    await bench.run(`INSERT INTO ${t} VALUES ${start}`);
    const { commitMetadata } = await import('../../core/iceberg/commit');
    const { metadata } = await table.current();
    await commitMetadata(table, async () => [{ action: 'set-snapshot-ref', 'ref-name': 'trial', type: 'branch', 'snapshot-id': refsOf(metadata).main!['snapshot-id'], 'max-ref-age-ms': 5000 }], ports);
    await bench.run(`DELETE FROM ${t} BRANCH 'trial' WHERE id > 1`);
    await bench.run(`INSERT INTO ${t} BRANCH 'trial' (id) VALUES (50)`);
    await bench.run(`MERGE INTO ${t} BRANCH 'trial' AS b USING (SELECT 50 AS id) AS s ON b.id = s.id WHEN MATCHED THEN UPDATE SET v = 500`);
    expect(await bench.rows(`SELECT id, v FROM ${t} FOR SYSTEM_VERSION AS OF 'trial' ORDER BY id`)).toEqual([[1, 10], [50, 500]]);
    expect(await bench.rows(`SELECT count(*) FROM ${t}`)).toEqual([[4]]);
    expect(refsOf((await table.current()).metadata).trial).toMatchObject({ 'max-ref-age-ms': 5000 });
    await expect(bench.run(`INSERT INTO ${t} BRANCH 'nowhere' (id) VALUES (1)`)).rejects.toMatchObject({ kind: 'not-found', message: expect.stringContaining('no branch "nowhere"') });
    await expect(bench.rows(`SELECT * FROM ${t} FOR SYSTEM_VERSION AS OF 'nowhere'`)).rejects.toMatchObject({ kind: 'not-found', details: { hint: 'It has main, trial.' } });
  });

  it('changes rows of files of several partitionings', async () => {
    const table = await bench.createIceberg(name, { schema, partitionBy: [{ source: 'g', transform: 'identity' }] });
    const t = `bay.${name}`;
    await bench.run(`INSERT INTO ${t} VALUES ${start}`);
    await changePartitioning(table, { remove: ['g'], add: [{ source: 'day', transform: 'year' }, { source: 'id', transform: 'bucket[2]' }] }, ports);
    await bench.run(`INSERT INTO ${t} VALUES ${row(11, 'a', 11, '2026-05-05')}, ${row(12, 'b', 12, '2025-01-01')}`);
    await setProperties(table, mode('merge-on-read'), ports);
    await bench.run(`UPDATE ${t} SET v = v + 1 WHERE g = 'a'`);
    expect(await bench.rows(`SELECT id, v FROM ${t} WHERE g = 'a' ORDER BY id`)).toEqual([[1, 11], [11, 12]]);
    const plan = await (await table.snapshot(LATEST)).plan({ op: 'compare', column: ['day'], comparison: '=', value: 20454 });
    expect(plan.files.skippedByPartition).toBeGreaterThan(0);
    await expect(bench.run(`REPLACE PARTITIONS OF ${t} BY SELECT * FROM ${t}`)).rejects.toMatchObject({ message: expect.stringContaining('files of an earlier partitioning') });
  });

  it('replaces the partitions that come in, by the transforms', async () => {
    await bench.createIceberg(name, { schema, partitionBy: [{ source: 'day', transform: 'month' }] });
    const t = `bay.${name}`;
    await bench.run(`INSERT INTO ${t} VALUES ${start}`);
    expect(await bench.count(`REPLACE PARTITIONS OF ${t} BY SELECT 20 AS id, DATE '2026-03-31' AS day`)).toMatchObject({ rows_inserted: 1, rows_deleted: 1 });
    expect(await bench.rows(`SELECT id FROM ${t} ORDER BY id`)).toEqual([[2], [3], [4], [20]]);
  });

  it('is made of a folder of Parquet files as they are, partition columns from their folders, and then written to', async () => {
    for (const [g, from] of [['a', 1], ['b', 10]] as const) {
      mkdirSync(`${folder.path}/${name}/g=${g}`, { recursive: true });
      await engine.call('run', { sql: `COPY (SELECT i AS id, {'x': i, 'y': 'n' || i} AS place FROM range(${from}, ${from + 3}) numbers(i)) TO '${folder.path}/${name}/g=${g}/f.parquet' (FORMAT parquet)` });
    }
    const file = (g: string) => ({ path: `${name}/g=${g}/f.parquet`, bytes: statSync(`${folder.path}/${name}/g=${g}/f.parquet`).size, rows: 3, partition: { g }, constants: { g }, partitionStats: () => undefined, stats: () => undefined });
    const table = bench.openIceberg(name);
    await adoptFolder(table, { schema: { fields: [field('id', 'long'), field('place', parseTypeName('struct(x bigint, y varchar)')), field('g', 'string')] }, partitionColumns: ['g'] }, [file('a'), file('b')], ports);
    const t = `bay.${name}`;
    expect(await bench.rows(`SELECT id, place.y, g FROM ${t} WHERE g = 'b' ORDER BY id`)).toEqual([[10, 'n10', 'b'], [11, 'n11', 'b'], [12, 'n12', 'b']]);
    expect((await (await table.snapshot(LATEST)).plan({ op: 'compare', column: ['g'], comparison: '=', value: 'b' })).files).toMatchObject({ read: 1, skippedByPartition: 1 });
    await bench.run(`UPDATE ${t} SET place = {'x': 0, 'y': 'new'} WHERE id = 1`);
    await changeSchema(table, (metadata) => withRenamedColumn(metadata, t, 'id', 'number'), ports);
    expect(await bench.rows(`SELECT number, place.y, g FROM ${t} WHERE number < 3 OR g = 'b' AND number = 10 ORDER BY 1`)).toEqual([[1, 'new', 'a'], [2, 'n2', 'a'], [10, 'n10', 'b']]);
  });

  it('holds new rows to required columns and gives defaults', async () => {
    await bench.createIceberg(name, { formatVersion: 3, schema: { fields: [field('id', 'long', { required: true }), field('g', 'string', { writeDefault: 'x', initialDefault: 'old' })] } });
    await bench.run(`INSERT INTO bay.${name} (id) VALUES (1)`);
    expect(await bench.rows(`SELECT * FROM bay.${name}`)).toEqual([[1, 'x']]);
    await expect(bench.run(`INSERT INTO bay.${name} (g) VALUES ('y')`)).rejects.toMatchObject({ kind: 'refused', message: expect.stringContaining('id is required') });
  });

  it('sees a change between reading and writing that it must not pass over', async () => {
    const table = await bench.createIceberg(name, { schema });
    await bench.run(`INSERT INTO bay.${name} VALUES ${start}`);
    const { path, metadata } = await table.current();
    const head = metadata.snapshots!.at(-1)!;
    const [file] = await table.stateOf(path, metadata, head).files.files();
    await bench.run(`UPDATE bay.${name} SET v = 1 WHERE id = 1`);
    const { commitSnapshot } = await import('../../core/iceberg/snapshot-commit');
    const entry = table.entryOf(file!);
    await expect(commitSnapshot(table, { removed: [{ file: entry.file, specId: 0 }], read: { snapshotId: head['snapshot-id'], files: new Set([entry.file.path]) } }, ports)).rejects.toMatchObject({ kind: 'conflict' });
    await expect(commitSnapshot(table, { added: [], read: { snapshotId: head['snapshot-id'], files: new Set(), rows: { op: 'compare', column: ['id'], comparison: '=', value: 1n } } }, ports)).rejects.toMatchObject({ kind: 'conflict' });
    // Of rows that nobody touched it does not matter.
    await commitSnapshot(table, { added: [], read: { snapshotId: head['snapshot-id'], files: new Set(), rows: { op: 'compare', column: ['id'], comparison: '=', value: 99n } } }, ports);
  });
});

/** The same rows to the same partitions, whether the engine or the core works them out. */
describe('a partition transform in SQL', () => {
  const times = ['1969-12-31T23:59:59.999999', '1970-01-01T00:00:00', '2026-03-14T06:00:00.000001', '0001-01-01T00:00:00', '1600-02-29T12:00:00'];
  const CASES: [string, LogicalType, string[]][] = [
    ['long', { kind: 'long' }, ['0', '-1', '34', '9223372036854775807', '-9223372036854775800']], ['int', { kind: 'int' }, ['0', '-1', '-11', '2147483647']],
    ['date', { kind: 'date' }, times.map((each) => each.slice(0, 10))], ['timestamp', { kind: 'timestamp' }, times], ['timestamptz', { kind: 'timestamptz' }, times.map((each) => `${each}Z`)], ['timestamp_ns', { kind: 'timestamp_ns' }, ['1969-12-31T23:59:59.999999999', '2026-03-14T06:00:00.000000001', '1969-12-31T23:00:00']],
    ['time', { kind: 'time' }, ['00:00:00', '22:31:08.000001']], ['string', { kind: 'string' }, ['', 'iceberg', 'größe 😀', 'a b']], ['uuid', { kind: 'uuid' }, ['f79c3e09-677c-4bbd-a479-3f349cb785e7']],
    ['decimal', parseTypeName('decimal(9,2)'), ['14.20', '-0.05', '0.00', '-1234567.89']], ['decimal 38', parseTypeName('decimal(38,10)'), ['1234567890123456789012345678.0123456789', '-0.0000000001']],
  ];
  const applies = (kind: string, type: LogicalType['kind']) => (kind.startsWith('bucket') ? true : kind.startsWith('truncate') ? ['int', 'long', 'decimal', 'string'].includes(type) : ['date', 'timestamp', 'timestamptz', 'timestamp_ns'].includes(type) && (kind !== 'hour' || type !== 'date'));
  it.each(CASES)('%s', async (_, type, texts) => {
    for (const text of ['bucket[16]', 'truncate[3]', 'year', 'month', 'day', 'hour'].filter((each) => applies(each, type.kind))) {
      const transform = parseTransform(text);
      const name = type.kind === 'decimal' ? `DECIMAL(${type.precision}, ${type.scale})` : { long: 'BIGINT', int: 'INTEGER', string: 'VARCHAR' }[type.kind as string] ?? type.kind.toUpperCase();
      const { rows } = await engine.call('run', { sql: `SELECT (${transformSql(transform, type, 'x')})::VARCHAR FROM (SELECT unnest([${texts.map((each) => `'${each}'::${name}`).join(', ')}, NULL]) AS x)` });
      const expected = [...texts.map((each) => applyTransform(transform, type, parseValue(type, each))), null];
      const shown = expected.map((value) => (value === null ? null : text === 'day' ? new Date((value as number) * 86_400_000).toISOString().slice(0, 10).replace(/^0*(\d{4})/, '$1') : String(value)));
      expect(rows.flat(), `${text} of ${type.kind}`).toEqual(shown);
    }
  });
});
