/**
 * `npm run interop`: an independent Delta library (Python) opens tables that our writers made, version by version, and
 * must find the rows that we read. Needs Python 3; installs the library into .cache once. Not part of `npm test`.
 */
import { execFileSync, spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { addColumns, append, createDeltaTable, latestState, overwrite, replaceFiles, restore } from '../core/delta/operations';
import { schemaOf } from '../core/delta/schema';
import { DeltaTable } from '../core/delta/table';
import { parseTypeName } from '../core/schema/type-names';
import { field } from '../core/schema/types';
import type { WrittenFile } from '../core/table/written-file';
import { testPorts } from '../core/testing/ports';
import { parseDate } from '../core/values/text';
import { EngineRowFiles } from '../server/engine/row-files';
import { projectRoot } from '../server/program-files';
import { DiskStore } from '../server/storage/disk-store';
import { readTable } from '../server/testing/lake-tools';
import { LocalEngine } from '../server/testing/local-engine';

const PACKAGES = ['deltalake==1.6.6', 'pyarrow==26.0.1'];
const cache = path.join(projectRoot, '.cache/interop');
const tables = path.join(cache, 'tables');
const python = path.join(cache, 'venv/bin/python');

if (!existsSync(python) || spawnSync(python, ['-c', 'import deltalake, pyarrow']).status !== 0) {
  console.log(`Installing ${PACKAGES.join(' and ')} …`);
  const steps = [['python3', '-m', 'venv', path.join(cache, 'venv')], [python, '-m', 'pip', 'install', '--quiet', ...PACKAGES]] as const;
  if (steps.some(([command, ...args]) => spawnSync(command, args, { stdio: 'inherit' }).status !== 0)) {
    console.error('The check did NOT run: Python 3 with these packages could not be set up.');
    process.exit(2);
  }
}

rmSync(tables, { recursive: true, force: true });
mkdirSync(tables, { recursive: true });
const engine = await LocalEngine.start();
const store = new DiskStore(tables);
const COLUMNS = { n: 'bigint', name: 'varchar', day: 'date', price: 'decimal(10,2)', at: 'timestamptz', x: 'double', place: 'struct(lat double, tags varchar[])' };
const schema = { fields: Object.entries(COLUMNS).map(([name, type]) => field(name, parseTypeName(type))) };
const rowsOf = (from: number, to: number) => `
  SELECT n::BIGINT AS n, CASE WHEN n % 5 = 0 THEN NULL ELSE 'näme ' || n END AS name, DATE '2026-03-01' + (n % 2)::INTEGER AS day, (n + 0.25)::DECIMAL(10,2) AS price,
         TIMESTAMPTZ '2026-03-01 00:00:00+00' + to_microseconds(n) AS at, CASE WHEN n = 3 THEN 'nan'::DOUBLE ELSE n / 4 END AS x, {'lat': n / 2, 'tags': ['a', NULL]} AS place
  FROM range(${from}, ${to}) numbers(n)`;
let written = 0;

async function write(table: DeltaTable, sql: string, day?: string): Promise<WrittenFile> {
  const { metadata } = await latestState(table);
  const fields = schemaOf(metadata, table.name).fields.filter((each) => !metadata.partitionColumns.includes(each.name));
  const folder = day ? `day=${day}/` : '';
  return new EngineRowFiles(engine, store).write({ sql: `SELECT * FROM (${sql})${day ? ` WHERE day = '${day}'` : ''} ORDER BY n`, path: `${table.root}/${folder}part-${written++}.parquet`, schema: { fields }, ...(day ? { partition: { day: parseDate(day)! } } : {}) });
}

async function make(name: string, options: { partitionColumns?: string[]; properties?: Record<string, string> }): Promise<void> {
  const table = new DeltaTable(store, name, name);
  let step = 1;
  const ports = () => ({ ...testPorts(step++), clock: { now: () => Date.now() } });
  const files = async (sql: string) => (options.partitionColumns ? Promise.all(['2026-03-01', '2026-03-02'].map((day) => write(table, sql, day))) : [await write(table, sql)]);
  await createDeltaTable(table, { schema, ...options }, ports());
  await append(table, await files(rowsOf(0, 10)), ports());
  await append(table, await files(rowsOf(10, 14)), ports());
  await addColumns(table, [field('later', 'int')], ports());
  await append(table, await files(`SELECT *, 7 AS later FROM (${rowsOf(14, 16)})`), ports());
  const base = await latestState(table);
  await replaceFiles(table, { base, replaced: [...base.files.keys()], files: await files(`SELECT *, NULL AS later FROM (${rowsOf(0, 3)})`), operation: 'DELETE', parameters: { predicate: '["n >= 3"]' }, metrics: { numDeletedRows: 13 } }, ports());
  await restore(table, { kind: 'number', number: 2n }, ports());
  await overwrite(table, await files(`SELECT *, 1 AS later FROM (${rowsOf(100, 102)})`), ports());
}

await make('plain', {});
await make('partitioned', { partitionColumns: ['day'] });
await make('in_commit_times', { properties: { 'delta.enableInCommitTimestamps': 'true' } });

const theirs = JSON.parse(execFileSync(python, [path.join(projectRoot, 'tools/interop/check_delta.py'), tables], { encoding: 'utf8' })) as Record<string, Record<string, { rows: unknown[][]; operation: string }>>;
let passed = 0;
let failed = 0;
for (const [name, versions] of Object.entries(theirs)) {
  const table = new DeltaTable(store, name, name);
  const history = await table.history();
  if (history.length !== Object.keys(versions).length) failed++;
  for (const [version, their] of Object.entries(versions)) {
    const hasLater = (await table.snapshot({ kind: 'number', number: BigInt(version) })).schema.fields.some((each) => each.name === 'later');
    const { rows } = await readTable(engine, store, table, { asOf: { kind: 'number', number: BigInt(version) }, sql: `SELECT n, name, day, price, ${hasLater ? 'later' : 'NULL'} FROM t ORDER BY n` });
    const same = JSON.stringify(rows) === JSON.stringify(their.rows) && history[Number(version)]!.operation === their.operation;
    if (same) passed++;
    else {
      failed++;
      console.log(`${name}, version ${version}: we read ${JSON.stringify(rows)}, the other library ${JSON.stringify(their.rows)} (${their.operation})`);
    }
  }
}
console.log(`${passed} passed, ${failed} failed`);
process.exit(failed === 0 && passed > 0 ? 0 : 1);
