/** Tables on an object store that is busy, broken and cut off: commits lose nothing, and rows are read through local copies. */
import { readdirSync } from 'node:fs';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { append as appendDelta, createDeltaTable } from '../../core/delta/operations';
import { DeltaTable } from '../../core/delta/table';
import { append as appendIceberg, createIcebergTable } from '../../core/iceberg/operations';
import { FilePointer } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import { field } from '../../core/schema/types';
import { testPorts } from '../../core/testing/ports';
import { EngineRowFiles } from '../engine/row-files';
import { Inspector } from '../lake/inspect';
import { LocalFiles } from '../lake/local-files';
import { ObjectStoreStandIn } from '../standins/object-store';
import { asStorage, readTable, temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { SqlBench } from '../testing/sql-bench';
import { S3Store } from './s3-store';

let engine: LocalEngine;
let store: S3Store;
const folder = temporaryFolder();
const keys = { accessKeyId: 'k', secretAccessKey: 's', rights: ['list', 'read', 'write', 'delete'] as const };
const standIn = new ObjectStoreStandIn(path.join(folder.path, 'store'), [keys]);
const schema = { fields: [field('n', 'long', { id: 1 }), field('name', 'string', { id: 2 })] };
const WRITERS = 6;

beforeAll(async () => {
  engine = await LocalEngine.start();
  standIn.addBucket('bay');
  store = new S3Store({ endpoint: await standIn.listen(0), region: 'bay-1', bucket: 'bay', prefix: 'lake', addressing: 'path' }, () => keys);
});
afterAll(async () => {
  await standIn.close();
  folder.remove();
});

async function rowsOf(name: string, n: number) {
  return new EngineRowFiles(engine, store).write({ sql: `SELECT ${n}::BIGINT AS n, 'writer ${n}' AS name`, path: `${name}/data/${n}.parquet`, schema });
}

describe.each(['delta', 'iceberg'] as const)('a %s table on an object store', (format) => {
  it('takes the appends of writers at once, through every fault, and reads them back', async () => {
    standIn.faults = {};
    const table = format === 'delta' ? new DeltaTable(store, 'd', 't') : new IcebergTable(store, 'i', 't', new FilePointer(store, 'i'));
    if (table instanceof DeltaTable) await createDeltaTable(table, { schema: { fields: schema.fields.map(({ id: _, ...rest }) => rest) } }, testPorts(1));
    else await createIcebergTable(table, { schema }, testPorts(1));
    standIn.faults = { throttleEvery: 29, failEvery: 37, loseAnswerEvery: 31, cutEvery: 23 };
    await Promise.all(Array.from({ length: WRITERS }, async (_, n) => {
      const file = await rowsOf(format === 'delta' ? 'd' : 'i', n);
      const own = testPorts(100 + n);
      if (format === 'delta') await appendDelta(new DeltaTable(store, 'd', 't'), [file], own);
      else await appendIceberg(new IcebergTable(store, 'i', 't', new FilePointer(store, 'i')), [file], own);
    }));
    const { rows } = await readTable(engine, store, table, { sql: 'SELECT n, name FROM t ORDER BY n' });
    expect(rows).toEqual(Array.from({ length: WRITERS }, (_, n) => [n, `writer ${n}`]));
  }, 60_000);
});

it('statements change a table on an object store through its faults: vectors, change files, compaction, a checkpoint', async () => {
  standIn.faults = {};
  const bench = new SqlBench(store, engine);
  await bench.create('changed', { schema: { fields: [field('n', 'long'), field('g', 'string')] }, partitionColumns: ['g'], properties: { 'delta.enableDeletionVectors': 'true', 'delta.enableChangeDataFeed': 'true' } });
  standIn.faults = { throttleEvery: 17, failEvery: 23, loseAnswerEvery: 11 };
  await bench.run("INSERT INTO bay.changed SELECT i, CASE WHEN i % 2 = 0 THEN 'even' END FROM range(10) numbers(i)");
  await bench.run('DELETE FROM bay.changed WHERE n IN (2, 3)');
  await bench.run('MERGE INTO bay.changed t USING (VALUES (4), (20)) s(n) ON t.n = s.n WHEN MATCHED THEN UPDATE SET n = 40 WHEN NOT MATCHED THEN INSERT (n) VALUES (s.n)');
  await bench.upkeep.compact(bench.delta('changed'), bench.storage, {}, 'tester');
  await bench.upkeep.checkpoint(bench.delta('changed'), bench.storage);
  bench.open('changed');
  expect((await bench.rows('SELECT n FROM bay.changed ORDER BY n')).flat()).toEqual([0, 1, 5, 6, 7, 8, 9, 20, 40]);
  expect(await bench.rows("SELECT n, _change_type FROM changes_of('bay.changed', 3, 3) ORDER BY n, 2")).toEqual([[4, 'update_preimage'], [20, 'insert'], [40, 'update_postimage']]);
  standIn.faults = {};
  bench.remove();
}, 60_000);

describe('local copies', () => {
  it('are made once, and the longest unused go when the limit is passed', async () => {
    standIn.faults = {};
    for (let n = 0; n < 4; n++) await rowsOf('c', n);
    const files = await store.list('c');
    const bytes = files[0]!.bytes;
    const cache = path.join(folder.path, 'copies');
    const local = new LocalFiles(cache, bytes * 2.5);
    const storage = asStorage(store);
    const gets = () => standIn.counts.GET ?? 0;
    (await local.lease(storage, files.slice(0, 2))).release();
    const before = gets();
    (await local.lease(storage, files.slice(0, 2))).release();
    expect(gets()).toBe(before);
    const held = await local.lease(storage, files);
    expect(files.every((file) => held.pathOf(file).startsWith(cache))).toBe(true);
    expect(local.bytes).toBe(bytes * 4); // what is held stays, whatever the limit
    held.release();
    expect(local.bytes).toBe(bytes * 2);
    expect(new LocalFiles(cache, bytes * 2.5).bytes).toBe(bytes * 2);
    expect(readdirSync(cache, { recursive: true, encoding: 'utf8' }).filter((name) => name.endsWith('.part'))).toEqual([]);
  });

  it('are not made for a crawl, which reads footers alone', async () => {
    const copies = path.join(folder.path, 'none');
    const facts = await new Inspector(engine, new LocalFiles(copies, 1e9)).inspect(asStorage(store), 'parquet', await store.list('c'));
    expect(facts.map(({ rows, columns }) => [rows, columns.map((column) => column.name)])).toEqual([0, 1, 2, 3].map(() => [1, ['n', 'name']]));
    expect(readdirSync(copies)).toEqual([]);
  });

  it('are refused when the file is not as it was listed', async () => {
    const [file] = await store.list('c');
    await expect(new LocalFiles(path.join(folder.path, 'changed'), 1e9).lease(asStorage(store), [{ ...file!, bytes: file!.bytes + 1 }])).rejects.toMatchObject({ kind: 'bad-file', message: expect.stringContaining('changed, or cut short') as string });
  });
});
