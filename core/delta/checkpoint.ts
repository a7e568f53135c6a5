/** Reading checkpoints (Delta protocol, "Checkpoints", "V2 Spec", "Sidecar Files", "Checkpoint Schema"). */
import { LakeError } from '../errors';
import { stringifyJson } from '../json';
import { readParquetRows } from '../parquet/read';
import type { ObjectStore } from '../storage/object-store';
import { joinPath } from '../storage/paths';
import { isNested, physicalName, type Field } from '../schema/types';
import { addAction, emptyCommit, type Commit, type Metadata } from './actions';
import { IndexedFiles, type CheckpointIndexes, type IndexedColumn, type LiveFiles } from './live-files';
import { LOG_FOLDER, readCommit, type CheckpointFiles } from './log';
import { schemaOf } from './schema';

const SIDECARS = '_sidecars';

/** A checkpoint's actions as if they were one commit, those of its sidecars included. */
export async function readCheckpoint(store: ObjectStore, root: string, files: CheckpointFiles, version: number): Promise<Commit> {
  const commit = emptyCommit(version);
  for (const path of files.paths) await readInto(commit, store, path);
  for (const { path } of commit.sidecars) await readInto(commit, store, sidecarPath(root, path));
  return commit;
}

/** What a checkpoint gives: all as one commit, or for a large one an index of its files, and a commit of the rest. */
export async function openCheckpoint(store: ObjectStore, root: string, files: CheckpointFiles, version: number, indexes: CheckpointIndexes | undefined, table: string): Promise<{ commit: Commit; files?: LiveFiles }> {
  if (!indexes) return { commit: await readCheckpoint(store, root, files, version) };
  const commit = emptyCommit(version);
  const isLarge = files.bytes >= indexes.fromBytes && files.paths.every((path) => path.endsWith('.parquet'));
  if (isLarge) for (const action of await indexes.head(store, files.paths)) take(commit, action, files.paths[0]!);
  else for (const path of files.paths) await readInto(commit, store, path);
  const sidecars = commit.sidecars.map(({ path }) => sidecarPath(root, path));
  const sidecarBytes = commit.sidecars.reduce((sum, each) => sum + Number(each.sizeInBytes ?? 0), 0);
  if (!isLarge && sidecarBytes < indexes.fromBytes) {
    for (const path of sidecars) await readInto(commit, store, path);
    return { commit };
  }
  if (!commit.metadata) throw new LakeError('bad-file', `${files.paths[0]}: the checkpoint has no metaData action.`, { path: files.paths[0]! });
  const index = await indexes.open(store, [...(isLarge ? files.paths : []), ...sidecars], indexedColumns(commit.metadata, table));
  return { commit, files: new IndexedFiles(index) };
}

/** Columns beyond these are seldom asked for, and most writers keep no bounds of them. */
const MOST_INDEXED = 64;

/** Partition columns, and every column that has an order. */
function indexedColumns(metadata: Metadata, table: string): IndexedColumn[] {
  const visit = (fields: readonly Field[], prefix: string[]): IndexedColumn[] => fields.flatMap((each) => {
    const path = [...prefix, physicalName(each)];
    if (each.type.kind === 'struct') return visit(each.type.fields, path);
    return isNested(each.type) || each.type.kind === 'binary' ? [] : [{ path, type: each.type, isPartition: prefix.length === 0 && metadata.partitionColumns.includes(each.name) }];
  });
  const all = visit(schemaOf(metadata, table).fields, []);
  return [...all.filter((each) => each.isPartition), ...all.filter((each) => !each.isPartition).slice(0, MOST_INDEXED)];
}

function take(commit: Commit, action: Record<string, unknown>, path: string): void {
  const problem = addAction(commit, action);
  if (problem) throw new LakeError('bad-file', `${path}: ${problem}.`, { path });
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
    take(commit, action, path);
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
    return Object.fromEntries(Object.entries(value).filter(([, each]) => each !== null && each !== undefined).map(([key, each]) => [key, key === 'partitionValues' ? withNulls(each) : plain(each)]));
  }
  return value;
}

/** Null is a value of a partition. */
function withNulls(values: unknown): unknown {
  const entries = Array.isArray(values) ? values.map((each: { key: string; value: unknown }) => [each.key, each.value] as const) : Object.entries(values as Record<string, unknown>);
  return Object.fromEntries(entries.map(([key, value]) => [key, value ?? null]));
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
