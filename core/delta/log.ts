/** The files of a Delta log (Delta protocol, "Delta Log Entries", "Checkpoints", "Log Compaction Files", "Version Checksum File"). */
import { LakeError } from '../errors';
import { inFile } from '../fault-words';
import type { ObjectInfo, ObjectStore } from '../storage/object-store';
import { toText } from '../storage/object-store';
import { baseName, joinPath } from '../storage/paths';
import { parseCommit, type Commit } from './actions';

export const LOG_FOLDER = '_delta_log';

export function commitPath(root: string, version: number): string {
  return joinPath(root, LOG_FOLDER, `${paddedVersion(version)}.json`);
}

/** "The version, zero-padded to 20 digits". */
export function paddedVersion(version: number): string {
  return String(version).padStart(20, '0');
}

export interface CheckpointFiles {
  /** One file, several parts that all are there, or a file that may name sidecars. */
  kind: 'classic' | 'parts' | 'v2';
  paths: string[];
  bytes: number;
}

/**
 * The files of a log at one moment. Listings are shared between callers that wait for storage, so nothing of one is ever
 * changed: a newer listing is a new value.
 */
export interface LogListing {
  /** Commit files by version. */
  readonly commits: CommitFiles;
  /** Complete checkpoints by version. */
  readonly checkpoints: ReadonlyMap<number, CheckpointFiles>;
  /** Files that hold the reconciled actions of the versions `from` to `to`. */
  readonly compactions: readonly { from: number; to: number; path: string }[];
  readonly checksums: ReadonlyMap<number, string>;
  readonly latest: number;
}

/** New commits are held apart from the many older ones until there are so many of them. */
const APART = 512;

/** Commit files by version; `with` gives a longer one in little time and leaves this as it is. */
export class CommitFiles implements Iterable<[number, ObjectInfo]> {
  readonly #older: ReadonlyMap<number, ObjectInfo>;
  /** Those of the versions from `#from` on, one after the other. */
  readonly #newer: readonly ObjectInfo[];
  readonly #from: number;

  constructor(older: ReadonlyMap<number, ObjectInfo>, newer: readonly ObjectInfo[] = [], from = 0) {
    this.#older = older;
    this.#newer = newer;
    this.#from = from;
  }

  get size(): number {
    return this.#older.size + this.#newer.length;
  }

  get(version: number): ObjectInfo | undefined {
    return this.#newer[version - this.#from] ?? this.#older.get(version);
  }

  has(version: number): boolean {
    return this.get(version) !== undefined;
  }

  *keys(): Generator<number> {
    yield* this.#older.keys();
    for (let index = 0; index < this.#newer.length; index++) yield this.#from + index;
  }

  *[Symbol.iterator](): Generator<[number, ObjectInfo]> {
    yield* this.#older;
    for (const [index, info] of this.#newer.entries()) yield [this.#from + index, info];
  }

  /** And the commits of the versions from `from` on, which follows on the newest. */
  with(added: readonly ObjectInfo[], from: number): CommitFiles {
    if (added.length === 0) return this;
    if (this.#newer.length === 0) return new CommitFiles(this.#older, added, from);
    const newer = [...this.#newer, ...added];
    if (newer.length < APART) return new CommitFiles(this.#older, newer, this.#from);
    return new CommitFiles(new Map([...this.#older, ...newer.map((info, index) => [this.#from + index, info] as const)]));
  }
}

const NAMES = {
  commit: /^(\d+)\.json$/,
  classic: /^(\d{20})\.checkpoint\.parquet$/,
  part: /^(\d{20})\.checkpoint\.(\d{10})\.(\d{10})\.parquet$/,
  v2: /^(\d{20})\.checkpoint\.[0-9a-f-]{36}\.(?:json|parquet)$/i,
  compaction: /^(\d{20})\.(\d{20})\.compacted\.json$/,
  checksum: /^(\d{20})\.crc$/,
};

export async function listLog(store: ObjectStore, root: string, table: string): Promise<LogListing> {
  const { files } = await store.listFolder(joinPath(root, LOG_FOLDER));
  const log = { commits: new Map<number, ObjectInfo>(), checkpoints: new Map<number, CheckpointFiles>(), compactions: [] as { from: number; to: number; path: string }[], checksums: new Map<number, string>() };
  const parts = new Map<string, ObjectInfo[]>();
  for (const file of files) {
    const name = baseName(file.path);
    const match = (pattern: RegExp) => pattern.exec(name);
    let found = match(NAMES.commit);
    if (found) {
      const version = Number(found[1]);
      const other = log.commits.get(version);
      if (other) throw new LakeError('bad-file', `${table}: version ${version} has two commit files, ${baseName(other.path)} and ${name}. Only one can be right; take the other out of the log.`, { table, version, path: file.path });
      if (found[1]!.length === 20) log.commits.set(version, file);
    } else if ((found = match(NAMES.classic))) {
      log.checkpoints.set(Number(found[1]), { kind: 'classic', paths: [file.path], bytes: file.bytes });
    } else if ((found = match(NAMES.v2))) {
      if (!log.checkpoints.has(Number(found[1]))) log.checkpoints.set(Number(found[1]), { kind: 'v2', paths: [file.path], bytes: file.bytes });
    } else if ((found = match(NAMES.part))) {
      const key = `${found[1]}/${found[3]}`;
      parts.set(key, [...(parts.get(key) ?? []), file]);
    } else if ((found = match(NAMES.compaction))) {
      log.compactions.push({ from: Number(found[1]), to: Number(found[2]), path: file.path });
    } else if ((found = match(NAMES.checksum))) log.checksums.set(Number(found[1]), file.path);
  }
  // "A multi-part checkpoint with parts missing must be ignored."
  for (const [key, each] of parts) {
    const [version, total] = key.split('/').map(Number) as [number, number];
    if (each.length === total && !log.checkpoints.has(version)) {
      log.checkpoints.set(version, { kind: 'parts', paths: each.map((file) => file.path).sort(), bytes: each.reduce((sum, file) => sum + file.bytes, 0) });
    }
  }
  const latest = [log.commits, log.checkpoints].flatMap((map) => [...map.keys()]).reduce((most, version) => Math.max(most, version), -1);
  if (latest < 0) {
    throw new LakeError('not-found', `${table}: there is no Delta log under ${joinPath(root, LOG_FOLDER)}.`, { table, path: joinPath(root, LOG_FOLDER) });
  }
  await fillHole(store, root, log.commits, latest);
  return { ...log, commits: new CommitFiles(log.commits), latest };
}

/**
 * A folder that is written to while it is listed may show a newer commit and leave out an older one. The commit under the
 * first gap is asked for by name, so that a gap in the listing is one in the log too.
 */
async function fillHole(store: ObjectStore, root: string, commits: Map<number, ObjectInfo>, latest: number): Promise<void> {
  for (let version = latest; version >= 0; version--) {
    if (commits.has(version)) continue;
    const info = await store.head(commitPath(root, version));
    if (!info) return;
    commits.set(version, info);
  }
}

/** By etag where the store gives one: some tell times by the second in one answer and by the millisecond in another. */
export function isSameObject(a: ObjectInfo, b: ObjectInfo): boolean {
  if (a.bytes !== b.bytes) return false;
  return a.etag !== undefined && b.etag !== undefined ? a.etag === b.etag : a.modified === b.modified;
}

/**
 * A listing brought up to now by asking for the next versions alone, or undefined when the newest commit is not what it
 * was, so that everything must be listed anew. The given one stays as it is.
 */
export async function extendListing(store: ObjectStore, root: string, log: LogListing): Promise<LogListing | undefined> {
  const known = log.commits.get(log.latest);
  if (!known) return undefined;
  const [now, next] = await Promise.all([store.head(known.path), store.head(commitPath(root, log.latest + 1))]);
  if (!now || !isSameObject(now, known)) return undefined;
  const added: ObjectInfo[] = [];
  for (let info = next; info; info = await store.head(commitPath(root, log.latest + 1 + added.length))) added.push(info);
  return added.length === 0 ? log : { ...log, commits: log.commits.with(added, log.latest + 1), latest: log.latest + added.length };
}

/** The oldest version that anything is there of. */
export function oldestListed({ commits, checkpoints, latest }: LogListing): number {
  return [...commits.keys(), ...checkpoints.keys()].reduce((least, version) => Math.min(least, version), latest);
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
    hint: 'Put the file back, or restore the log folder from a copy; the versions after it cannot be read without it. Upkeep of the table can check the whole log, and close the gap where the commit is lost for good.',
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
