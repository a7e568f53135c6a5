/** The files of a Delta log and how a state is rebuilt from them (Delta protocol, "Delta Log Entries", "Checkpoints", "Action Reconciliation"). */
import { inFile, LakeError } from '../errors';
import { readParquetRows } from '../parquet/read';
import type { ObjectInfo, ObjectStore } from '../storage/object-store';
import { toText } from '../storage/object-store';
import { baseName, joinPath } from '../storage/paths';
import { addAction, parseCommit, type Add, type Commit, type Metadata, type Protocol } from './actions';

export const LOG_FOLDER = '_delta_log';

export function commitPath(root: string, version: number): string {
  return joinPath(root, LOG_FOLDER, `${String(version).padStart(20, '0')}.json`);
}

export interface LogListing {
  /** Commit files by version. */
  commits: Map<number, ObjectInfo>;
  /** Parts of each complete classic checkpoint by version, in part order. */
  checkpoints: Map<number, string[]>;
  latest: number;
}

export async function listLog(store: ObjectStore, root: string, table: string): Promise<LogListing> {
  const { files } = await store.listFolder(joinPath(root, LOG_FOLDER));
  const commits = new Map<number, ObjectInfo>();
  const parts = new Map<number, { total: number; paths: string[] }>();
  for (const file of files) {
    const name = baseName(file.path);
    const commit = /^(\d{20})\.json$/.exec(name);
    if (commit) commits.set(Number(commit[1]), file);
    const checkpoint = /^(\d{20})\.checkpoint(?:\.(\d{10})\.(\d{10}))?\.parquet$/.exec(name);
    if (checkpoint) {
      const entry = parts.get(Number(checkpoint[1])) ?? { total: Number(checkpoint[3] ?? 1), paths: [] };
      entry.paths.push(file.path);
      parts.set(Number(checkpoint[1]), entry);
    }
  }
  // A multi-part checkpoint with parts missing is ignored, as the protocol says.
  const checkpoints = new Map([...parts].filter(([, each]) => each.paths.length === each.total).map(([version, each]) => [version, each.paths.sort()]));
  const latest = Math.max(-1, ...commits.keys(), ...checkpoints.keys());
  if (latest < 0) {
    throw new LakeError('not-found', `${table}: there is no Delta log under ${joinPath(root, LOG_FOLDER)}.`, { table, path: joinPath(root, LOG_FOLDER) });
  }
  return { commits, checkpoints, latest };
}

/** The oldest version that can be rebuilt, and a check that no commit between it and the latest is missing. */
export function earliestVersion(log: LogListing, root: string, table: string): number {
  let version = log.latest;
  while (log.commits.has(version) && version > 0) version--;
  // The walk stopped at the first commit that is not there; a checkpoint at or after it can stand in its place.
  if (version === 0 && log.commits.has(0)) return 0;
  const base = [...log.checkpoints.keys()].filter((each) => each >= version).sort((a, b) => a - b)[0];
  if (base !== undefined) return base;
  const missing = commitPath(root, version);
  throw new LakeError('bad-file', `${table}: the commit file ${baseName(missing)} is missing, and no checkpoint stands in its place.`, {
    table,
    version,
    path: missing,
    hint: 'Put the file back, or restore the log folder from a copy; the versions after it cannot be read without it.',
  });
}

export async function readCommit(store: ObjectStore, path: string, version: number): Promise<Commit> {
  const bytes = await store.read(path);
  try {
    return parseCommit(version, toText(bytes), path);
  } catch (error) {
    throw inFile(error, path);
  }
}

/** A classic checkpoint's rows as if they were one commit. */
export async function readCheckpoint(store: ObjectStore, paths: string[], version: number): Promise<Commit> {
  const commit: Commit = { version, adds: [], removes: [], txns: [] };
  for (const path of paths) {
    for (const row of await readParquetRows(store, path)) {
      const problem = addAction(commit, plainRow(row));
      if (problem) throw new LakeError('bad-file', `${path}: ${problem}.`, { path });
    }
  }
  return commit;
}

/** Checkpoint rows hold maps as entry lists or objects and longs as bigint; actions want objects and numbers. */
function plainRow(row: Record<string, unknown>): Record<string, unknown> {
  return plain(row) as Record<string, unknown>;
}

function plain(value: unknown): unknown {
  if (typeof value === 'bigint') return Number.isSafeInteger(Number(value)) ? Number(value) : value;
  if (Array.isArray(value)) {
    const isMap = value.length > 0 && value.every((each) => typeof each === 'object' && each !== null && 'key' in each && 'value' in each);
    return isMap ? Object.fromEntries(value.map((each) => [each.key, plain(each.value)])) : value.map(plain);
  }
  if (typeof value === 'object' && value !== null && !(value instanceof Date) && !(value instanceof Uint8Array)) {
    return Object.fromEntries(Object.entries(value).map(([key, each]) => [key, plain(each)]));
  }
  return value;
}

/** Everything true of a table at one version. */
export interface LogState {
  version: number;
  metadata: Metadata;
  protocol: Protocol;
  /** Live files by their path as the log writes it, percent-decoded once. */
  files: Map<string, Add>;
  txns: Map<string, number>;
}

/** The state after a commit; the old one stays as it is. */
export function applyCommit(state: LogState | undefined, commit: Commit, table: string): LogState {
  const metadata = commit.metadata ? withDefaults(commit.metadata) : state?.metadata;
  const protocol = commit.protocol ?? state?.protocol;
  if (!metadata || !protocol) {
    const lacking = metadata ? 'protocol' : 'metaData';
    throw new LakeError('bad-file', `${table}: version ${commit.version} of the Delta log has no ${lacking} action before it.`, { table, version: commit.version });
  }
  const files = new Map(state?.files);
  const txns = new Map(state?.txns);
  for (const remove of commit.removes) files.delete(filePath(remove.path));
  for (const add of commit.adds) files.set(filePath(add.path), add);
  for (const txn of commit.txns) txns.set(txn.appId, txn.version);
  return { version: commit.version, metadata, protocol, files, txns };
}

function withDefaults(metadata: Metadata): Metadata {
  return { ...metadata, partitionColumns: metadata.partitionColumns ?? [], configuration: metadata.configuration ?? {} };
}

/** Paths in the log are percent-encoded (RFC 3986); they are decoded exactly once. */
export function filePath(encoded: string): string {
  try {
    return decodeURIComponent(encoded);
  } catch {
    return encoded;
  }
}

export function encodeFilePath(path: string): string {
  return encodeURI(path).replace(/[#?]/g, (mark) => encodeURIComponent(mark));
}
