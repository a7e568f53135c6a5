/**
 * The 22 queries of TPC-H and the 99 of TPC-DS (TPC specifications; texts and rows by the generators that an older wheel of
 * the engine carries) over Parquet, Delta and Iceberg tables: every answer must be the raw engine's over the same rows.
 */
import { spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import path from 'node:path';
import { projectRoot } from '../server/program-files';
import { DiskStore } from '../server/storage/disk-store';
import { LocalEngine } from '../server/testing/local-engine';
import { sameRows } from '../server/testing/same-rows';
import { SqlBench } from '../server/testing/sql-bench';
import { withNamespace } from '../server/testing/with-namespace';

const GENERATOR = ['duckdb==1.1.3'];
export const FORMATS = ['parquet', 'delta', 'iceberg'] as const;
export type TestedFormat = (typeof FORMATS)[number];
type Suite = 'tpch' | 'tpcds';

export interface StandardQuery {
  number: number;
  sql: string;
}

/** The folder with the rows and texts, made where they are not there; undefined where they cannot be had. */
export function standardData(scales: { tpch: number; tpcds: number }): string | undefined {
  const cache = path.join(projectRoot, '.cache/standard');
  const python = path.join(cache, 'venv/bin/python');
  mkdirSync(cache, { recursive: true });
  const steps = existsSync(python) ? [] : [['python3', '-m', 'venv', path.join(cache, 'venv')], [python, '-m', 'pip', 'install', '--quiet', ...GENERATOR]];
  const folder = path.join(cache, `h${scales.tpch}-ds${scales.tpcds}`);
  const all = [...steps, [python, path.join(projectRoot, 'tools/interop/make_standard_data.py'), folder, String(scales.tpch), String(scales.tpcds)]] as [string, ...string[]][];
  return all.every(([command, ...args]) => spawnSync(command, args, { stdio: ['ignore', 'ignore', 'inherit'] }).status === 0) ? folder : undefined;
}

export function standardQueries(folder: string, suite: Suite): StandardQuery[] {
  const queries = JSON.parse(readFileSync(path.join(folder, suite, 'queries.json'), 'utf8')) as StandardQuery[];
  // Query 90 of TPC-DS calls a table "at", which the engine has taken for a word of its own since.
  return queries.map(({ number, sql }) => ({ number, sql: sql.replace(/\)\s+AT\s*,/i, ') AS "at",') }));
}

export function tablesOf(folder: string, suite: Suite): string[] {
  return readdirSync(path.join(folder, suite), { withFileTypes: true }).filter((entry) => entry.isDirectory()).map(({ name }) => name);
}

/** A table of each format with the same rows. */
export async function makeTables(bench: SqlBench, store: DiskStore, folder: string, suite: Suite, formats: readonly TestedFormat[]): Promise<void> {
  for (const table of tablesOf(folder, suite)) {
    const name = `parquet_${table}`;
    const bytes = readFileSync(path.join(folder, suite, table, 'part-0.parquet'));
    await store.put(`${name}/part-0.parquet`, bytes);
    const { definition } = await bench.openFolder(name);
    const schema = { fields: definition.fields };
    if (formats.includes('delta')) {
      await bench.create(`delta_${table}`, { schema });
      await bench.run(`INSERT INTO bay.delta_${table} SELECT * FROM bay.${name}`);
    }
    if (formats.includes('iceberg')) {
      await bench.createIceberg(`iceberg_${table}`, { schema });
      await bench.run(`INSERT INTO bay.iceberg_${table} SELECT * FROM bay.${name}`);
    }
  }
}

export interface Outcome {
  suite: Suite;
  format: TestedFormat;
  asked: number;
  wrong: { number: number; what: string }[];
}

export async function runSuite(folder: string, suite: Suite, formats: readonly TestedFormat[] = FORMATS): Promise<Outcome[]> {
  const at = path.join(projectRoot, '.cache/standard/tables', suite);
  rmSync(at, { recursive: true, force: true });
  mkdirSync(at, { recursive: true });
  const engine = await LocalEngine.start('2GB');
  const store = new DiskStore(at);
  const bench = new SqlBench(store, engine);
  const outcomes: Outcome[] = [];
  try {
    await makeTables(bench, store, folder, suite, formats);
    const tables = tablesOf(folder, suite);
    const queries = standardQueries(folder, suite);
    const views = tables.map((table) => `CREATE OR REPLACE TEMP VIEW ${table} AS SELECT * FROM read_parquet('${path.join(folder, suite, table, 'part-0.parquet')}')`);
    const raw = new Map<number, unknown[][]>();
    for (const { number, sql } of queries) {
      const reply = await engine.call('query', { id: `${suite}-${number}`, setup: views, sql, allow: { folders: [folder] }, limits: { rows: 1_000_000, resultBytes: 1e9, millis: 600_000 } });
      raw.set(number, reply.rows);
    }
    for (const format of formats) {
      const wrong: Outcome['wrong'] = [];
      for (const { number, sql } of queries) {
        try {
          const rows = await bench.rows(withNamespace(sql, tables, (table) => `bay.${format}_${table}`).replace(/;\s*$/, ''));
          const what = sameRows(rows, raw.get(number)!);
          if (what) wrong.push({ number, what });
        } catch (error) {
          wrong.push({ number, what: (error as Error).message });
        }
      }
      outcomes.push({ suite, format, asked: queries.length, wrong });
    }
  } finally {
    bench.remove();
  }
  return outcomes;
}
