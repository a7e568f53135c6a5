/** Committing to an Iceberg table: new metadata, then one swap of the pointer, retried on the newer state. */
import { LakeError } from '../errors';
import type { Clock, Ids } from '../storage/object-store';
import type { CommitTime } from '../table/contract';
import { COMMIT_RETRIES, retrying } from '../table/retry';
import type { TableMetadata } from './metadata';
import type { IcebergTable } from './table';
import { applyUpdates, checkRequirements, type TableRequirement, type TableUpdate } from './updates';

export interface CommitPorts {
  clock: Clock;
  ids: Ids;
  who: string;
  /** The program that writes, as snapshots tell it. */
  engine?: string;
}

export interface Committed {
  path: string;
  metadata: TableMetadata;
}

/** Default of the table property `write.metadata.previous-versions-max` (specification, table properties by common practice). */
const PREVIOUS_METADATA_MAX = 100;

export function isWritable(table: IcebergTable, metadata: TableMetadata): void {
  if (metadata['format-version'] > 1) return;
  throw new LakeError('unsupported', `${table.name} has format version 1, which is read only here. Nothing was changed.`, { table: table.name, hint: 'Upgrade the table to version 2 or 3 first; no file is rewritten.' });
}

/**
 * Works out updates on the current metadata and makes the result current. When somebody else commits first, `change`
 * is called again with their metadata; it must throw a `conflict` if it no longer makes sense. No updates: nothing to do.
 */
export async function commitMetadata(table: IcebergTable, change: (metadata: TableMetadata, now: CommitTime, path: string) => Promise<readonly TableUpdate[]>, ports: CommitPorts): Promise<Committed> {
  return retrying(table.name, COMMIT_RETRIES, ports.clock, async () => {
    const { path, metadata } = await table.current();
    const now = Math.max(ports.clock.now(), metadata['last-updated-ms'] + 1);
    const updates = await change(metadata, now, path);
    if (updates.length === 0) return { path, metadata };
    return replace(table, path, metadata, applyUpdates(metadata, updates, now, table.name), now);
  });
}

/** Commits what a client of the catalog asks for: it worked on a state that the requirements describe. */
export function commitUpdates(table: IcebergTable, requirements: readonly TableRequirement[], updates: readonly TableUpdate[], ports: CommitPorts): Promise<Committed> {
  return commitMetadata(table, async (metadata) => {
    checkRequirements(metadata, requirements, table.name);
    return updates;
  }, ports);
}

/** The metadata that follows `before`, ready to be written. */
export function nextMetadata(table: IcebergTable, path: string, before: TableMetadata, changed: TableMetadata, now: CommitTime): TableMetadata {
  const kept = Number(changed.properties?.['write.metadata.previous-versions-max'] ?? PREVIOUS_METADATA_MAX);
  const log = [...(before['metadata-log'] ?? []), { 'timestamp-ms': before['last-updated-ms'], 'metadata-file': `${table.store.uri}/${path}` }];
  return { ...changed, 'last-updated-ms': now, 'metadata-log': log.slice(-Math.max(1, Number.isFinite(kept) ? kept : PREVIOUS_METADATA_MAX)) };
}

async function replace(table: IcebergTable, path: string, before: TableMetadata, changed: TableMetadata, now: CommitTime): Promise<Committed | undefined> {
  const next = nextMetadata(table, path, before, changed, now);
  const made = await table.pointer.replace(path, next, nextNumber(path));
  if (made === undefined) return undefined;
  table.adopt(made, next);
  await removeForgotten(table, before, next);
  return { path: made, metadata: next };
}

/** Metadata files that fell off the log, where the table says so; failing to remove them fails nothing. */
export async function removeForgotten(table: IcebergTable, before: TableMetadata, next: TableMetadata): Promise<void> {
  if (next.properties?.['write.metadata.delete-after-commit.enabled'] !== 'true') return;
  const kept = new Set(next['metadata-log']!.map((each) => each['metadata-file']));
  for (const { 'metadata-file': file } of before['metadata-log'] ?? []) {
    if (!kept.has(file)) await table.store.delete(table.storePath(file, next)).catch(() => undefined);
  }
}

/** The number of the metadata file after this one. */
export function nextNumber(path: string): number {
  return Number(/(\d+)(?:-[^/]*)?(?:\.gz)?\.metadata\.json(?:\.gz)?$/.exec(path)?.[1] ?? 0) + 1;
}
