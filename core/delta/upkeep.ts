/** Upkeep of a Delta table: which small files to put together, which files and log entries nobody needs any more. */
import { LakeError } from '../errors';
import { mightMatch } from '../scan/prune';
import type { Predicate } from '../scan/predicate';
import type { ObjectInfo } from '../storage/object-store';
import { below, isHidden, joinPath } from '../storage/paths';
import type { Add } from './actions';
import { readCheckpoint } from './checkpoint';
import { tombstones } from './checkpoint-write';
import { fileKey } from './file-key';
import { earliestVersion, LOG_FOLDER, oldestListed } from './log';
import { durationOf, targetFileBytes } from './properties';
import { schemaOf } from './schema';
import type { LogState } from './state';
import { rowCountOf } from './stats';
import type { DeltaTable } from './table';
import { hasOwnTimes, timeOfVersion } from './times';

export interface CompactionOptions {
  /** Only files that can hold such rows; a predicate over partition columns keeps to whole partitions. */
  predicate?: Predicate;
  targetBytes?: number;
  /** Files are put together whatever their size, since rows are to be laid out anew. */
  everyFile?: boolean;
}

/** Files whose rows go together into new ones, by key; all of one partition. */
export interface CompactionGroup {
  partitionValues: Add['partitionValues'];
  keys: string[];
  bytes: number;
}

/** Files below this share of the target are small. */
const SMALL = 0.75;
/** A file of which more than this share of rows is deleted is written anew. */
const MANY_DELETED = 0.1;

export async function planCompaction(table: DeltaTable, state: LogState, options: CompactionOptions = {}): Promise<CompactionGroup[]> {
  const target = options.targetBytes ?? targetFileBytes(state.metadata.configuration);
  const schema = schemaOf(state.metadata, table.name);
  const partitions = new Map<string, { key: string; add: Add }[]>();
  for await (const batch of state.files.batches()) for (const [key, add] of batch) {
    if (options.predicate && !mightMatch(options.predicate, table.dataFile(add, schema, state.metadata.partitionColumns).partitionStats)) continue;
    const partition = JSON.stringify(Object.entries(add.partitionValues).sort());
    const files = partitions.get(partition);
    if (files) files.push({ key, add });
    else partitions.set(partition, [{ key, add }]);
  }
  return [...partitions.values()].flatMap((files) => (options.everyFile ? [groupOf(files)] : packed(files, target))).filter((group) => group.keys.length > 0);
}

/** First fit by size: groups of about the target. A group of one file is worth it only if rows of it are deleted. */
function packed(files: { key: string; add: Add }[], target: number): CompactionGroup[] {
  const wanted = files.filter(({ add }) => add.size < target * SMALL || deletedShare(add) > MANY_DELETED).sort((a, b) => a.add.size - b.add.size);
  const groups: { key: string; add: Add }[][] = [];
  let bytes = Infinity;
  for (const file of wanted) {
    if (bytes + file.add.size > target) {
      groups.push([]);
      bytes = 0;
    }
    groups.at(-1)!.push(file);
    bytes += file.add.size;
  }
  return groups.filter((group) => group.length > 1 || group.some(({ add }) => deletedShare(add) > MANY_DELETED)).map(groupOf);
}

function groupOf(files: { key: string; add: Add }[]): CompactionGroup {
  return { partitionValues: files[0]?.add.partitionValues ?? {}, keys: files.map(({ key }) => key), bytes: files.reduce((sum, { add }) => sum + Number(add.size), 0) };
}

function deletedShare({ deletionVector, stats }: Add): number {
  return deletionVector ? Number(deletionVector.cardinality) / Math.max(1, rowCountOf(stats) ?? 0) : 0;
}

export interface VacuumOptions {
  now: number;
  /** Versions younger than this stay readable; the table's own property where absent. */
  retentionMs?: number;
  /** Files that no version names and that are younger may belong to a write that still runs. */
  longestWriteMs: number;
}

export interface VacuumPlan {
  files: ObjectInfo[];
  bytes: number;
  /** The oldest version that can still be read in full afterwards. */
  oldestReadable: number;
  /** Versions that can be read now and could not be any more: first and last, or none. */
  breaks?: { from: number; to: number };
  /** Whether the retention asked for is shorter than the table's own. */
  isShort: boolean;
}

/** What could go: files of the table's folder that no readable version needs. Nothing is removed yet. */
export async function planVacuum(table: DeltaTable, options: VacuumOptions): Promise<VacuumPlan> {
  const log = await table.log();
  // Behind a gap nobody knows which files are live.
  earliestVersion(log, table.root, table.name);
  const newest = await table.state(log.latest, log);
  const own = durationOf(newest.metadata.configuration, 'delta.deletedFileRetentionDuration');
  const retention = options.retentionMs ?? own;
  const first = oldestListed(log);
  const oldest = await versionBefore(table, options.now - retention, newest);
  const [needed, known] = [new Set<string>(), new Set<string>()];
  const into = (paths: Set<string>) => (entry: Parameters<DeltaTable['storePathsOf']>[0]) => table.storePathsOf(entry).forEach((path) => paths.add(path));
  const [need, know] = [into(needed), into(known)];
  for await (const batch of (await table.state(oldest, log)).files.batches()) for (const [, add] of batch) need(add);
  for await (const batch of tombstones(newest)) batch.forEach(know);
  // Whatever a checkpoint says: what a commit added and no later one removed is live, and stays.
  const live = new Map<string, Add>();
  for (const [version] of [...log.commits].sort(([a], [b]) => a - b)) {
    const { adds, removes, changeFiles } = await table.commit(version, log);
    [...adds, ...removes, ...changeFiles].forEach(know);
    if (version > oldest) [...adds, ...changeFiles].forEach(need);
    for (const remove of removes) live.delete(fileKey(remove));
    for (const add of adds) live.set(fileKey(add), add);
  }
  [...live.values()].forEach(need);
  const files = (await table.store.list(table.root)).filter((file) => isClearable(table.root, file.path) && !needed.has(file.path) && (known.has(file.path) || file.modified < options.now - Math.max(retention, options.longestWriteMs)));
  // Only files of versions before the oldest kept one can break them.
  const gone = new Set(files.map((file) => file.path));
  const breaks = await brokenVersions(table, first, oldest, gone);
  return { files, bytes: files.reduce((sum, file) => sum + file.bytes, 0), oldestReadable: oldest, isShort: retention < own, ...(breaks ? { breaks } : {}) };
}

/** The newest version that was committed at or before a time; the oldest there is where none was. */
async function versionBefore(table: DeltaTable, time: number, newest: LogState): Promise<number> {
  const log = await table.log();
  let version = newest.version;
  while (version > 0 && (log.commits.has(version - 1) || log.checkpoints.has(version - 1)) && (await timeOfVersion(table, log, version, hasOwnTimes(newest.metadata))) > time) version--;
  return version;
}

async function brokenVersions(table: DeltaTable, first: number, oldest: number, gone: ReadonlySet<string>): Promise<{ from: number; to: number } | undefined> {
  const log = await table.log();
  const broken: number[] = [];
  for (let version = first; version < oldest; version++) {
    if (!log.commits.has(version) && !log.checkpoints.has(version)) continue;
    const state = await table.state(version, log).catch(() => undefined);
    if (state && (await needsAny(table, state, gone))) broken.push(version);
  }
  return broken.length > 0 ? { from: broken[0]!, to: broken.at(-1)! } : undefined;
}

async function needsAny(table: DeltaTable, state: LogState, gone: ReadonlySet<string>): Promise<boolean> {
  for await (const batch of state.files.batches()) if (batch.some(([, add]) => table.storePathsOf(add).some((path) => gone.has(path)))) return true;
  return false;
}

/** Data, vectors and change files; never the log, what is hidden by other programs, nor the metadata of an Iceberg table of before. */
function isClearable(root: string, path: string): boolean {
  const inside = below(root, path);
  if (inside === undefined || inside.startsWith(`${LOG_FOLDER}/`) || /^metadata\/[^/]+\.(json|avro|puffin|text)$/.test(inside)) return false;
  return !isHidden(inside) || inside.startsWith('_change_data/');
}

/** Removes what a plan names. With a retention shorter than the table's own, versions that break must be agreed to. */
export async function vacuum(table: DeltaTable, plan: VacuumPlan, agreed: { toBreak: boolean }): Promise<void> {
  if (plan.breaks && !agreed.toBreak) {
    throw new LakeError('refused', `Removing these files would break the versions ${plan.breaks.from} to ${plan.breaks.to} of ${table.name}, which can be read now. Nothing was removed.`, { table: table.name, hint: 'Say that these versions may go, or keep files for longer.' });
  }
  for (const file of plan.files) await table.store.delete(file.path);
}

/** Log entries that are older than the table keeps them and stand behind a checkpoint ("Metadata Cleanup"). */
export async function planLogExpiry(table: DeltaTable, now: number): Promise<{ paths: string[]; oldestVersion: number }> {
  const log = await table.log();
  const newest = await table.state(log.latest, log);
  const cutoff = await versionBefore(table, now - durationOf(newest.metadata.configuration, 'delta.logRetentionDuration'), newest);
  const base = Math.max(-1, ...[...log.checkpoints.keys()].filter((version) => version <= cutoff));
  const first = oldestListed(log);
  if (base <= first) return { paths: [], oldestVersion: first };
  const keptSidecars = new Set<string>();
  const goneSidecars = new Set<string>();
  for (const [version, files] of log.checkpoints) {
    if (files.kind !== 'v2') continue;
    const { sidecars } = await readCheckpoint(table.store, table.root, files, version);
    for (const { path } of sidecars) (version >= base ? keptSidecars : goneSidecars).add(joinPath(table.root, LOG_FOLDER, '_sidecars', path));
  }
  const paths = [
    ...[...log.commits].filter(([version]) => version < base).map(([, file]) => file.path),
    ...[...log.checkpoints].filter(([version]) => version < base).flatMap(([, files]) => files.paths),
    ...[...log.checksums].filter(([version]) => version < base).map(([, path]) => path),
    ...log.compactions.filter((each) => each.from < base).map((each) => each.path),
    ...[...goneSidecars].filter((path) => !keptSidecars.has(path)),
  ];
  return { paths, oldestVersion: base };
}
