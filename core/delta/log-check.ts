/**
 * Holds a log against itself: checkpoints against the commits that they sum up, checksum files against both, and the row
 * of versions for gaps. Repairs what the commits prove. Everything is read from storage anew.
 */
import { LakeError } from '../errors';
import { toBytes } from '../storage/object-store';
import { joinPath } from '../storage/paths';
import { actionsText, commitChange, ENGINE_INFO, wroteLateMinimums } from './commit';
import { readCheckpoint } from './checkpoint';
import { writeCheckpoint, type CheckpointPorts } from './checkpoint-write';
import { allFiles } from './live-files';
import { commitPath, listLog, LOG_FOLDER, oldestListed, paddedVersion, readCommit, type LogListing } from './log';
import { checksumProblem, Replay, type LogState } from './state';
import type { Field } from '../schema/types';
import type { Add } from './actions';
import { fileKey } from './file-key';
import { schemaOf } from './schema';
import { withEarlierMinimums } from './stats';
import type { DeltaTable } from './table';

export interface CheckpointReport {
  version: number;
  paths: string[];
  /** `unproved`: the commits before it are no longer there, so that it cannot be held against them. */
  status: 'right' | 'wrong' | 'unproved';
  /** Live files by the commits that it leaves out, and files that it names although the commits removed them, as the log writes them. */
  lacking: string[];
  extra: string[];
  /** Whether columns, properties, protocol, transactions or domains differ. */
  otherwise: boolean;
}

export interface VersionRange {
  from: number;
  to: number;
  /** `whole`: reads as its commits say; `wrong`: readers begin at a checkpoint that differs from them; `missing`: no commit is there; `unreadable`: stands behind a gap. */
  state: 'whole' | 'wrong' | 'missing' | 'unreadable';
}

export interface LogReport {
  oldest: number;
  latest: number;
  versions: VersionRange[];
  /** Versions without a commit between others. */
  missing: number[];
  checkpoints: CheckpointReport[];
  /** Live files whose bounds of times before 1970 may leave rows out: our writer of before rounded them up. */
  lateMinimums: string[];
  /** Checksum files that differ from what the commits come to. */
  checksums: { version: number; path: string; problem: string }[];
}

export function isWhole({ versions, checksums, lateMinimums }: LogReport): boolean {
  return checksums.length === 0 && lateMinimums.length === 0 && versions.every(({ state }) => state === 'whole');
}

/** Reads every commit and checkpoint that is there; on a long log this takes as long as reading it all. */
export async function checkLog(table: DeltaTable): Promise<LogReport> {
  const { report } = await examine(table);
  return { ...report, lateMinimums: (await lateMinimums(table)).map(({ path }) => path) };
}

/** Entries of live files, with statistics that leave nothing out. */
async function lateMinimums(table: DeltaTable): Promise<Add[]> {
  const log = await table.log();
  const state = await table.state(log.latest, log).catch(() => undefined);
  if (!state) return [];
  const { fields } = schemaOf(state.metadata, table.name);
  if (!hasTimes(fields)) return [];
  // The writer of files whose commits have left the log is not known.
  const writers = new Map<string, boolean>();
  for (const version of log.commits.keys()) {
    const commit = await table.commit(version, log);
    for (const add of commit.adds) writers.set(fileKey(add), wroteLateMinimums(commit));
  }
  return [...(await allFiles(state.files))].flatMap(([key, add]) => {
    const stats = writers.get(key) === false ? undefined : withEarlierMinimums(add.stats, fields);
    return stats === undefined ? [] : [{ ...add, stats, dataChange: false }];
  });
}

function hasTimes(fields: readonly Field[]): boolean {
  return fields.some(({ type }) => type.kind === 'timestamp' || type.kind === 'timestamptz' || (type.kind === 'struct' && hasTimes(type.fields)));
}

interface Examined {
  report: LogReport;
  /** Of the wrong checkpoints: the state that the commits come to. */
  proved: Map<number, LogState>;
}

async function examine(table: DeltaTable): Promise<Examined> {
  const { store, root, name } = table;
  const log = await listLog(store, root, name);
  const oldest = oldestListed(log);
  const report: LogReport = { oldest, latest: log.latest, versions: [], missing: [], checkpoints: [], lateMinimums: [], checksums: [] };
  const proved = new Map<number, LogState>();
  // What the commits come to, from version 0 or from the first checkpoint, which then nothing proves; undefined behind a gap.
  let byCommits: LogState | undefined;
  // Whether a reader, who begins at the newest checkpoint, gets the same.
  let isRight = true;
  for (let version = oldest; version <= log.latest; version++) {
    const hasCommit = log.commits.has(version);
    if (!hasCommit && version > oldest) report.missing.push(version);
    const before = byCommits;
    byCommits = !hasCommit || (!before && version > 0) ? undefined : await applied(table, log, before, version);
    const files = log.checkpoints.get(version);
    if (files) {
      const stored = await storedState(table, log, version);
      const checkpoint = await compared(version, files.paths, byCommits, stored);
      report.checkpoints.push(checkpoint);
      isRight = checkpoint.status !== 'wrong';
      if (checkpoint.status === 'wrong') proved.set(version, byCommits!);
      byCommits ??= stored;
    }
    addVersion(report.versions, version, !hasCommit && !files ? 'missing' : byCommits ? (isRight ? 'whole' : 'wrong') : 'unreadable');
    const checksum = log.checksums.get(version);
    const problem = checksum && byCommits && (await checksumProblem(store, checksum, byCommits));
    if (problem) report.checksums.push({ version, path: checksum, problem });
  }
  return { report, proved };
}

async function applied({ store, name }: DeltaTable, log: LogListing, before: LogState | undefined, version: number): Promise<LogState> {
  const replay = new Replay(name, before);
  replay.apply(await readCommit(store, log.commits.get(version)!.path, version));
  return replay.stateAt(version);
}

async function storedState({ store, root, name }: DeltaTable, log: LogListing, version: number): Promise<LogState> {
  const replay = new Replay(name);
  replay.apply(await readCheckpoint(store, root, log.checkpoints.get(version)!, version));
  return replay.stateAt(version);
}

async function compared(version: number, paths: string[], byCommits: LogState | undefined, stored: LogState): Promise<CheckpointReport> {
  if (!byCommits) return { version, paths, status: 'unproved', lacking: [], extra: [], otherwise: false };
  const { lacking, extra, otherwise } = await differences(byCommits, stored);
  return { version, paths, status: lacking.length + extra.length > 0 || otherwise ? 'wrong' : 'right', lacking, extra, otherwise };
}

/** What `said` leaves out of, and has beyond, what is `right`. */
export async function differences(right: LogState, said: LogState): Promise<{ lacking: string[]; extra: string[]; otherwise: boolean }> {
  const [live, named] = await Promise.all([allFiles(right.files), allFiles(said.files)]);
  const text = ({ metadata, protocol, txns, domains }: LogState) => JSON.stringify([sortedKeys(metadata), sortedKeys(protocol), [...txns.values()].map(({ appId, version }) => `${appId} ${version}`).sort(), [...domains.keys()].sort()]);
  return {
    lacking: [...live].filter(([key]) => !named.has(key)).map(([, { path }]) => path),
    extra: [...named].filter(([key]) => !live.has(key)).map(([, { path }]) => path),
    otherwise: text(right) !== text(said),
  };
}

/** With the keys in order, and without what is empty: writers differ in both. */
function sortedKeys(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(sortedKeys).sort();
  if (typeof value !== 'object' || value === null) return typeof value === 'bigint' ? Number(value) : value;
  return Object.entries(value).filter(([, each]) => each !== null && each !== undefined).sort(([a], [b]) => (a < b ? -1 : 1)).map(([key, each]) => [key, sortedKeys(each)]);
}

function addVersion(ranges: VersionRange[], version: number, state: VersionRange['state']): void {
  const last = ranges.at(-1);
  if (last?.state === state) last.to = version;
  else ranges.push({ from: version, to: version, state });
}

export interface RepairWish {
  /** Puts a version that changes nothing in the place of each missing one. Rows of a lost commit, if there was one, stay out. */
  closeGaps: boolean;
}

export interface Repaired {
  checkpoints: number[];
  checksums: number[];
  closed: number[];
  /** Files whose bounds were said anew. */
  bounds: number;
}

/** Writes wrong checkpoints anew from the commits and takes wrong checksum files away; closes gaps where that is wished. No data file is touched. */
export async function repairLog(table: DeltaTable, ports: CheckpointPorts & { who: string }, { closeGaps }: RepairWish): Promise<Repaired> {
  const { store, root } = table;
  const done: Repaired = { checkpoints: [], checksums: [], closed: [], bounds: 0 };
  let { report, proved } = await examine(table);
  if (closeGaps && report.missing.length > 0) {
    for (const version of report.missing) {
      const info = { timestamp: ports.clock.now(), userName: ports.who, operation: 'REPAIR', operationParameters: { closes: 'a version that was missing from the log' }, engineInfo: ENGINE_INFO, txnId: ports.ids.uuid() };
      if (await store.putIfAbsent(commitPath(root, version), toBytes(actionsText([{ commitInfo: info }])))) done.closed.push(version);
    }
    ({ report, proved } = await examine(table));
  }
  for (const { version, path } of report.checksums) {
    await store.delete(path);
    done.checksums.push(version);
  }
  for (const { version, paths, status } of report.checkpoints) {
    if (status !== 'wrong') continue;
    const state = proved.get(version)!;
    const path = await writeCheckpoint(table, state, ports, { isNewest: version === report.checkpoints.at(-1)!.version });
    // Some readers take the parts' or V2 names first, so that none may stay.
    for (const old of paths) if (old !== path) await store.delete(old);
    await store.delete(joinPath(root, LOG_FOLDER, `${paddedVersion(version)}.crc`));
    done.checkpoints.push(version);
  }
  table.forget();
  const restated = await lateMinimums(table);
  if (restated.length > 0) {
    const log = await table.newest();
    await commitChange(table, await table.state(log.latest, log), {
      operation: 'COMPUTE STATS', parameters: {}, metrics: { numFiles: restated.length }, adds: restated, removes: [], restated: restated.map(({ path }) => path), read: { kind: 'files' },
    }, ports);
    done.bounds = restated.length;
  }
  return done;
}

/**
 * The state of a version as storage has it, read with nothing that is remembered; a checkpoint is written from this and not
 * from what a long-lived process believes. Fails when the two differ, and forgets what was remembered.
 */
export async function provedState(table: DeltaTable, version: number, anew: () => DeltaTable): Promise<LogState> {
  const fresh = anew();
  const log = await fresh.log();
  const state = await fresh.state(version, log);
  const known = table.remembered(version);
  if (known && !(await isSame(state, known))) {
    table.forget();
    throw new LakeError('bad-file', `${table.name}: version ${version} was remembered with ${known.files.count} files, but its log comes to ${state.files.count}. What was remembered is forgotten, and no checkpoint was written.`, { table: table.name, version });
  }
  return state;
}

/** Lists of files are compared one by one, indexes of very large checkpoints by their counts. */
async function isSame(a: LogState, b: LogState): Promise<boolean> {
  if (a.files.count !== b.files.count || a.files.bytes !== b.files.bytes) return false;
  if (a.files.count > LISTED_COMPARED) return true;
  const { lacking, extra, otherwise } = await differences(a, b);
  return lacking.length + extra.length === 0 && !otherwise;
}

const LISTED_COMPARED = 100_000;
