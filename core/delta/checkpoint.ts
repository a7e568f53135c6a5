/** Reading checkpoints (Delta protocol, "Checkpoints", "V2 Spec", "Sidecar Files", "Checkpoint Schema"). */
import { LakeError } from '../errors';
import { stringifyJson } from '../json';
import { readParquetRows } from '../parquet/read';
import type { ObjectStore } from '../storage/object-store';
import { joinPath } from '../storage/paths';
import { addAction, emptyCommit, type Commit } from './actions';
import { LOG_FOLDER, readCommit, type CheckpointFiles } from './log';

const SIDECARS = '_sidecars';

/** A checkpoint's actions as if they were one commit, those of its sidecars included. */
export async function readCheckpoint(store: ObjectStore, root: string, files: CheckpointFiles, version: number): Promise<Commit> {
  const commit = emptyCommit(version);
  for (const path of files.paths) await readInto(commit, store, path);
  for (const { path } of commit.sidecars) await readInto(commit, store, sidecarPath(root, path));
  return commit;
}

/** A sidecar is named by its file name, or by an absolute path of the same storage. */
export function sidecarPath(root: string, path: string): string {
  const name = decodeURIComponent(path.slice(path.lastIndexOf('/') + 1));
  return joinPath(root, LOG_FOLDER, SIDECARS, name);
}

async function readInto(commit: Commit, store: ObjectStore, path: string): Promise<void> {
  if (path.endsWith('.json')) {
    const { adds, removes, sidecars, txns, domains, ...rest } = await readCommit(store, path, commit.version);
    commit.adds.push(...adds);
    commit.removes.push(...removes);
    commit.sidecars.push(...sidecars);
    commit.txns.push(...txns);
    commit.domains.push(...domains);
    if (rest.metadata) commit.metadata = rest.metadata;
    if (rest.protocol) commit.protocol = rest.protocol;
    return;
  }
  for (const row of await readParquetRows(store, path)) {
    const action = plain(row) as Record<string, Record<string, unknown> | undefined>;
    const { add } = action;
    if (add && add.stats === undefined && add.stats_parsed !== undefined) add.stats = statsText(add.stats_parsed);
    const problem = addAction(commit, action);
    if (problem) throw new LakeError('bad-file', `${path}: ${problem}.`, { path });
  }
}

/** Checkpoint rows hold maps as entry lists or objects, longs as bigint, and nulls; actions want objects, numbers, and nothing. */
function plain(value: unknown): unknown {
  if (typeof value === 'bigint') return Number.isSafeInteger(Number(value)) ? Number(value) : value;
  if (Array.isArray(value)) {
    const isMap = value.length > 0 && value.every((each) => typeof each === 'object' && each !== null && 'key' in each && 'value' in each);
    return isMap ? Object.fromEntries(value.map((each) => [each.key, plain(each.value)])) : value.map(plain);
  }
  if (typeof value === 'object' && value !== null && !(value instanceof Date) && !(value instanceof Uint8Array)) {
    return Object.fromEntries(Object.entries(value).filter(([, each]) => each !== null && each !== undefined).map(([key, each]) => [key, plain(each)]));
  }
  return value;
}

/**
 * Statistics that are kept as columns only, as the JSON text that they stand for. Decimals and bytes come from the reader
 * rounded or as bytes, so their bounds are left out, which is safe.
 */
function statsText(parsed: unknown): string {
  return stringifyJson(jsonOf(parsed));
}

function jsonOf(value: unknown): unknown {
  if (value instanceof Date) return value.toISOString();
  if (value instanceof Uint8Array) return undefined;
  // What is longer than a double holds exactly may have been rounded.
  if (typeof value === 'number' && !Number.isInteger(value) && String(value).length > 15) return undefined;
  if (typeof value !== 'object' || value === null || Array.isArray(value)) return value;
  return Object.fromEntries(Object.entries(value).map(([name, each]) => [name, jsonOf(each)]).filter(([, each]) => each !== undefined));
}
