/**
 * Random tables of two independent libraries, every version and random conditions read here, and random histories of ours
 * read by one of them. Seeds are printed, so that what was found can be made again.
 */
import { execFileSync } from 'node:child_process';
import { mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import fc from 'fast-check';
import { projectRoot } from '../server/program-files';
import { DiskStore } from '../server/storage/disk-store';
import { history, replayHistory } from '../server/testing/histories';
import { LocalEngine } from '../server/testing/local-engine';
import { SqlBench } from '../server/testing/sql-bench';

export interface JudgedTables {
  tables: number;
  versions: number;
  conditions: number;
  refused: string[];
  problems: string[];
}

interface Version {
  columns: string[];
  rows: unknown[][];
}
interface Theirs {
  name: string;
  format: 'delta' | 'iceberg';
  refused?: string;
  parts?: string[];
  versions?: Record<string, Version>;
  snapshots?: (Version & { id: string })[];
  conditions?: { sql: string; keys: number[] }[];
}

const script = path.join(projectRoot, 'tools/interop/random_tables.py');
const lines = <T>(python: string, ...args: string[]): T[] => execFileSync(python, [script, ...args], { encoding: 'utf8', maxBuffer: 2e9, stdio: ['ignore', 'pipe', 'ignore'] }).trim().split('\n').map((line) => JSON.parse(line) as T);

/** Values as the script shows them: six digits of floating-point numbers, times without trailing zeros. */
function shown(value: unknown, type: string): unknown {
  if (value === null || value === undefined) return null;
  if (typeof value === 'number') return Number.isInteger(value) ? value : Number(value.toPrecision(6));
  if (typeof value === 'string') return value === '-0.0' ? 0 : /^timestamp/i.test(type) ? value.replace(/(\.\d{6})\d*/, '$1') : value;
  if (Array.isArray(value)) return value.map((each) => shown(each, ''));
  if (typeof value === 'object') return Object.fromEntries(Object.entries(value).map(([key, each]) => [key, shown(each, '')]));
  return value;
}

async function rowsOf(bench: SqlBench, sql: string): Promise<{ columns: string[]; rows: string[] }> {
  const { columns, rows } = await bench.queries.run({ sql, maxRows: 1_000_000, as: { kind: 'person', name: 'judge' } });
  return { columns: columns.map(({ name }) => name), rows: rows.map((row) => keyOf(row.map((value, index) => shown(value, columns[index]!.type)))).sort() };
}

/** The same for the same row, whatever the order of keys in objects. */
function keyOf(row: unknown): string {
  return JSON.stringify(row, (_, value: unknown) => (typeof value === 'object' && value !== null && !Array.isArray(value) ? Object.fromEntries(Object.entries(value).sort(([a], [b]) => (a < b ? -1 : 1))) : value));
}

function difference(ours: { columns: string[]; rows: string[] }, theirs: Version): string | undefined {
  if (JSON.stringify(ours.columns) !== JSON.stringify(theirs.columns)) return `has the columns ${ours.columns.join(', ')}, where ${theirs.columns.join(', ')} are right`;
  const right = theirs.rows.map((row) => keyOf(row.map((value) => (typeof value === 'number' && !Number.isInteger(value) ? Number(value.toPrecision(6)) : value)))).sort();
  if (ours.rows.length !== right.length) return `has ${ours.rows.length} rows, where ${right.length} are right`;
  const at = ours.rows.findIndex((row, index) => row !== right[index]);
  return at < 0 ? undefined : `has the row ${ours.rows[at]!}, where ${right[at]!} is right`;
}

/** `count` tables of each library. */
export async function judgeTheirs(python: string, folder: string, seed: number, count: number): Promise<JudgedTables> {
  rmSync(folder, { recursive: true, force: true });
  mkdirSync(folder, { recursive: true });
  const found: JudgedTables = { tables: 0, versions: 0, conditions: 0, refused: [], problems: [] };
  const all = lines<Theirs>(python, 'make', folder, String(seed), String(count));
  const engine = await LocalEngine.start();
  const benches = { delta: new SqlBench(new DiskStore(path.join(folder, 'delta')), engine), iceberg: new SqlBench(new DiskStore(path.join(folder, 'iceberg')), engine) };
  for (const their of all) {
    const fail = (what: string) => found.problems.push(`${their.name} (seed ${seed}): ${what}`);
    if (their.refused !== undefined) {
      found.refused.push(`${their.name}: ${their.refused}`);
      continue;
    }
    found.tables++;
    const bench = benches[their.format];
    if (their.format === 'delta') bench.open(their.name);
    else bench.openIceberg(their.name);
    const versions = their.versions ? Object.entries(their.versions) : their.snapshots!.map((each) => [each.id, each] as const);
    for (const [version, right] of versions) {
      found.versions++;
      try {
        const what = difference(await rowsOf(bench, `SELECT * FROM bay.${their.name} FOR SYSTEM_VERSION AS OF ${version}`), right);
        if (what) fail(`version ${version} ${what}`);
      } catch (error) {
        fail(`version ${version}: ${(error as Error).message}`);
      }
    }
    for (const { sql, keys } of their.conditions ?? []) {
      found.conditions++;
      try {
        const ours = (await bench.rows(`SELECT k FROM bay.${their.name} WHERE ${sql}`)).map(([k]) => Number(k)).sort((a, b) => a - b);
        if (JSON.stringify(ours) !== JSON.stringify(keys)) fail(`WHERE ${sql} finds ${ours.length} rows, where ${keys.length} are right`);
      } catch (error) {
        fail(`WHERE ${sql}: ${(error as Error).message}`);
      }
    }
  }
  for (const bench of Object.values(benches)) bench.remove();
  return found;
}

/** Random histories of ours, every version read by the library. */
export async function judgeOurs(python: string, folder: string, seed: number, count: number): Promise<JudgedTables> {
  rmSync(folder, { recursive: true, force: true });
  mkdirSync(folder, { recursive: true });
  const found: JudgedTables = { tables: 0, versions: 0, conditions: 0, refused: [], problems: [] };
  const bench = new SqlBench(new DiskStore(folder), await LocalEngine.start());
  for (const [index, each] of fc.sample(history, { seed, numRuns: count }).entries()) {
    const wrong = await replayHistory(bench, `h${index}`, each);
    if (wrong) found.problems.push(`h${index} (seed ${seed}): ${wrong}`);
  }
  for (const { name, versions, refused } of lines<{ name: string; versions?: Record<string, Version>; refused?: string }>(python, 'read', folder)) {
    if (!versions) {
      found.refused.push(`${name}: ${refused}`);
      continue;
    }
    found.tables++;
    for (const [version, right] of Object.entries(versions)) {
      found.versions++;
      const what = difference(await rowsOf(bench, `SELECT * FROM bay.${name} FOR SYSTEM_VERSION AS OF ${version}`), right);
      if (what) found.problems.push(`${name}, version ${version} (seed ${seed}): it ${what}`);
    }
  }
  bench.remove();
  return found;
}
