/**
 * `npm run interop`: an independent Delta library (Python) opens tables that our writers made in every supported variant,
 * version by version, and must find the rows that we read; then it appends to them, and we must read what it wrote. An
 * independent Iceberg library works with the running server through the REST catalog protocol, in both directions. Plain
 * files of every format that is written are read by fastavro, pyarrow and Python's own readers.
 * Needs Python 3; installs the library into .cache once. Not part of `npm test`; says plainly when it did not run.
 */
import { execFileSync, spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { addColumns, renameColumn, restore } from '../core/delta/operations';
import { parseTypeName } from '../core/schema/type-names';
import { field } from '../core/schema/types';
import { projectRoot } from '../server/program-files';
import { randomIds, systemClock } from '../server/lake/lake';
import { DiskStore } from '../server/storage/disk-store';
import { LocalEngine } from '../server/testing/local-engine';
import { SqlBench } from '../server/testing/sql-bench';
import { checkKinds } from './interop-kinds';
import { checkCorpus } from './interop-corpus';
import { checkApi } from './interop-api';
import { checkFiles } from './interop-files';
import { checkIceberg } from './interop-iceberg';
import { judgeOurs, judgeTheirs } from './interop-random-tables';
import { checkSpark } from './interop-spark';
import { runSuite, standardData } from './interop-standard-queries';

const PACKAGES = ['deltalake==1.6.6', 'pyarrow==26.0.1', 'pyiceberg[pyiceberg-core]==0.12.0', 'fastavro==1.13.0', 'sqlalchemy==2.1.9'];
const cache = path.join(projectRoot, '.cache/interop');
const tables = path.join(cache, 'tables');
const python = path.join(cache, 'venv/bin/python');

if (!existsSync(python) || spawnSync(python, ['-c', 'import deltalake, pyarrow, pyiceberg, pyiceberg_core, fastavro, sqlalchemy']).status !== 0) {
  console.log(`Installing ${PACKAGES.join(' and ')} …`);
  const steps = [['python3', '-m', 'venv', path.join(cache, 'venv')], [python, '-m', 'pip', 'install', '--quiet', ...PACKAGES]] as const;
  if (steps.some(([command, ...args]) => spawnSync(command, args, { stdio: 'inherit' }).status !== 0)) {
    console.error('The check did NOT run: Python 3 with these packages could not be set up.');
    process.exit(2);
  }
}

rmSync(tables, { recursive: true, force: true });
mkdirSync(tables, { recursive: true });
const bench = new SqlBench(new DiskStore(tables), await LocalEngine.start());
const ports = { clock: systemClock, ids: randomIds, who: 'interop' };
const COLUMNS = { n: 'bigint', name: 'varchar', day: 'date', price: 'decimal(10,2)', at: 'timestamptz', x: 'double', place: 'struct(lat double, tags varchar[])' };
const schema = { fields: Object.entries(COLUMNS).map(([name, type]) => field(name, parseTypeName(type))) };
const rowsOf = (from: number, to: number) => `
  SELECT n::BIGINT AS n, CASE WHEN n % 5 = 0 THEN NULL ELSE 'näme ' || n END AS name, DATE '2026-03-01' + (n % 2)::INTEGER AS day, (n + 0.25)::DECIMAL(10,2) AS price,
         TIMESTAMPTZ '2026-03-01 00:00:00+00' + to_microseconds(n) AS "at", CASE WHEN n = 3 THEN 'nan'::DOUBLE ELSE n / 4 END AS x, {'lat': n / 2, 'tags': ['a', NULL]} AS place
  FROM range(${from}, ${to}) numbers(n)`;

const VARIANTS: Record<string, { partitionColumns?: string[]; properties?: Record<string, string> }> = {
  plain: {},
  partitioned: { partitionColumns: ['day'] },
  in_commit_times: { properties: { 'delta.enableInCommitTimestamps': 'true' } },
  vectors: { properties: { 'delta.enableDeletionVectors': 'true' }, partitionColumns: ['day'] },
  feed: { properties: { 'delta.enableChangeDataFeed': 'true' } },
  mapped: { properties: { 'delta.columnMapping.mode': 'name' } },
  mapped_by_id: { properties: { 'delta.columnMapping.mode': 'id', 'delta.enableDeletionVectors': 'true' } },
  tracked: { properties: { 'delta.enableRowTracking': 'true' } },
  checkpoints: { properties: { 'delta.checkpointInterval': '2' } },
  v2_checkpoints: { properties: { 'delta.checkpointInterval': '2', 'delta.checkpointPolicy': 'v2' } },
  append_only: { properties: { 'delta.appendOnly': 'true' } },
};

async function make(name: string, options: (typeof VARIANTS)[string]): Promise<void> {
  const table = await bench.create(name, { schema, ...options });
  const insert = (sql: string) => bench.run(`INSERT INTO bay.${name} BY NAME ${sql}`);
  await insert(rowsOf(0, 10));
  await insert(rowsOf(10, 14));
  await addColumns(table, [field('later', 'int')], ports);
  await insert(`SELECT *, 7 AS later FROM (${rowsOf(14, 16)})`);
  if (name === 'append_only') return;
  await bench.run(`DELETE FROM bay.${name} WHERE n BETWEEN 3 AND 12 AND n <> 5`);
  await bench.run(`UPDATE bay.${name} SET later = coalesce(later, 0) + 1, name = 'upd' WHERE n IN (1, 14)`);
  await bench.run(`MERGE INTO bay.${name} AS t USING (${rowsOf(15, 18)}) AS s ON t.n = s.n WHEN MATCHED THEN UPDATE SET price = t.price + 1 WHEN NOT MATCHED THEN INSERT (n, day, price) VALUES (s.n, s.day, s.price)`);
  await restore(table, { kind: 'number', number: 2n }, ports);
  await bench.run(`REPLACE ALL ROWS OF bay.${name} BY SELECT *, 1 AS later FROM (${rowsOf(100, 106)})`.replace(', 1 AS later', ''));
  await bench.run(`DELETE FROM bay.${name} WHERE n = 101`);
  await bench.upkeep.compact(table, bench.storage, { layout: { kind: 'sort', columns: ['n'] } }, 'interop');
  if (name.startsWith('mapped')) await renameColumn(table, 'x', 'x_renamed', ports);
}

/** Our rows as the script gives its own. */
async function ourRows(name: string, version?: number): Promise<unknown[][]> {
  const snapshot = await bench.delta(name).snapshot(version === undefined ? { kind: 'latest' } : { kind: 'number', number: BigInt(version) });
  const later = snapshot.schema.fields.some((each) => each.name === 'later') ? 'later' : 'NULL';
  return bench.rows(`SELECT n, name, day, price, ${later} FROM bay.${name}${version === undefined ? '' : ` FOR SYSTEM_VERSION AS OF ${version}`} ORDER BY n`);
}

let passed = 0;
let failed = 0;
function judge(what: string, ours: unknown, theirs: unknown): void {
  if (JSON.stringify(ours) === JSON.stringify(theirs)) passed++;
  else {
    failed++;
    console.log(`${what}: we have ${JSON.stringify(ours)}, the other library ${JSON.stringify(theirs)}`);
  }
}

interface Report {
  versions: Record<string, { rows: unknown[][]; operation: string }>;
  appended: unknown[][] | null;
  refused: string | null;
}
const ask = (what: 'read' | 'append') => JSON.parse(execFileSync(python, [path.join(projectRoot, 'tools/interop/check_delta.py'), tables, what], { encoding: 'utf8', maxBuffer: 1e9 })) as Record<string, Report>;

for (const [name, options] of Object.entries(VARIANTS)) await make(name, options).catch((error: unknown) => {
  console.log(name, bench.receipts.at(-1)?.sql);
  throw error;
});
for (const [name, { versions, refused }] of Object.entries(ask('read'))) {
  if (refused) console.log(`${name}: the other library does not read it (${refused})`);
  const history = await bench.delta(name).history();
  for (const [version, their] of Object.entries(versions)) {
    judge(`${name}, version ${version}`, await ourRows(name, Number(version)), their.rows);
    judge(`${name}, operation of version ${version}`, history[Number(version)]!.operation, their.operation);
  }
}
for (const [name, { appended, refused }] of Object.entries(ask('append'))) {
  if (refused) console.log(`${name}: the other library does not append to it (${refused})`);
  bench.open(name);
  if (appended) judge(`${name}, after it appended`, await ourRows(name), appended);
}
bench.remove();
const files = await checkFiles(await LocalEngine.start(), python);
passed += files.passed;
failed += files.failed;
await checkIceberg(python, cache, judge);

await checkCorpus(judge, { share: process.argv.includes('--all-files') ? 1 : 3, isVerbose: process.argv.includes('--all-files') });
await checkKinds(judge);
// Longer than all the rest together, so only when asked for: `npm run interop -- --api`.
if (process.argv.includes('--api')) await checkApi(judge);
await checkSpark(judge);

/** Tables of the two libraries a run; the seed is another each day, and can be given: `-- --seed N`. */
const RANDOM_TABLES = 25;
const seed = process.argv.includes('--seed') ? Number(process.argv[process.argv.indexOf('--seed') + 1]) : Math.floor(Date.now() / 86_400_000);
for (const [what, judged] of [['tables of the libraries', await judgeTheirs(python, path.join(cache, 'random-theirs'), seed, RANDOM_TABLES)], ['histories of ours', await judgeOurs(python, path.join(cache, 'random-ours'), seed, RANDOM_TABLES)]] as const) {
  const { tables: count, versions, conditions, problems, refused } = judged;
  console.log(`Random ${what}, seed ${seed}: ${count} tables, ${versions} versions, ${conditions} conditions; ${problems.length} differ`);
  for (const each of [...refused.map((one) => `not made or read by the library: ${one}`), ...problems]) console.log(`  ${each.slice(0, 500)}`);
  passed += versions + conditions - problems.length;
  failed += problems.length;
}
const standard = standardData({ tpch: 0.1, tpcds: 0.1 });
if (!standard) console.log('The standard queries did NOT run: their rows and texts could not be made.');
for (const suite of standard ? (['tpch', 'tpcds'] as const) : []) {
  for (const { format, asked, wrong } of await runSuite(standard!, suite)) {
    console.log(`${suite} over ${format} tables at scale 0.1: ${asked - wrong.length} of ${asked} answers are the raw engine's`);
    for (const { number, what } of wrong) console.log(`  query ${number}: ${what.slice(0, 300)}`);
    passed += asked - wrong.length;
    failed += wrong.length;
  }
}
console.log(`${passed} passed, ${failed} failed`);
process.exit(failed === 0 && passed > 0 ? 0 : 1);
