/** Statements that change rows, as somebody types them, over Delta tables with and without deletion vectors. */
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { allFiles } from '../../core/delta/live-files';
import { parseTypeName } from '../../core/schema/type-names';
import { field, type TableSchema } from '../../core/schema/types';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { SqlBench } from '../testing/sql-bench';
import { DiskStore } from '../storage/disk-store';

const folder = temporaryFolder();
let bench: SqlBench;
beforeAll(async () => {
  bench = new SqlBench(new DiskStore(folder.path), await LocalEngine.start());
});
afterAll(() => {
  bench.remove();
  folder.remove();
});

const columns = (types: Record<string, string>): TableSchema => ({ fields: Object.entries(types).map(([name, type]) => field(name, parseTypeName(type))) });
const PRICES = columns({ id: 'bigint', price: 'integer', site: 'varchar' });
const MODES: [string, Record<string, string>][] = [
  ['by copying', {}],
  ['by vectors', { 'delta.enableDeletionVectors': 'true' }],
  ['with a change feed', { 'delta.enableChangeDataFeed': 'true', 'delta.enableDeletionVectors': 'true' }],
  ['mapping columns by name', { 'delta.columnMapping.mode': 'name' }],
  ['mapping columns by id, by vectors', { 'delta.columnMapping.mode': 'id', 'delta.enableDeletionVectors': 'true' }],
  ['tracking rows', { 'delta.enableRowTracking': 'true' }],
];
let made = 0;
async function prices(properties: Record<string, string> = {}, partitionColumns: string[] = []): Promise<string> {
  const name = `prices${made++}`;
  await bench.create(name, { schema: PRICES, properties, partitionColumns });
  await bench.run(`INSERT INTO bay.${name} VALUES (1, 3399, 'Holm'), (2, 10, 'Holm'), (3, 20, NULL)`);
  await bench.run(`INSERT INTO bay.${name} (site, id) VALUES ('Quay', 4)`);
  return name;
}
const rows = (name: string, at = '') => bench.rows(`SELECT * FROM bay.${name}${at} ORDER BY id`);
const START = [[1, 3399, 'Holm'], [2, 10, 'Holm'], [3, 20, null], [4, null, 'Quay']];

describe.each(MODES)('rows are changed %s', (_, properties) => {
  it('updated: the price of 3399 lowered by a tenth gives 3059, and the version before keeps 3399', async () => {
    const name = await prices(properties);
    expect(await bench.count(`UPDATE bay.${name} SET price = price * 9 // 10 WHERE id = 1`)).toMatchObject({ version: 3, rows_updated: 1, rows_deleted: 0, rows_inserted: 0 });
    expect(await rows(name)).toEqual([[1, 3059, 'Holm'], ...START.slice(1)]);
    expect(await rows(name, ' FOR SYSTEM_VERSION AS OF 2')).toEqual(START);
  });

  it('deleted, and deleted again in the same file', async () => {
    const name = await prices(properties, ['site']);
    expect(await bench.count(`DELETE FROM bay.${name} AS p WHERE p.id = 1`)).toMatchObject({ rows_deleted: 1 });
    expect(await bench.count(`DELETE FROM bay.${name} WHERE site = 'Holm' OR site IS NULL`)).toMatchObject({ rows_deleted: 2 });
    expect(await rows(name)).toEqual([START[3]]);
    expect(await bench.count(`DELETE FROM bay.${name} WHERE id = 99`)).toMatchObject({ version: null, rows_deleted: 0 });
  });

  it('merged: matched, not matched, not matched by the source, with conditions', async () => {
    const name = await prices(properties);
    const done = await bench.count(`
      MERGE INTO bay.${name} AS t USING (VALUES (1, 5, 'a'), (2, -1, 'b'), (9, 90, 'c'), (10, -5, 'd')) AS s(id, price, site) ON t.id = s.id
      WHEN MATCHED AND s.price < 0 THEN DELETE
      WHEN MATCHED THEN UPDATE SET price = t.price + s.price
      WHEN NOT MATCHED AND s.price > 0 THEN INSERT *
      WHEN NOT MATCHED BY SOURCE AND t.site IS NULL THEN UPDATE SET site = 'none'`);
    expect(done).toMatchObject({ rows_inserted: 1, rows_updated: 2, rows_deleted: 1 });
    expect(await rows(name)).toEqual([[1, 3404, 'Holm'], [3, 20, 'none'], [4, null, 'Quay'], [9, 90, 'c']]);
  });

  it('replaced by a condition, by partition, and all', async () => {
    const name = await prices(properties, ['site']);
    await bench.run(`REPLACE ROWS OF bay.${name} WHERE id <= 2 BY SELECT 2 AS id, 11 AS price, 'Holm' AS site`);
    expect(await rows(name)).toEqual([[2, 11, 'Holm'], ...START.slice(2)]);
    await bench.run(`REPLACE PARTITIONS OF bay.${name} BY VALUES (5, 50, NULL), (6, 60, 'Quay')`.replace('VALUES', 'SELECT * FROM (VALUES') + ') AS v(id, price, site)');
    expect(await rows(name)).toEqual([[2, 11, 'Holm'], [5, 50, null], [6, 60, 'Quay']]);
    expect(await bench.count(`REPLACE ALL ROWS OF bay.${name} BY SELECT id + 1 AS id, price FROM bay.${name} WHERE id < 6`)).toMatchObject({ rows_inserted: 2, rows_deleted: 3 });
    expect(await rows(name)).toEqual([[3, 11, null], [6, 50, null]]);
  });
});

describe('a change', () => {
  it('says in history what was done, with predicate and metrics, newest last', async () => {
    const name = await prices();
    await bench.run(`UPDATE bay.${name} SET price = 0 WHERE site = 'Holm'`);
    const history = await bench.delta(name).history();
    expect(history.map(({ version, operation, who, rowsAdded, rowsRemoved }) => [version, operation, who, rowsAdded, rowsRemoved])).toEqual([
      [0, 'CREATE TABLE', 'tester', 0, 0], [1, 'WRITE', 'tester', 3, 0], [2, 'WRITE', 'tester', 1, 0], [3, 'UPDATE', 'tester', 2, 2],
    ]);
    expect(history.at(-1)!.details).toMatchObject({ predicate: `["site = 'Holm'"]`, numUpdatedRows: '2', numCopiedRows: '1', numAddedFiles: '1', numRemovedFiles: '1' });
    expect(bench.receipts.at(-1)).toMatchObject({ kind: 'write', outcome: 'done', written: { table: `bay.${name}`, version: 3, rowsUpdated: 2 } });
  });

  it('of a table just defined finds a log and no data file', async () => {
    await (await bench.create('empty', { schema: PRICES })).settled();
    expect((await bench.store.list('empty')).map((file) => file.path)).toEqual(['empty/_delta_log/00000000000000000000.crc', 'empty/_delta_log/00000000000000000000.json']);
    expect(await bench.count('DELETE FROM bay.empty')).toMatchObject({ version: null });
  });

  it('reads only the files that its condition leaves', async () => {
    const name = await prices({}, ['site']);
    const before = await bench.delta(name).snapshot({ kind: 'latest' });
    await bench.run(`UPDATE bay.${name} SET price = 1 WHERE site = 'Quay'`);
    const after = new Set((await (await bench.delta(name).snapshot({ kind: 'latest' })).files()).map((file) => file.path));
    expect((await before.files()).filter((file) => !after.has(file.path)).map((file) => file.partition.site)).toEqual(['Quay']);
  });

  it('is refused when one row matches two rows of the source, and nothing is written', async () => {
    const name = await prices();
    await expect(bench.run(`MERGE INTO bay.${name} t USING (VALUES (1, 1), (1, 2)) s(id, price) ON t.id = s.id WHEN MATCHED THEN UPDATE SET price = s.price`)).rejects.toMatchObject({ kind: 'refused', message: expect.stringContaining('One row of') });
    expect(await rows(name)).toEqual(START);
    // Which of them matches does not matter where the row goes anyway.
    expect(await bench.count(`MERGE INTO bay.${name} t USING (VALUES (1), (1)) s(id) ON t.id = s.id WHEN MATCHED THEN DELETE`)).toMatchObject({ rows_deleted: 1 });
  });

  it.each([
    ['UPDATE bay.T SET nothing = 1', 'has no column "nothing"', undefined],
    ['UPDATE bay.T SET price = nothing', '"nothing"', 27],
    ['DELETE FROM bay.T WHERE read_text(site) = 1', 'read_text', undefined],
    ['DELETE FROM bay.nowhere', 'There is no table', 12],
    ['INSERT INTO bay.T VALUES (1, 2)', 'to get 3 columns (id, price, site), but 2 come in', undefined],
    ["INSERT INTO bay.T VALUES (1, 'many', 'x')", 'many', undefined],
    ['INSERT INTO bay.T BY NAME SELECT 1 AS id, 2 AS cost', 'has no column "cost"', undefined],
    ['REPLACE ROWS OF bay.T WHERE id > 2 BY SELECT 1 AS id', 'must meet the condition', undefined],
    ['UPDATE bay.T SET price = 1; DROP TABLE x', 'one at a time', 32],
    // Each is one query where it is checked; put together otherwise it would be something else.
    ["UPDATE bay.T SET site = U&'\\' UESCAPE '!' || ', price = 1 WHERE id = 1 OR site = '", '', undefined],
    ['DELETE FROM bay.T WHERE true) AND (true', 'too many', undefined],
    ['MERGE INTO bay.T t USING (VALUES (1)) s(id) WHERE true ON true WHEN MATCHED THEN DELETE', '', undefined],
  ])('%s is refused with words, and nothing is written', async (sql, words, position) => {
    const name = await prices();
    await expect(bench.run(sql.replaceAll('T', (letter, at: number) => (sql[at - 1] === '.' ? name : letter)))).rejects.toMatchObject({ message: expect.stringContaining(words), ...(position === undefined ? {} : { details: expect.objectContaining({}) }) });
    expect(await rows(name)).toEqual(START);
  });

  it('keeps required columns, constraints, generated and default columns', async () => {
    const metadata = {
      id: 'rules', format: { provider: 'parquet', options: {} }, partitionColumns: [], configuration: { 'delta.constraints.positive': '`id` > 0' },
      schemaString: JSON.stringify({ type: 'struct', fields: [
        { name: 'id', type: 'long', nullable: false, metadata: {} },
        { name: 'seen', type: 'timestamp', nullable: true, metadata: {} },
        { name: 'month', type: 'integer', nullable: true, metadata: { 'delta.generationExpression': 'month(seen)' } },
        { name: 'kind', type: 'string', nullable: true, metadata: { CURRENT_DEFAULT: "'plain'" } },
      ] }),
    };
    const protocol = { minReaderVersion: 1, minWriterVersion: 7, writerFeatures: ['checkConstraints', 'generatedColumns', 'allowColumnDefaults'] };
    const table = bench.open('rules');
    await bench.store.put('rules/_delta_log/00000000000000000000.json', new TextEncoder().encode(`${JSON.stringify({ protocol })}\n${JSON.stringify({ metaData: metadata })}\n`));
    await bench.run("INSERT INTO bay.rules (id, seen) VALUES (1, TIMESTAMPTZ '2026-03-14 00:00:00+00')");
    await bench.run("UPDATE bay.rules SET seen = TIMESTAMPTZ '2026-05-01 00:00:00+00'");
    expect(await bench.rows('SELECT id, month, kind FROM bay.rules')).toEqual([[1, 5, 'plain']]);
    await expect(bench.run('INSERT INTO bay.rules (id) VALUES (0)')).rejects.toMatchObject({ kind: 'refused', message: expect.stringContaining('positive ("id" > 0)') });
    await expect(bench.run("INSERT INTO bay.rules (kind) VALUES ('x')")).rejects.toThrow('id is required');
    await expect(bench.run('UPDATE bay.rules SET month = 7')).rejects.toThrow('month must be month(seen)');
    expect((await table.snapshot({ kind: 'latest' })).version).toBe(2);
  });

  it('keeps ids and versions of rows that are moved, and gives new ones to those that come in', async () => {
    const name = await prices({ 'delta.enableRowTracking': 'true' });
    await bench.run(`UPDATE bay.${name} SET price = 0 WHERE id = 2`);
    await bench.run(`INSERT INTO bay.${name} VALUES (8, 8, 'x')`);
    const log = await bench.delta(name).log();
    const state = await bench.delta(name).state(log.latest, log);
    expect([...(await allFiles(state.files)).values()].map((add) => [Number(add.baseRowId), Number(add.defaultRowCommitVersion)]).sort()).toEqual([[3, 2], [4, 3], [7, 4]]);
    expect(JSON.parse(state.domains.get('delta.rowTracking')!.configuration)).toEqual({ rowIdHighWaterMark: 7 });
  });
});

describe('a table of many partitions', () => {
  it('of which every file has lost rows by its vector is read, changed, and told as changes', async () => {
    await bench.create('many', { schema: columns({ id: 'bigint', k: 'integer', v: 'integer' }), partitionColumns: ['k'], properties: { 'delta.enableDeletionVectors': 'true' } });
    await bench.run('INSERT INTO bay.many SELECT i, i % 70, 0 FROM range(700) numbers(i)');
    expect(await bench.count('DELETE FROM bay.many WHERE id BETWEEN 70 AND 139')).toMatchObject({ rows_deleted: 70, files_removed: 0 });
    expect(await bench.rows('SELECT count(*), sum(id)::INTEGER, count(DISTINCT k) FROM bay.many')).toEqual([[630, (699 * 700) / 2 - (70 + 139) * 35, 70]]);
    expect(await bench.rows("SELECT _change_type, count(*), min(id), max(id) FROM changes_of('bay.many', 2) GROUP BY 1")).toEqual([['delete', 70, 70, 139]]);
    expect(await bench.count('UPDATE bay.many SET v = 1 WHERE id < 70')).toMatchObject({ rows_updated: 70 });
    expect(await bench.rows('SELECT v, count(*) FROM bay.many GROUP BY v ORDER BY v')).toEqual([[0, 560], [1, 70]]);
    expect(await bench.rows('SELECT count(*) FROM bay.many FOR SYSTEM_VERSION AS OF 1')).toEqual([[700]]);
  });

  it('has no partitions to replace where it has none, and takes no changes where it only grows', async () => {
    const name = await prices({ 'delta.appendOnly': 'true' });
    await expect(bench.run(`UPDATE bay.${name} SET price = 0`)).rejects.toMatchObject({ kind: 'refused', message: expect.stringContaining('append-only') });
    const plain = await prices();
    await expect(bench.run(`REPLACE PARTITIONS OF bay.${plain} BY SELECT 1 AS id`)).rejects.toThrow('is not partitioned');
  });
});

it('loses no statement of several at once, and counts each once', async () => {
  const name = await prices();
  const done = await Promise.all([1, 2, 3].map((id) => bench.run(`UPDATE bay.${name} SET price = ${id * 1000} WHERE id = ${id}`)));
  expect(done.map(({ written }) => written.version).sort()).toEqual([3, 4, 5]);
  expect((await rows(name)).map(([, price]) => price)).toEqual([1000, 2000, 3000, null]);
});
