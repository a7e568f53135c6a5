/**
 * `npm run soak`: what takes too long for `npm test`: writers killed at random moments a thousand times, and long
 * random histories against a simple model; files damaged at random, twenty thousand times.
 * `-- --kills N --histories N --sql-histories N --damaged N --seed N` sets the amounts.
 */
import fc from 'fast-check';
import { fork } from 'node:child_process';
import { mkdirSync, mkdtempSync, readdirSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { checkLog, isWhole } from '../core/delta/log-check';
import { append, createDeltaTable, latestState, overwrite, changeRows, restore } from '../core/delta/operations';
import { DeltaTable } from '../core/delta/table';
import { append as appendIceberg, createIcebergTable } from '../core/iceberg/operations';
import { FilePointer } from '../core/iceberg/pointer';
import { IcebergTable } from '../core/iceberg/table';
import { field } from '../core/schema/types';
import { MemoryStore } from '../core/storage/memory-store';
import { toBytes, type ObjectStore } from '../core/storage/object-store';
import { LATEST, type LakeTable } from '../core/table/contract';
import { testPorts, writtenFile } from '../core/testing/ports';
import { projectRoot } from '../server/program-files';
import { Fleet, Lookers } from '../server/engine/fleet';
import { DiskStore } from '../server/storage/disk-store';
import { judgeMutations } from '../server/testing/mutation-judge';
import { judgeFilters } from '../server/testing/filter-judge';
import { history as sqlHistory, replayHistory } from '../server/testing/histories';
import { LocalEngine } from '../server/testing/local-engine';
import { SqlBench } from '../server/testing/sql-bench';

const option = (name: string, otherwise: number) => {
  const at = process.argv.indexOf(`--${name}`);
  return at < 0 ? otherwise : Number(process.argv[at + 1]);
};
const seed = option('seed', 1);
const schema = { fields: [field('n', 'long')] };

/** 0 to 1, the same for a seed. */
function randomFrom(start: number): () => number {
  let state = start >>> 0;
  return () => {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    return state / 2 ** 32;
  };
}

const open = (store: ObjectStore, format: string): LakeTable => (format === 'delta' ? new DeltaTable(store, 't', 't') : new IcebergTable(store, 't', 't', new FilePointer(store, 't')));
async function rowsAt(table: LakeTable, version?: number): Promise<{ version: number; rows: number }> {
  const snapshot = await table.snapshot(version === undefined ? LATEST : { kind: 'number', number: BigInt(version) });
  return { version: snapshot.version, rows: (await snapshot.files()).reduce((sum, file) => sum + file.rows!, 0) };
}

/** Each round a writer is killed after a random time; the table must be whole, and stay so for the next writer. */
async function kills(format: string, rounds: number): Promise<void> {
  const root = mkdtempSync(path.join(os.tmpdir(), 'soak-'));
  mkdirSync(path.join(root, 't'));
  const store = new DiskStore(root);
  if (format === 'delta') await createDeltaTable(new DeltaTable(store, 't', 't'), { schema }, testPorts());
  else await createIcebergTable(new IcebergTable(store, 't', 't', new FilePointer(store, 't')), { schema }, testPorts());
  const random = randomFrom(seed);
  let before = 0;
  for (let round = 1; round <= rounds; round++) {
    const child = fork(path.join(projectRoot, 'server/testing/commit-in-process.ts'), [root, format, String(round), '1000'], { execArgv: ['--import', 'tsx'], cwd: projectRoot });
    const died = new Promise((resolve) => child.on('exit', resolve));
    await new Promise((resolve) => setTimeout(resolve, 500 + random() * 400));
    child.kill('SIGKILL');
    await died;
    const { version, rows } = await rowsAt(open(store, format));
    if (rows !== version || version < before) throw new Error(`${format}, round ${round}: version ${version} has ${rows} rows, it was ${before}`);
    before = version;
    if (round % 50 === 0) console.log(`${format}: ${round} kills, version ${version}`);
  }
  rmSync(root, { recursive: true, force: true });
}

/** Statements and upkeep of every kind, killed at random moments; each time the log is whole, what was acknowledged is in it, and nothing is left lying about. */
async function killedStatements(format: 'delta' | 'iceberg', rounds: number): Promise<void> {
  const root = mkdtempSync(path.join(os.tmpdir(), 'soak-'));
  const store = new DiskStore(root);
  const columns = { fields: [field('k', 'long'), field('v', 'long')] };
  if (format === 'delta') await createDeltaTable(new DeltaTable(store, 't', 't'), { schema: columns, properties: { 'delta.checkpointInterval': '4', 'delta.enableDeletionVectors': 'true' } }, { ...testPorts(), clock: { now: () => Date.now() } });
  else await createIcebergTable(new IcebergTable(store, 't', 't', new FilePointer(store, 't')), { schema: columns, properties: { 'write.delete.mode': 'merge-on-read' } }, { ...testPorts(), clock: { now: () => Date.now() } });
  const random = randomFrom(seed);
  for (let round = 1; round <= rounds; round++) {
    const child = fork(path.join(projectRoot, 'server/testing/writes-in-process.ts'), [root, format, String(seed * 1000 + round)], { execArgv: ['--import', 'tsx'], cwd: projectRoot, stdio: ['ignore', 'ignore', 'pipe', 'ipc'] });
    let acknowledged = -1;
    let said = '';
    child.stderr!.on('data', (data: Buffer) => (said += data.toString()));
    const died = new Promise((resolve) => child.on('exit', resolve));
    await new Promise<void>((resolve) => {
      child.on('message', (message) => {
        if (message === 'ready') resolve();
        else acknowledged = Number(message);
      });
      child.once('exit', () => resolve());
    });
    await new Promise((resolve) => setTimeout(resolve, 100 + random() * 900));
    if (child.exitCode !== null) throw new Error(`${format}, round ${round}: the writer ended by itself: ${said.slice(0, 2000)}`);
    child.kill('SIGKILL');
    await died;
    const table = open(store, format);
    const { version } = await table.snapshot(LATEST);
    if (version < acknowledged) throw new Error(`${format}, round ${round}: version ${acknowledged} was acknowledged, the newest is ${version}`);
    await (await table.snapshot(LATEST)).files();
    if (table instanceof DeltaTable) {
      const report = await checkLog(table);
      if (!isWhole(report)) throw new Error(`${format}, round ${round}: ${JSON.stringify({ ...report, checkpoints: report.checkpoints.filter((each) => each.status === 'wrong') })}`);
    }
    // Listing clears away what the killed writer left on its way.
    await store.list('t');
    const left = readdirSync(path.join(root, 't'), { recursive: true, encoding: 'utf8' }).filter((name) => path.basename(name).startsWith('.'));
    if (left.length > 0) throw new Error(`${format}, round ${round}: left behind: ${left.join(', ')}`);
    if (round % 20 === 0) console.log(`${format}: ${round} kills amid statements of every kind, version ${version}, log whole`);
  }
  rmSync(root, { recursive: true, force: true });
}

/** Conditions over every type and layout, answered as without files. */
async function filters(seeds: number): Promise<void> {
  const root = mkdtempSync(path.join(os.tmpdir(), 'soak-'));
  const bench = new SqlBench(new DiskStore(root), await LocalEngine.start());
  for (let n = 0; n < seeds; n++) {
    const { tables, conditions, problems } = await judgeFilters(bench, seed * 100 + n, 20);
    if (problems.length > 0) throw new Error(problems.slice(0, 5).join('\n'));
    console.log(`${tables} tables, ${conditions} conditions answered as without files (seed ${seed * 100 + n})`);
  }
  bench.remove();
  rmSync(root, { recursive: true, force: true });
}

/** Random appends, overwrites, replacements and restores; afterwards every version reads as the model says. */
async function history(number: number): Promise<void> {
  const random = randomFrom(seed * 1000 + number);
  const store = new MemoryStore();
  const table = new DeltaTable(store, 't', 't');
  await createDeltaTable(table, { schema }, testPorts());
  const model: Map<string, number>[] = [new Map()];
  for (let step = 1; step <= 60; step++) {
    const now = new Map(model.at(-1));
    const ports = testPorts(step + 1);
    const rows = 1 + Math.floor(random() * 9);
    const name = `f${step}`;
    await store.put(`t/${name}`, toBytes(name));
    const file = writtenFile(`t/${name}`, 1, rows);
    const act = random();
    if (act < 0.5) await append(table, [file], ports);
    else if (act < 0.65) {
      await overwrite(table, [file], ports);
      now.clear();
    } else if (act < 0.85 && now.size > 0) {
      const replaced = [...now.keys()][Math.floor(random() * now.size)]!;
      await changeRows(table, { base: await latestState(table), replaced: [replaced], files: [file], operation: 'UPDATE', parameters: {}, metrics: {} }, ports);
      now.delete(replaced);
    } else {
      const to = Math.floor(random() * model.length);
      await restore(table, { kind: 'number', number: BigInt(to) }, ports);
      model.push(new Map(model[to]));
      continue;
    }
    now.set(name, rows);
    model.push(now);
  }
  const reader = new DeltaTable(store, 't', 't');
  for (const [version, files] of model.entries()) {
    const { rows } = await rowsAt(reader, version);
    const expected = [...files.values()].reduce((sum, each) => sum + each, 0);
    if (rows !== expected) throw new Error(`history ${number}, version ${version}: ${rows} rows, the model has ${expected}`);
  }
}

/** A table of many small commits opens, and every tenth version reads. */
async function manyCommits(count: number): Promise<void> {
  const store = new MemoryStore();
  await createIcebergTable(new IcebergTable(store, 't', 't', new FilePointer(store, 't')), { schema }, testPorts());
  const table = new IcebergTable(store, 't', 't', new FilePointer(store, 't'));
  for (let n = 0; n < count; n++) await appendIceberg(table, [writtenFile(`t/data/${n}.parquet`, 1, 1)], testPorts(n + 2));
  for (let version = 1; version <= count; version += 10) {
    const { rows } = await rowsAt(open(store, 'iceberg'), version);
    if (rows !== version) throw new Error(`iceberg version ${version} has ${rows} rows`);
  }
}

/** A Delta table of a hundred thousand files opens, and a narrow predicate leaves one file to read. */
async function manyFiles(count: number): Promise<void> {
  const store = new MemoryStore();
  const table = new DeltaTable(store, 't', 't');
  await createDeltaTable(table, { schema }, testPorts());
  const perCommit = 1000;
  for (let start = 0; start < count; start += perCommit) {
    const files = Array.from({ length: Math.min(perCommit, count - start) }, (_, index) => writtenFile(`t/f${start + index}`, (start + index) * 10, (start + index) * 10 + 9));
    await append(table, files, testPorts(start + 2));
  }
  const plan = await (await open(store, 'delta').snapshot(LATEST)).plan({ op: 'compare', column: ['n'], comparison: '=', value: 1234567n % BigInt(count * 10) });
  if (plan.files.total !== count || plan.files.read !== 1) throw new Error(`of ${plan.files.total} files ${plan.files.read} would be read`);
  console.log(`${count} files: one of them would be read`);
}

/** Random statements, upkeep and changes of properties over real files; every version reads as a model of plain rows has it. */
async function sqlHistories(count: number): Promise<void> {
  const root = mkdtempSync(path.join(os.tmpdir(), 'soak-'));
  const bench = new SqlBench(new DiskStore(root), await LocalEngine.start(), { indexFromBytes: 1 });
  let run = 0;
  await fc.assert(fc.asyncProperty(sqlHistory, async (each) => {
    const problem = await replayHistory(bench, `h${run++}`, each);
    if (problem) throw new Error(problem);
  }), { seed, numRuns: count });
  bench.remove();
  rmSync(root, { recursive: true, force: true });
  console.log(`${count} random histories of statements read as their model says`);
}

/** Files of every kind changed at random: read or refused in our own words, and nothing brought down. */
async function damagedFiles(count: number): Promise<void> {
  const root = mkdtempSync(path.join(os.tmpdir(), 'soak-'));
  const lookers = new Lookers({ memory: 500e6, threads: 2 });
  const fleet = new Fleet({ memory: 500e6, threads: 2, queries: 2, changes: 1, run: (call, ask) => lookers.call(call, ask) });
  const { tried, answered, refused, faults } = await judgeMutations({ engine: fleet, folder: root }, count, seed);
  await Promise.all([fleet.close(), lookers.close()]);
  rmSync(root, { recursive: true, force: true });
  if (faults.length > 0) throw new Error(`of ${tried} damaged files:\n${faults.join('\n')}`);
  console.log(`${tried} damaged files (seed ${seed}): ${answered} read, ${refused} refused by name`);
}

await damagedFiles(option('damaged', 20_000));
for (const format of ['delta', 'iceberg'] as const) await killedStatements(format, option('statement-kills', 100));
await filters(option('filters', 5));
await sqlHistories(option('sql-histories', 200));
await kills('delta', option('kills', 500));
await kills('iceberg', option('kills', 500));
const histories = option('histories', 300);
for (let number = 1; number <= histories; number++) await history(number);
console.log(`${histories} random histories read as their model says`);
await manyCommits(option('commits', 200));
await manyFiles(option('files', 100_000));
console.log('All of the soak passed.');
process.exit(0);
