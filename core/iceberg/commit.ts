/** Committing to an Iceberg table: new metadata, then one swap of the pointer, retried on the newer state. */
import { LakeError } from '../errors';
import type { Clock, Ids } from '../storage/object-store';
import type { TableMetadata } from './metadata';
import type { IcebergTable } from './table';

export interface CommitPorts {
  clock: Clock;
  ids: Ids;
  who: string;
}

const ATTEMPTS = 100;
/** Default of the table property `write.metadata.previous-versions-max` (specification, table properties by common practice). */
const PREVIOUS_METADATA_MAX = 100;

/**
 * Applies `change` to the current metadata and makes the result current. When somebody else commits first, `change`
 * is called again with their metadata; it must throw a `conflict` if it no longer makes sense.
 */
export async function commitMetadata(table: IcebergTable, change: (metadata: TableMetadata, now: number) => Promise<TableMetadata>, ports: CommitPorts): Promise<TableMetadata> {
  for (let attempt = 0; attempt < ATTEMPTS; attempt++) {
    const { path, metadata } = await table.current();
    const now = Math.max(ports.clock.now(), metadata['last-updated-ms'] + 1);
    const changed = await change(metadata, now);
    const next = withLog(changed, metadata, `${table.store.uri}/${path}`, now);
    if (await table.pointer.replace(path, next, nextNumber(path))) return next;
  }
  throw new LakeError('conflict', `${table.name}: other writers committed ${ATTEMPTS} times in a row first. Try again.`, { table: table.name });
}

function nextNumber(path: string): number {
  return Number(/(\d+)(?:-[^/]*)?\.metadata\.json$/.exec(path)?.[1] ?? 0) + 1;
}

function withLog(next: TableMetadata, before: TableMetadata, beforePath: string, now: number): TableMetadata {
  const kept = Number(next.properties?.['write.metadata.previous-versions-max'] ?? PREVIOUS_METADATA_MAX);
  const log = [...(before['metadata-log'] ?? []), { 'timestamp-ms': before['last-updated-ms'], 'metadata-file': beforePath }];
  return { ...next, 'last-updated-ms': now, 'metadata-log': log.slice(-kept) };
}
