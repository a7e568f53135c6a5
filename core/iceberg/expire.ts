/** Which snapshots can go, which files go with them, and which files nothing names (specification, "Snapshot Retention Policy"). */
import type { ObjectInfo } from '../storage/object-store';
import { baseName, below, isHidden, joinPath, parentPath } from '../storage/paths';
import type { CommitTime } from '../table/contract';
import { commitMetadata, type CommitPorts } from './commit';
import { textAt } from './entry-columns';
import type { ManifestFile } from './manifest-list';
import { lineTo, refsOf, snapshotById, type SnapshotId, type SnapshotJson, type TableMetadata } from './metadata';
import { COPIES_KEPT, isCopy, metadataNumber } from './pointer';
import type { IcebergTable } from './table';
import type { TableUpdate } from './updates';

/** Defaults of `history.expire.max-snapshot-age-ms`, `…min-snapshots-to-keep` and `…max-ref-age-ms` by common practice. */
const DAY = 86_400_000;
const MAX_AGE_MS = 5 * DAY;
const MIN_KEPT = 1;

export interface ExpiryWish {
  /** Snapshots younger than this are kept; by the table's properties where absent. */
  olderThanMs?: number;
  /** So many of each branch are kept in any case. */
  keepLast?: number;
  now: CommitTime;
}

export interface ExpiryPlan {
  snapshots: { id: SnapshotId; at: CommitTime; operation: string }[];
  /** Branches and tags whose own time is over. */
  refs: string[];
  /** Files that only those snapshots need: in the store, with their size where it is known. */
  files: { path: string; bytes: number }[];
  bytes: number;
  kept: number;
}

export async function planExpiry(table: IcebergTable, wish: ExpiryWish): Promise<ExpiryPlan> {
  const { metadata } = await table.current();
  const { gone, refs } = expired(metadata, wish);
  const kept = (metadata.snapshots ?? []).filter((snapshot) => !gone.includes(snapshot));
  const files = await filesOnlyIn(table, metadata, gone, kept);
  return {
    snapshots: gone.map((each) => ({ id: each['snapshot-id'], at: each['timestamp-ms'], operation: each.summary?.operation ?? 'unknown' })), refs, files,
    bytes: files.reduce((sum, file) => sum + file.bytes, 0), kept: kept.length,
  };
}

/** The snapshots leave the metadata first; files are removed after, so that no state that can be read lacks one. */
export async function expireSnapshots(table: IcebergTable, wish: ExpiryWish, ports: CommitPorts): Promise<ExpiryPlan> {
  let plan: ExpiryPlan | undefined;
  await commitMetadata(table, async (metadata): Promise<TableUpdate[]> => {
    const { gone, refs } = expired(metadata, wish);
    const kept = (metadata.snapshots ?? []).filter((snapshot) => !gone.includes(snapshot));
    const files = await filesOnlyIn(table, metadata, gone, kept);
    plan = { snapshots: gone.map((each) => ({ id: each['snapshot-id'], at: each['timestamp-ms'], operation: each.summary?.operation ?? 'unknown' })), refs, files, bytes: files.reduce((sum, file) => sum + file.bytes, 0), kept: kept.length };
    return [
      ...refs.map((name): TableUpdate => ({ action: 'remove-snapshot-ref', 'ref-name': name })),
      ...(gone.length > 0 ? [{ action: 'remove-snapshots' as const, 'snapshot-ids': gone.map((each) => each['snapshot-id']) }] : []),
    ];
  }, ports);
  for (const { path } of plan!.files) await table.store.delete(path);
  return plan!;
}

function expired(metadata: TableMetadata, { olderThanMs, keepLast, now }: ExpiryWish): { gone: SnapshotJson[]; refs: string[] } {
  const property = (name: string) => (Number(metadata.properties?.[`history.expire.${name}`]) > 0 ? Number(metadata.properties![`history.expire.${name}`]) : undefined);
  const refs = refsOf(metadata);
  const over = Object.entries(refs).filter(([name, ref]) => {
    const age = ref['max-ref-age-ms'] ?? property('max-ref-age-ms');
    return name !== 'main' && age !== undefined && now - (snapshotById(metadata, ref['snapshot-id'])?.['timestamp-ms'] ?? now) > age;
  }).map(([name]) => name);
  const kept = new Set<SnapshotJson>();
  const inLines = new Set<SnapshotJson>();
  for (const [name, ref] of Object.entries(refs)) {
    const head = snapshotById(metadata, ref['snapshot-id']);
    if (!head || over.includes(name)) continue;
    kept.add(head);
    inLines.add(head);
    if (ref.type === 'tag') continue;
    const maxAge = olderThanMs ?? ref['max-snapshot-age-ms'] ?? property('max-snapshot-age-ms') ?? MAX_AGE_MS;
    const least = Math.max(1, keepLast ?? ref['min-snapshots-to-keep'] ?? property('min-snapshots-to-keep') ?? MIN_KEPT);
    const line = lineTo(metadata, head).reverse();
    for (const [index, snapshot] of line.entries()) {
      inLines.add(snapshot);
      if (index < least || now - snapshot['timestamp-ms'] < maxAge) kept.add(snapshot);
    }
  }
  const loneAge = olderThanMs ?? property('max-snapshot-age-ms') ?? MAX_AGE_MS;
  // Snapshots of no branch, as those of a commit that was rolled back, go by their age.
  for (const snapshot of metadata.snapshots ?? []) if (!inLines.has(snapshot) && now - snapshot['timestamp-ms'] < loneAge) kept.add(snapshot);
  return { gone: (metadata.snapshots ?? []).filter((snapshot) => !kept.has(snapshot)), refs: over };
}

async function filesOnlyIn(table: IcebergTable, metadata: TableMetadata, gone: readonly SnapshotJson[], kept: readonly SnapshotJson[]): Promise<{ path: string; bytes: number }[]> {
  if (gone.length === 0) return [];
  const keptManifests = await manifestsOfSnapshots(table, metadata, kept);
  const goneManifests = [...(await manifestsOfSnapshots(table, metadata, gone)).values()].filter((manifest) => !keptManifests.has(manifest.path));
  const candidates = new Map<string, number>();
  for (const manifest of goneManifests) {
    const columns = await table.entries(metadata, manifest);
    for (let row = 0; row < columns.count; row++) candidates.set(textAt(columns, columns.path[row]!), columns.bytes[row]!);
  }
  for (const manifest of keptManifests.values()) {
    if (candidates.size === 0) break;
    const columns = await table.entries(metadata, manifest);
    for (let row = 0; row < columns.count; row++) if (columns.status[row] !== 2) candidates.delete(textAt(columns, columns.path[row]!));
  }
  const lists = gone.flatMap((snapshot) => (snapshot['manifest-list'] === undefined ? [] : [snapshot['manifest-list']]));
  const keptIds = new Set(kept.map((snapshot) => String(snapshot['snapshot-id'])));
  const statistics = [...(metadata.statistics ?? []), ...(metadata['partition-statistics'] ?? [])].filter((each) => !keptIds.has(String(each['snapshot-id']))).map((each) => each['statistics-path']);
  const named = (uri: string, bytes: number) => inTable(table, metadata, uri).map((path) => ({ path, bytes }));
  return [...[...candidates].flatMap(([uri, bytes]) => named(uri, bytes)), ...goneManifests.flatMap((manifest) => named(manifest.path, manifest.bytes)), ...[...lists, ...statistics].flatMap((uri) => named(uri, 0))];
}

/** Only what lies in the table's own folder is ever removed: a table made by metadata alone shares another's files. */
function inTable(table: IcebergTable, metadata: TableMetadata, uri: string): string[] {
  try {
    const path = table.storePath(uri, metadata);
    return below(table.root, path) === undefined ? [] : [path];
  } catch {
    return [];
  }
}

/** Each once, by its path. */
export async function manifestsOfSnapshots(table: IcebergTable, metadata: TableMetadata, snapshots: readonly SnapshotJson[]): Promise<Map<string, ManifestFile>> {
  const found = new Map<string, ManifestFile>();
  for (const snapshot of snapshots) for (const manifest of await table.manifests(metadata, snapshot)) found.set(manifest.path, manifest);
  return found;
}

export interface OrphanPlan {
  files: { path: string; bytes: number; modified: number }[];
  bytes: number;
  /** Files in the folder that nothing names, but that are too young to be sure of. */
  young: number;
}

/** Nothing that is younger is touched: it may belong to a commit that is on its way. */
export const SAFE_AGE_MS = 3 * DAY;
const LEAST_AGE_MS = 3_600_000;

/** Every file in the table's own folder that its metadata names, with the metadata files themselves. */
async function namedFiles(table: IcebergTable): Promise<Set<string>> {
  const { path: current, metadata } = await table.current();
  const named = new Set<string>([current, joinPath(table.root, 'metadata', 'version-hint.text')]);
  const name = (uri: string) => {
    for (const path of inTable(table, metadata, uri)) named.add(path);
  };
  for (const each of metadata['metadata-log'] ?? []) name(each['metadata-file']);
  for (const each of [...(metadata.statistics ?? []), ...(metadata['partition-statistics'] ?? [])]) name(each['statistics-path']);
  for (const snapshot of metadata.snapshots ?? []) if (snapshot['manifest-list'] !== undefined) name(snapshot['manifest-list']);
  for (const manifest of (await manifestsOfSnapshots(table, metadata, metadata.snapshots ?? [])).values()) {
    name(manifest.path);
    const columns = await table.entries(metadata, manifest);
    for (let row = 0; row < columns.count; row++) if (columns.status[row] !== 2) name(textAt(columns, columns.path[row]!));
  }
  return named;
}

/** The files that go with a table that is dropped for good: those in its folder that its metadata names, and its copies of metadata. */
export async function filesToPurge(table: IcebergTable): Promise<ObjectInfo[]> {
  const named = await namedFiles(table);
  return (await table.store.list(table.root)).filter(({ path }) => named.has(path) || (isCopy(path) && parentPath(path) === joinPath(table.root, 'metadata')));
}

/** Files in the table's folder that no snapshot and no kept metadata names; never what other programs hide there, a Delta log of before say. */
export async function planOrphans(table: IcebergTable, now: CommitTime, ageMs = SAFE_AGE_MS): Promise<OrphanPlan> {
  const named = await namedFiles(table);
  const all = await table.store.list(table.root);
  const copies = new Set(all.map(({ path }) => path).filter((path) => isCopy(path) && baseName(parentPath(path)) === 'metadata').sort((a, b) => metadataNumber(a)! - metadataNumber(b)!).slice(-COPIES_KEPT));
  const age = Math.max(LEAST_AGE_MS, ageMs);
  const unnamed = all.filter(({ path }) => !named.has(path) && !copies.has(path) && !isHidden(below(table.root, path) ?? path));
  const files = unnamed.filter(({ modified }) => now - modified >= age).map(({ path, bytes, modified }) => ({ path, bytes, modified }));
  return { files, bytes: files.reduce((sum, file) => sum + file.bytes, 0), young: unnamed.length - files.length };
}

export async function removeOrphans(table: IcebergTable, plan: OrphanPlan): Promise<void> {
  for (const { path } of plan.files) await table.store.delete(path);
}
