/** The 22 queries of TPC-H at scale 1, over Delta and Iceberg tables that were written here, against the raw engine over the same files. */
import { mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { projectRoot } from '../server/program-files';
import { DiskStore } from '../server/storage/disk-store';
import { LocalEngine } from '../server/testing/local-engine';
import { SqlBench } from '../server/testing/sql-bench';
import { withNamespace } from '../server/testing/with-namespace';
import { makeTables, standardData, standardQueries, tablesOf } from '../tools/interop-standard-queries';
import { interleaved, type Claim } from './lib/measure';

const RUNS = 3;
const LIMITS = { delta: 1.05, iceberg: 1.1 } as const;

export async function benchStandard(): Promise<Claim[]> {
  const folder = standardData({ tpch: 1, tpcds: 0.1 });
  if (!folder) {
    console.log('TPC-H was NOT measured: its rows need Python 3 and a package.');
    return [];
  }
  const at = path.join(projectRoot, '.cache/bench-standard');
  rmSync(at, { recursive: true, force: true });
  mkdirSync(at, { recursive: true });
  const engine = await LocalEngine.start('2GB');
  const bench = new SqlBench(new DiskStore(at), engine);
  await makeTables(bench, new DiskStore(at), folder, 'tpch', ['delta', 'iceberg']);
  const tables = tablesOf(folder, 'tpch');
  const views = (format: string) => tables.map((table) => `CREATE OR REPLACE TEMP VIEW ${table} AS SELECT * FROM read_parquet('${at}/${format}_${table}/**/*.parquet')`);
  const raw = (format: string, sql: string) => engine.call('query', { id: 'reference', setup: views(format), sql, allow: { folders: [at] }, limits: { rows: 1e6, resultBytes: 1e9, millis: 600_000 } });
  const claims: Claim[] = [];
  for (const [format, limit] of Object.entries(LIMITS)) {
    const sums = { ours: 0, raw: 0 };
    let worst = { number: 0, ratio: 0 };
    for (const { number, sql } of standardQueries(folder, 'tpch')) {
      const text = withNamespace(sql, tables, (table) => `bay.${format}_${table}`).replace(/;\s*$/, '');
      const { ours, reference } = await interleaved(() => bench.rows(text), () => raw(format, sql), RUNS);
      const [mine, its] = [ours.median, reference.median];
      sums.ours += mine;
      sums.raw += its;
      if (mine / its > worst.ratio) worst = { number, ratio: mine / its };
    }
    const ratio = sums.ours / sums.raw;
    claims.push({ what: `TPC-H at scale 1, all 22 queries over ${format} tables`, limit: `${limit} times the raw engine`, measured: `${ratio.toFixed(2)} times (${(sums.ours / 1000).toFixed(1)} s); the most in query ${worst.number}, ${worst.ratio.toFixed(2)} times`, reference: `the raw engine over the same files, ${(sums.raw / 1000).toFixed(1)} s`, holds: ratio <= limit });
  }
  bench.remove();
  rmSync(at, { recursive: true, force: true });
  return claims;
}
