/** Tables made ones of the other format over the same files: rows, pruning and further writes, and what is refused. */
import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { planToDelta, convertToDelta, type IcebergSource } from '../../core/convert/iceberg-to-delta';
import { convertToIceberg, planToIceberg, type DeltaSource } from '../../core/convert/delta-to-iceberg';
import { addColumns as addDeltaColumns, dropColumn, latestState, renameColumn, setProperties as setDeltaProperties } from '../../core/delta/operations';
import { planVacuum } from '../../core/delta/upkeep';
import { currentSnapshot } from '../../core/iceberg/metadata';
import { addColumns, changePartitioning, changeSchema } from '../../core/iceberg/operations';
import { planOrphans } from '../../core/iceberg/expire';
import { setRef } from '../../core/iceberg/refs';
import { withRenamedColumn, withWidenedColumn, withoutColumn } from '../../core/iceberg/schema-edit';
import { field } from '../../core/schema/types';
import { parseTypeName } from '../../core/schema/type-names';
import { LATEST } from '../../core/table/contract';
import { DiskStore } from '../storage/disk-store';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { SqlBench } from '../testing/sql-bench';
import { randomIds, systemClock } from './lake';

const ports = { clock: systemClock, ids: randomIds, who: 'tester' };
const folder = temporaryFolder();
let bench: SqlBench;
let count = 0;
let name = '';
beforeAll(async () => {
  bench = new SqlBench(new DiskStore(folder.path), await LocalEngine.start());
});
beforeEach(() => {
  name = `c${count++}`;
});
afterAll(() => {
  bench.remove();
  folder.remove();
});

async function deltaSource(): Promise<DeltaSource> {
  const table = bench.delta(name);
  const snapshot = await table.snapshot(LATEST);
  const files = await snapshot.files();
  const columns = await bench.openIceberg(name).columnsOf(files);
  bench.open(name);
  return { name: table.name, state: await latestState(table), schema: snapshot.schema, files, columns };
}

async function icebergSource(): Promise<IcebergSource> {
  const table = bench.iceberg(name);
  const { path, metadata } = await table.current();
  const { snapshot, files } = table.stateOf(path, metadata, currentSnapshot(metadata));
  return { name: table.name, metadata, schema: snapshot.schema, files: await files.files(), entryOf: (file) => table.entryOf(file) };
}

const rows = () => bench.rows(`SELECT * FROM bay.${name} ORDER BY id`);
const left = (plan: { leftBehind: { what: string }[] }) => plan.leftBehind.map(({ what }) => what).join('; ');

/** The table after the conversion, read by another reader. */
async function toIceberg() {
  const source = await deltaSource();
  await convertToIceberg(source, bench.openIceberg(name), ports);
  return bench.openIceberg(name);
}

async function toDelta() {
  const source = await icebergSource();
  await convertToDelta(source, bench.open(name), ports);
  return bench.open(name);
}

const TYPES = 'id BIGINT, small TINYINT, short SMALLINT, n INTEGER, f FLOAT, d DOUBLE, price DECIMAL(12,3), t VARCHAR, b BLOB, day DATE, at TIMESTAMP, instant TIMESTAMPTZ, ok BOOLEAN, place STRUCT("x" INTEGER, "y" VARCHAR), tags VARCHAR[], m MAP(VARCHAR, BIGINT)';
const ALL = TYPES.split(/, (?=[a-z]+ [A-Z])/).map((each) => field(each.slice(0, each.indexOf(' ')), parseTypeName(each.slice(each.indexOf(' ') + 1).toLowerCase())));
const value = (id: number) => `(${id}, ${id % 100}, ${id}, ${id}, 1.5, NULL, ${id}.125, 'T${id}', 'x'::BLOB, DATE '2026-03-${String(1 + (id % 28)).padStart(2, '0')}', TIMESTAMP '2026-03-14 08:00:00.123456', TIMESTAMPTZ '2026-03-14 08:00:00.123456+00', true, {'x': ${id}, 'y': 'p'}, ['a', NULL], MAP {'k': 9007199254740993})`;

describe('a Delta table as an Iceberg table', () => {
  it('has the same rows of every type, is pruned by the same bounds, and goes on being written', async () => {
    await bench.create(name, { schema: { fields: ALL }, partitionColumns: ['day'] });
    await bench.run(`INSERT INTO bay.${name} VALUES ${[1, 2, 3].map(value).join(', ')}`);
    const before = await rows();
    const table = await toIceberg();
    expect(await rows()).toEqual(before);
    const plan = await (await table.snapshot(LATEST)).plan({ op: 'compare', column: ['place', 'x'], comparison: '=', value: 2 });
    expect(plan.files).toMatchObject({ total: 3, read: 1, skippedByBounds: 2 });
    // The Delta log is no orphan.
    const far = Date.now() + 1000 * 86_400_000;
    expect((await planOrphans(table, far, 0)).files).toEqual([]);
    expect((await (await table.snapshot(LATEST)).plan({ op: 'compare', column: ['day'], comparison: '=', value: 20_514 })).files).toMatchObject({ read: 1, skippedByPartition: 2 });
    await bench.run(`INSERT INTO bay.${name} VALUES ${value(4)}`);
    await bench.run(`UPDATE bay.${name} SET t = 'changed' WHERE id = 2`);
    expect(await bench.rows(`SELECT id, t, place.x FROM bay.${name} ORDER BY id`)).toEqual([[1, 'T1', 1], [2, 'changed', 2], [3, 'T3', 3], [4, 'T4', 4]]);
  });

  it('takes the rows that vectors delete along, as vectors of version 3', async () => {
    await bench.create(name, { schema: { fields: [field('id', 'long'), field('t', 'string')] }, properties: { 'delta.enableDeletionVectors': 'true' } });
    await bench.run(`INSERT INTO bay.${name} SELECT range, 't' FROM range(100)`);
    await bench.run(`DELETE FROM bay.${name} WHERE id % 3 = 0`);
    const before = await rows();
    const table = await toIceberg();
    expect((await table.current()).metadata['format-version']).toBe(3);
    expect(await rows()).toEqual(before);
    await bench.run(`DELETE FROM bay.${name} WHERE id = 1`);
    expect(await bench.rows(`SELECT count(*) FROM bay.${name}`)).toEqual([[before.length - 1]]);
  });

  it('finds columns that were renamed, dropped and added', async () => {
    await bench.create(name, { schema: { fields: [field('id', 'long'), field('old', 'string'), field('gone', 'int'), field('p', parseTypeName('struct(a bigint)'))] } });
    await bench.run(`INSERT INTO bay.${name} VALUES (1, 'x', 7, {'a': 1})`);
    await setDeltaProperties(bench.delta(name), { 'delta.columnMapping.mode': 'name' }, ports);
    await renameColumn(bench.delta(name), 'old', 'new', ports);
    await dropColumn(bench.delta(name), 'gone', ports);
    await addDeltaColumns(bench.delta(name), [field('gone', 'string')], ports);
    await bench.run(`INSERT INTO bay.${name} VALUES (2, 'y', {'a': 2}, 'again')`);
    const before = await rows();
    expect(before).toEqual([[1, 'x', { a: 1 }, null], [2, 'y', { a: 2 }, 'again']]);
    await toIceberg();
    expect(await rows()).toEqual(before);
  });

  it('tells what stays behind, and refuses what would be read wrong', async () => {
    await bench.create(name, { schema: { fields: [field('id', 'long')] }, properties: { 'delta.enableChangeDataFeed': 'true', owner: 'survey' } });
    const source = await deltaSource();
    const ruled = { ...source, state: { ...source.state, metadata: { ...source.state.metadata, configuration: { 'delta.constraints.positive': 'id > 0' } } } };
    expect(left(planToIceberg(ruled))).toContain('conditions positive');
    const plan = planToIceberg(source);
    expect(left(plan)).toContain('the feed of changed rows');
    expect(plan.obstacles).toEqual([]);
    expect((await (await toIceberg()).current()).metadata.properties).toMatchObject({ owner: 'survey' });
    await bench.create(`${name}m`, { schema: { fields: [field('id', 'long'), field('tags', parseTypeName('varchar[]'))] }, properties: { 'delta.columnMapping.mode': 'name' } });
    name = `${name}m`;
    await bench.run(`INSERT INTO bay.${name} VALUES (1, ['a'])`);
    await expect(convertToIceberg(await deltaSource(), bench.openIceberg(name), ports)).rejects.toMatchObject({ kind: 'unsupported', message: expect.stringContaining('column tags.element: files that have ids for other columns have none for it') });
  });
});

describe('an Iceberg table as a Delta table', () => {
  const fields = ALL.filter(({ name: column }) => !['small', 'short'].includes(column));
  const some = (id: number) => value(id).replace(/^\((\d+), \d+, \d+/, '($1');

  it('has the same rows of every type, is pruned by the same bounds, and goes on being written', async () => {
    await bench.createIceberg(name, { schema: { fields }, partitionBy: [{ source: 't', transform: 'identity' }] });
    await bench.run(`INSERT INTO bay.${name} VALUES ${[1, 2, 3].map(some).join(', ')}`);
    const before = await rows();
    const table = await toDelta();
    expect(await rows()).toEqual(before);
    // Nothing of the Iceberg table goes with what no kept version needs.
    const far = Date.now() + 1000 * 86_400_000;
    expect((await planVacuum(table, { now: far, retentionMs: 0, longestWriteMs: 0 })).files).toEqual([]);
    expect((await (await table.snapshot(LATEST)).plan({ op: 'compare', column: ['t'], comparison: '=', value: 'T2' })).files).toMatchObject({ total: 3, read: 1, skippedByPartition: 2 });
    expect((await (await table.snapshot(LATEST)).plan({ op: 'compare', column: ['place', 'x'], comparison: '=', value: 2 })).files).toMatchObject({ read: 1, skippedByBounds: 2 });
    await bench.run(`INSERT INTO bay.${name} VALUES ${some(4)}`);
    await bench.run(`UPDATE bay.${name} SET n = 99 WHERE id = 2`);
    expect(await bench.rows(`SELECT id, n, t FROM bay.${name} ORDER BY id`)).toEqual([[1, 1, 'T1'], [2, 99, 'T2'], [3, 3, 'T3'], [4, 4, 'T4']]);
  });

  it.each([2, 3] as const)('takes the rows that deletes of version %i take away along', async (formatVersion) => {
    await bench.createIceberg(name, { schema: { fields: [field('id', 'long'), field('t', 'string')] }, formatVersion, properties: { 'write.delete.mode': 'merge-on-read' } });
    await bench.run(`INSERT INTO bay.${name} SELECT range, 't' FROM range(100)`);
    await bench.run(`DELETE FROM bay.${name} WHERE id % 3 = 0`);
    const before = await rows();
    await toDelta();
    expect(await rows()).toEqual(before);
    await bench.run(`DELETE FROM bay.${name} WHERE id = 1`);
    expect(await bench.rows(`SELECT count(*) FROM bay.${name}`)).toEqual([[before.length - 1]]);
  });

  it('finds columns that were renamed, dropped, added and widened', async () => {
    const table = await bench.createIceberg(name, { schema: { fields: [field('id', 'long'), field('old', 'string'), field('gone', 'int'), field('n', 'int')] } });
    await bench.run(`INSERT INTO bay.${name} VALUES (1, 'x', 7, 5)`);
    await changeSchema(table, (metadata) => withRenamedColumn(metadata, table.name, 'old', 'new'), ports);
    await changeSchema(table, (metadata) => withoutColumn(metadata, table.name, 'gone'), ports);
    await addColumns(table, [field('gone', 'string')], ports);
    await changeSchema(table, (metadata) => withWidenedColumn(metadata, table.name, 'n', { kind: 'long' }), ports);
    await bench.run(`INSERT INTO bay.${name} VALUES (2, 'y', 9007199254740993, 'again')`);
    const before = await rows();
    await toDelta();
    expect(await rows()).toEqual(before);
    await bench.run(`INSERT INTO bay.${name} VALUES (3, 'z', 3, 'more')`);
    expect(await bench.rows(`SELECT new, n, gone FROM bay.${name} ORDER BY id`)).toEqual([['x', 5, null], ['y', '9007199254740993', 'again'], ['z', 3, 'more']]);
  });

  it.each(['name', 'plain'])('keeps the ids that its files hold on the way to Delta and back (%s)', async (how) => {
    const table = await bench.createIceberg(name, { schema: { fields: [field('id', 'long'), field('gone', 'int'), field('p', parseTypeName('struct(a integer, tags varchar[])'))] } });
    await bench.run(`INSERT INTO bay.${name} VALUES (1, 7, {'a': 1, 'tags': ['x']})`);
    await changeSchema(table, (metadata) => withoutColumn(metadata, table.name, 'gone'), ports);
    await addColumns(table, [field('later', 'int')], ports);
    if (how === 'name') await changeSchema(table, (metadata) => withRenamedColumn(metadata, table.name, 'later', 'latest'), ports);
    await bench.run(`INSERT INTO bay.${name} VALUES (2, {'a': 2, 'tags': ['y']}, 5)`);
    const before = await rows();
    await toDelta();
    expect(await rows()).toEqual(before);
    rmSync(join(folder.path, name, 'metadata'), { recursive: true });
    await toIceberg();
    expect(await rows()).toEqual(before);
    // A new column must not be found in what older files have under its id.
    await addColumns(bench.openIceberg(name), [field('newest', 'int')], ports);
    expect(await rows()).toEqual(before.map((row) => [...(row as unknown[]), null]));
  });

  it('tells what stays behind, and refuses types and partitionings that Delta has not', async () => {
    const table = await bench.createIceberg(name, { schema: { fields: [field('id', 'long'), field('at', 'timestamp')] }, partitionBy: [{ source: 'at', transform: 'day' }], properties: { owner: 'survey', 'write.format.default': 'parquet' } });
    await bench.run(`INSERT INTO bay.${name} VALUES (1, TIMESTAMP '2026-03-14 08:00:00')`);
    await setRef(table, { name: 'audit', type: 'tag' }, ports);
    const plan = planToDelta(await icebergSource());
    expect(left(plan)).toMatch(/1 snapshot; the branches and tags audit; the partitioning by day of at; the properties write.format.default/);
    await toDelta();
    expect(await rows()).toEqual([[1, '2026-03-14T08:00:00']]);
    name = `${name}u`;
    await bench.createIceberg(name, { schema: { fields: [field('id', 'uuid'), field('p', parseTypeName('struct(t time)'))] } });
    await expect(convertToDelta(await icebergSource(), bench.open(name), ports)).rejects.toMatchObject({ kind: 'unsupported', message: expect.stringMatching(/column id: Delta has no type for uuid; column p.t: Delta has no type for time/) });
  });

  it('is not partitioned where older files are partitioned by other columns', async () => {
    const table = await bench.createIceberg(name, { schema: { fields: [field('id', 'long'), field('g', 'string')] } });
    await bench.run(`INSERT INTO bay.${name} VALUES (1, 'a')`);
    await changePartitioning(table, { add: [{ source: 'g', transform: 'identity' }] }, ports);
    await bench.run(`INSERT INTO bay.${name} VALUES (2, 'b')`);
    expect(left(planToDelta(await icebergSource()))).toContain('the partitioning by g');
    const made = await toDelta();
    expect((await made.snapshot(LATEST)).partitioning).toEqual([]);
    expect(await rows()).toEqual([[1, 'a'], [2, 'b']]);
  });
});
