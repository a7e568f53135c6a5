/**
 * Standard analytic queries over tables of every format, answered as the raw engine answers over the same rows; and what
 * becomes of a query that cannot be planned. Texts: TPC Benchmark H specification, section 2.4. The 99 of TPC-DS, and rows
 * by the specifications' own rules, are run by `npm run interop`.
 */
import { readFileSync } from 'node:fs';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { parseTypeName } from '../../core/schema/type-names';
import { field } from '../../core/schema/types';
import { quoteText } from '../../core/sql/tokens';
import { EngineError } from '../engine/failures';
import type { CallName, Calls } from '../engine/messages';
import { projectRoot } from '../program-files';
import { DiskStore } from '../storage/disk-store';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { sameRows } from '../testing/same-rows';
import { SqlBench } from '../testing/sql-bench';
import { makeRows, TPCH_ROWS } from '../testing/standard-rows';
import { withNamespace } from '../testing/with-namespace';

const folder = temporaryFolder();
let engine: LocalEngine;
let bench: SqlBench;
beforeAll(async () => {
  engine = await LocalEngine.start();
  bench = new SqlBench(new DiskStore(folder.path), engine);
  for (const table of Object.keys(TPCH_ROWS)) {
    await makeRows(engine, table, path.join(folder.path, `parquet_${table}`));
    const { definition } = await bench.openFolder(`parquet_${table}`);
    await bench.create(`delta_${table}`, { schema: { fields: definition.fields } });
    await bench.createIceberg(`iceberg_${table}`, { schema: { fields: definition.fields } });
    for (const format of ['delta', 'iceberg']) await bench.run(`INSERT INTO bay.${format}_${table} SELECT * FROM bay.parquet_${table}`);
  }
}, 120_000);
afterAll(() => {
  bench.remove();
  folder.remove();
});

const QUERIES = readFileSync(path.join(projectRoot, 'fixtures/standard/tpch.sql'), 'utf8').split(/^-- Query \d+\n/m).slice(1).map((sql) => sql.trim().replace(/;$/, ''));
const raw = async (sql: string) => {
  const setup = Object.keys(TPCH_ROWS).map((table) => `CREATE OR REPLACE TEMP VIEW ${table} AS SELECT * FROM read_parquet(${quoteText(path.join(folder.path, `parquet_${table}`, 'part-0.parquet'))})`);
  return (await engine.call('query', { id: sql, setup, sql, allow: { folders: [folder.path] }, limits: { rows: 100_000, resultBytes: 1e8, millis: 60_000 } })).rows;
};

describe.each(['parquet', 'delta', 'iceberg'])('the 22 queries of TPC-H over %s tables', (format) => {
  it.each(QUERIES.map((sql, index) => [index + 1, sql]))('query %i is answered as the raw engine answers it', async (_number, sql) => {
    const rows = await bench.rows(withNamespace(sql as string, Object.keys(TPCH_ROWS), (table) => `bay.${format}_${table}`));
    expect(sameRows(rows, await raw(sql as string))).toBeUndefined();
    expect(bench.receipts.at(-1)!.tables.filter((table) => table.unplanned !== undefined)).toEqual([]);
  });
});

describe('a query that cannot be planned', () => {
  /** An engine whose planner is at a loss. */
  const without = (isLost: (optimize: boolean) => boolean) => ({
    parse: (sql: string) => engine.parse(sql),
    call: <Name extends CallName>(call: Name, ask: Calls[Name]['ask']): Promise<Calls[Name]['answer']> => {
      if (call === 'plan' && isLost((ask as Calls['plan']['ask']).optimize !== false)) throw new EngineError('INTERNAL', 'Failed to bind column reference');
      return engine.call(call, ask);
    },
  });
  const sql = 'SELECT count(*) FROM bay.parquet_orders WHERE o_orderkey < 10';
  const answerOf = async (isLost: (optimize: boolean) => boolean, text = sql) => {
    const lost = new SqlBench(bench.store, without(isLost));
    await lost.openFolder('parquet_orders');
    try {
      return [(await lost.rows(text))[0]![0], lost.receipts[0]!.tables[0]!.unplanned];
    } finally {
      lost.remove();
    }
  };

  it.each([['optimizing', (optimize: boolean) => optimize], ['any plan', () => true]])('for want of %s reads all files, and its receipt says why', async (_, isLost) => {
    const [[right]] = (await bench.rows(sql)) as [[unknown]];
    expect(await answerOf(isLost)).toEqual([right, 'All files are read, since the engine could not plan it (Failed to bind column reference).']);
  });

  it('for a fault of its text is refused with the place of it', async () => {
    await expect(answerOf((optimize) => optimize, 'SELECT nosuch FROM bay.parquet_orders')).rejects.toMatchObject({ message: expect.stringContaining('nosuch'), details: { position: 7 } });
  });

  it('names over 64 tables, and is answered all the same', async () => {
    const many = `SELECT ${Array.from({ length: 66 }, (_, n) => `(SELECT count(*) FROM bay.parquet_region WHERE r_regionkey <> ${n})`).join(' + ')}`;
    expect((await bench.rows(many))[0]).toEqual([61 * 5 + 5 * 4]);
  });
});

describe('faults of the engine that are kept from users', () => {
  beforeAll(async () => {
    await bench.create('odd', { schema: { fields: [field('t', parseTypeName('timestamp')), field('x', parseTypeName('double')), field('n', parseTypeName('integer'))] } });
    await bench.run('INSERT INTO bay.odd VALUES (NULL, NULL, 1), (NULL, NULL, 2)');
    await bench.run("INSERT INTO bay.odd VALUES (TIMESTAMP '2024-01-01 05:00:00', NULL, 3), (NULL, NULL, 4)");
  });

  // Three-valued logic of the SQL standard: a comparison with null is no match, IS DISTINCT FROM is never unknown.
  it.each([
    ["date_trunc('day', t) <> TIMESTAMP '2024-01-01 03:00:00'", [3]],
    ["date_trunc('week', t) <> TIMESTAMP '2024-01-02'", [3]],
    ['(x IS DISTINCT FROM -1.5) OR (x = 9.0)', [1, 2, 3, 4]],
    ['(x IS DISTINCT FROM 2) OR (x IS NOT DISTINCT FROM 1)', [1, 2, 3, 4]],
  ])('%s', async (condition, expected) => {
    expect((await bench.rows(`SELECT n FROM bay.odd WHERE ${condition} ORDER BY n`)).flat()).toEqual(expected);
    const changed = await bench.run(`DELETE FROM bay.odd WHERE (${condition}) AND n > 100`);
    expect(changed.written.version).toBeNull();
  });
});
