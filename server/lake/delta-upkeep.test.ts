/** Upkeep over real files: compaction, layouts, checkpoints of both kinds, clearing of files and log, and the change feed against an independent library's. */
import { readFileSync, utimesSync } from 'node:fs';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { adoptFolder, shallowCopy } from '../../core/delta/operations';
import { DeltaTable } from '../../core/delta/table';
import type { DataFile } from '../../core/scan/plan';
import { LATEST } from '../../core/table/contract';
import { parseTypeName } from '../../core/schema/type-names';
import { field } from '../../core/schema/types';
import { randomIds, systemClock } from './lake';
import { projectRoot } from '../program-files';
import { DiskStore } from '../storage/disk-store';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { SqlBench } from '../testing/sql-bench';

const folder = temporaryFolder();
let engine: LocalEngine;
let bench: SqlBench;
beforeAll(async () => {
  engine = await LocalEngine.start();
  bench = new SqlBench(new DiskStore(folder.path), engine);
});
afterAll(() => {
  bench.remove();
  folder.remove();
});

const DAY = 86_400_000;
let made = 0;
async function table(properties: Record<string, string> = {}, partitionColumns: string[] = []): Promise<{ name: string; delta: DeltaTable }> {
  const name = `t${made++}`;
  const types = { id: 'bigint', x: 'integer', y: 'integer', site: 'varchar' };
  const delta = await bench.create(name, { schema: { fields: Object.entries(types).map(([each, type]) => field(each, parseTypeName(type))) }, properties, partitionColumns });
  return { name, delta };
}
const load = (name: string, from: number, to: number) => bench.run(`INSERT INTO bay.${name} SELECT i, i % 32, i // 32, CASE WHEN i % 2 = 0 THEN 'a' END FROM range(${from}, ${to}) numbers(i)`);
const idsOf = async (name: string, at = '') => (await bench.rows(`SELECT id FROM bay.${name}${at} ORDER BY id`)).map(([id]) => id);
const counting = (from: number, to: number) => Array.from({ length: to - from }, (_, i) => from + i);
/** Everything was written so many days ago. */
async function age(name: string, days: number): Promise<void> {
  for (const file of await bench.store.list(name)) {
    const at = new Date(file.modified - days * DAY);
    utimesSync(path.join(folder.path, file.path), at, at);
  }
}

describe('compaction', () => {
  it.each([['plain', {}], ['tracked', { 'delta.enableRowTracking': 'true' }], ['mapped', { 'delta.columnMapping.mode': 'name' }]])('puts small files of a partition together and changes no row: %s', async (_, properties) => {
    const { name, delta } = await table(properties, ['site']);
    for (const n of [0, 10, 20]) await load(name, n, n + 10);
    expect(await bench.upkeep.compact(delta, bench.storage, {}, 'tester')).toMatchObject({ version: 4, filesBefore: 6, filesAfter: 2 });
    expect(await idsOf(name)).toEqual(counting(0, 30));
    expect((await delta.history()).at(-1)).toMatchObject({ operation: 'OPTIMIZE', kind: 'upkeep', rowsAdded: 0, rowsRemoved: 0 });
    expect(await bench.upkeep.compact(delta, bench.storage, {}, 'tester')).toMatchObject({ version: null });
  });

  it('writes a file of which many rows are deleted anew, without them', async () => {
    const { name, delta } = await table({ 'delta.enableDeletionVectors': 'true' });
    await load(name, 0, 100);
    await bench.run(`DELETE FROM bay.${name} WHERE id < 50`);
    await bench.upkeep.compact(delta, bench.storage, {}, 'tester');
    const [file] = await (await delta.snapshot(LATEST)).files();
    expect([file!.rows, file!.rowFilter]).toEqual([50, undefined]);
    expect(await idsOf(name)).toEqual(counting(50, 100));
  });

  it('lays rows out so that near values of two columns lie together', async () => {
    const { name, delta } = await table();
    await load(name, 0, 1024);
    const firstQuarter = () => bench.rows(`SELECT max(x), max(y) FROM (SELECT * FROM bay.${name} LIMIT 256)`);
    expect(await firstQuarter()).toEqual([[31, 7]]);
    await bench.upkeep.compact(delta, bench.storage, { layout: { kind: 'z-order', columns: ['x', 'y'] } }, 'tester');
    expect(await firstQuarter()).toEqual([[15, 15]]);
    expect(await idsOf(name)).toEqual(counting(0, 1024));
    await bench.upkeep.compact(delta, bench.storage, { layout: { kind: 'sort', columns: ['x'] } }, 'tester');
    expect(await firstQuarter()).toEqual([[7, 31]]);
  });
});

describe('a checkpoint', () => {
  it.each([['classic', {}], ['v2', { 'delta.checkpointPolicy': 'v2' }]])('%s: is written every so many versions, and stands for the log before', async (policy, properties) => {
    const { name, delta } = await table({ ...properties, 'delta.checkpointInterval': '3', 'delta.logRetentionDuration': 'interval 1 day', 'delta.enableDeletionVectors': 'true' }, ['site']);
    await load(name, 0, 10);
    await load(name, 10, 20);
    await bench.run(`DELETE FROM bay.${name} WHERE id = 4`);
    await load(name, 20, 30);
    const log = await delta.log();
    expect([...log.checkpoints].map(([version, { kind }]) => [version, kind])).toEqual([[3, policy]]);
    await age(name, 3);
    expect(await bench.upkeep.expireLog(delta, true)).toMatchObject({ oldestVersion: 3 });
    const again = bench.open(name);
    expect(await idsOf(name)).toEqual([0, 1, 2, 3, ...counting(5, 30)]);
    expect((await again.history()).map((entry) => entry.version)).toEqual([3, 4]);
    await expect(again.snapshot({ kind: 'number', number: 1n })).rejects.toThrow('versions 3 to 4');
  });
});

describe('clearing unused files', () => {
  it('keeps what versions within the retention need, and what a running write may have made', async () => {
    const { name, delta } = await table();
    await load(name, 0, 10);
    await bench.run(`UPDATE bay.${name} SET x = 0`);
    await bench.store.put(`${name}/stray.parquet`, new Uint8Array([1]));
    expect((await bench.upkeep.planVacuum(delta)).files).toEqual([]);
    await age(name, 8);
    await load(name, 10, 20);
    const fresh = await bench.upkeep.planVacuum(bench.open(name));
    // The update happened eight days ago, so only what it replaced and the stray are unused for longer than a week.
    expect(fresh.files.map((file) => path.basename(file.path) === 'stray.parquet').sort()).toEqual([false, true]);
    expect(fresh).toMatchObject({ oldestReadable: 2, breaks: { from: 1, to: 1 }, isShort: false });
  });

  it('says which versions break, and removes nothing before that is agreed to', async () => {
    const { name, delta } = await table({ 'delta.enableDeletionVectors': 'true', 'delta.enableChangeDataFeed': 'true' });
    await load(name, 0, 10);
    await bench.run(`DELETE FROM bay.${name} WHERE id = 1`);
    await bench.run(`DELETE FROM bay.${name} WHERE id = 2`);
    await bench.run(`REPLACE ALL ROWS OF bay.${name} BY SELECT 1 AS id`);
    const before = (await bench.store.list(name)).length;
    await expect(bench.upkeep.vacuum(delta, 0, { toBreak: false })).rejects.toMatchObject({ kind: 'refused', message: expect.stringContaining('versions 1 to 3') });
    expect((await bench.store.list(name)).length).toBe(before);
    const done = await bench.upkeep.vacuum(delta, 0, { toBreak: true });
    expect(done).toMatchObject({ oldestReadable: 4, isShort: true });
    expect(done.files.map((file) => path.extname(file.path)).sort()).toEqual(['.bin', '.bin', '.parquet', '.parquet', '.parquet']);
    expect(await idsOf(name)).toEqual([1]);
  });
});

it('clearing counts a version broken that would lose its vector alone', async () => {
  const { name, delta } = await table({ 'delta.enableDeletionVectors': 'true' });
  await load(name, 0, 10);
  await bench.run(`DELETE FROM bay.${name} WHERE id = 1`);
  await bench.run(`DELETE FROM bay.${name} WHERE id = 2`);
  const plan = await bench.upkeep.planVacuum(delta, 0);
  expect([plan.files.map((file) => path.extname(file.path)), plan.breaks]).toEqual([['.bin'], { from: 2, to: 2 }]);
});

describe('changes between two versions', () => {
  const changes = (name: string, range: string) => bench.rows(`SELECT id, x, _change_type, _commit_version FROM changes_of('bay.${name}', ${range}) ORDER BY _commit_version, id, _change_type`);

  it.each([['from change files', { 'delta.enableChangeDataFeed': 'true' }], ['from change files, by vectors', { 'delta.enableChangeDataFeed': 'true', 'delta.enableDeletionVectors': 'true' }]])('tell updates before and after: %s', async (_, properties) => {
    const { name } = await table(properties, ['site']);
    await load(name, 0, 3);
    await bench.run(`UPDATE bay.${name} SET x = 9 WHERE id = 1`);
    await bench.run(`MERGE INTO bay.${name} t USING (VALUES (0), (7)) s(id) ON t.id = s.id WHEN MATCHED THEN DELETE WHEN NOT MATCHED THEN INSERT (id) VALUES (s.id)`);
    expect(await changes(name, '2')).toEqual([[1, 9, 'update_postimage', 2], [1, 1, 'update_preimage', 2], [0, 0, 'delete', 3], [7, null, 'insert', 3]]);
    expect(await changes(name, 'since => 1, until => 1')).toEqual([[0, 0, 'insert', 1], [1, 1, 'insert', 1], [2, 2, 'insert', 1]]);
  });

  it('are derived from files and vectors where no change files are kept', async () => {
    const { name } = await table({ 'delta.enableDeletionVectors': 'true' });
    await load(name, 0, 3);
    await bench.run(`DELETE FROM bay.${name} WHERE id = 1`);
    await bench.run(`DELETE FROM bay.${name} WHERE id = 2`);
    expect(await changes(name, '2')).toEqual([[1, 1, 'delete', 2], [2, 2, 'delete', 3]]);
    await expect(changes(name, '9')).rejects.toThrow('has no version 9');
  });

  it('are those that an independent library gives', async () => {
    const expected = JSON.parse(readFileSync(path.join(projectRoot, 'fixtures/delta/feed.expected.json'), 'utf8')) as { changes: { rows: unknown[][] } };
    const theirs = new SqlBench(new DiskStore(path.join(projectRoot, 'fixtures/delta')), engine);
    theirs.open('feed');
    expect(await theirs.rows("SELECT id, price, _change_type, _commit_version FROM changes_of('bay.feed', 0) ORDER BY _commit_version, id, _change_type")).toEqual(expected.changes.rows);
    theirs.remove();
  });
});

describe('a table over files that are there', () => {
  it('shares the files of a version with its copy, vectors too, and goes its own way', async () => {
    const { name, delta } = await table({ 'delta.enableDeletionVectors': 'true', 'delta.columnMapping.mode': 'name' }, ['site']);
    await load(name, 0, 10);
    await bench.run(`DELETE FROM bay.${name} WHERE id = 3`);
    const copy = bench.open(`${name}-copy`);
    await shallowCopy(delta, { kind: 'latest' }, copy, { clock: systemClock, ids: randomIds, who: 'tester' });
    expect((await bench.store.list(`${name}-copy`)).map((file) => path.extname(file.path))).toEqual(['.json']);
    await bench.run(`UPDATE bay."${name}-copy" SET x = 5 WHERE id = 4`);
    await bench.run(`DELETE FROM bay."${name}-copy" WHERE id = 5`);
    expect(await idsOf(`"${name}-copy"`)).toEqual([0, 1, 2, 4, 6, 7, 8, 9]);
    expect(await idsOf(name)).toEqual([0, 1, 2, 4, 5, 6, 7, 8, 9]);
  });

  it('adopts Parquet files in place, with partitions and row counts', async () => {
    await engine.call('run', { sql: `COPY (SELECT i AS id, 'g' || i % 2 AS g FROM range(10) numbers(i)) TO '${folder.path}/plain' (FORMAT parquet, PARTITION_BY (g))` });
    const listed = await bench.store.list('plain');
    const files = listed.map((file): DataFile => ({ ...file, partition: {}, constants: { g: /g=(g\d)/.exec(file.path)![1]! }, partitionStats: () => undefined, stats: () => undefined }));
    const adopted = bench.open('plain');
    await adoptFolder(adopted, { schema: { fields: [field('id', 'long'), field('g', 'string')] }, partitionColumns: ['g'] }, await bench.upkeep.withRows(bench.storage, files), { clock: systemClock, ids: randomIds, who: 'tester' });
    expect(await bench.rows("SELECT g, count(*), sum(id)::INTEGER FROM bay.plain GROUP BY g ORDER BY g")).toEqual([['g0', 5, 20], ['g1', 5, 25]]);
    expect(await (await adopted.snapshot(LATEST)).totals()).toMatchObject({ files: 2, rows: 10 });
    expect((await bench.store.list('plain')).filter((file) => file.path.endsWith('.parquet'))).toEqual(listed);
    await bench.run("DELETE FROM bay.plain WHERE id = 0");
    expect(await idsOf('plain')).toEqual([1, 2, 3, 4, 5, 6, 7, 8, 9]);
  });
});
