import type { StepKind, TimelineEntry } from '../table/contract';
import { mainLine, type SnapshotJson, type TableMetadata } from './metadata';

/**
 * Snapshots of the main line, and between them the commits that changed only columns or properties. Those have no
 * snapshot; they are found in the metadata log as files whose time is no snapshot's.
 */
export async function buildHistory(metadata: TableMetadata, path: string, metadataAt: (uri: string) => Promise<TableMetadata>): Promise<TimelineEntry[]> {
  const line = mainLine(metadata);
  const snapshots = line.map(({ snapshot, version }, index) => snapshotEntry(snapshot, version, line[index - 1]?.snapshot));
  const others = await metadataOnly(metadata, path, new Set((metadata.snapshots ?? []).map((snapshot) => snapshot['timestamp-ms'])), metadataAt);
  const entries = [...snapshots, ...others].sort((a, b) => a.at - b.at || (a.version ?? 0) - (b.version ?? 0));
  // A change of columns that stands on the line by itself is not told again by the snapshot after it.
  return entries.map((each, index) => (each.changesColumns && each.version !== undefined && toldBefore(entries, index) ? { ...each, changesColumns: false } : each));
}

function toldBefore(entries: readonly TimelineEntry[], index: number): boolean {
  for (let i = index - 1; i >= 0 && entries[i]!.version === undefined; i--) if (entries[i]!.changesColumns) return true;
  return false;
}

async function metadataOnly(metadata: TableMetadata, path: string, snapshotTimes: Set<number>, metadataAt: (uri: string) => Promise<TableMetadata>): Promise<TimelineEntry[]> {
  const log = [...(metadata['metadata-log'] ?? []), { 'timestamp-ms': metadata['last-updated-ms'], 'metadata-file': path }];
  const entries: TimelineEntry[] = [];
  for (const [index, each] of log.entries()) {
    if (snapshotTimes.has(each['timestamp-ms'])) continue;
    const at = each['timestamp-ms'];
    if (index === 0) {
      entries.push(columnsEntry(at, 'create', 'create table', false));
      continue;
    }
    // Expired metadata files are gone; what they changed can no longer be told.
    const [before, after] = await Promise.all([log[index - 1]!, each].map((file) => (file === log.at(-1) ? metadata : metadataAt(file['metadata-file']).catch(() => undefined))));
    // Writers give snapshots a time of their own, which need not be the commit's.
    if (before && after && !addsSnapshot(before, after)) {
      const [operation, changesColumns] = describeChange(before, after);
      entries.push(columnsEntry(at, changesColumns ? 'columns' : 'settings', operation, changesColumns));
    }
  }
  return entries;
}

function addsSnapshot(before: TableMetadata, after: TableMetadata): boolean {
  const known = new Set((before.snapshots ?? []).map((each) => String(each['snapshot-id'])));
  return (after.snapshots ?? []).some((each) => !known.has(String(each['snapshot-id'])));
}

function describeChange(before: TableMetadata, after: TableMetadata): [string, boolean] {
  if (before['current-schema-id'] !== after['current-schema-id']) return ['set schema', true];
  if (before['default-spec-id'] !== after['default-spec-id']) return ['set partitioning', false];
  if (before['default-sort-order-id'] !== after['default-sort-order-id']) return ['set sort order', false];
  if (before['format-version'] !== after['format-version']) return ['upgrade format version', false];
  if ((after.snapshots ?? []).length < (before.snapshots ?? []).length) return ['expire snapshots', false];
  if (JSON.stringify(refsText(before)) !== JSON.stringify(refsText(after))) return ['set branches and tags', false];
  return ['set properties', false];
}

/** With ids as text, which JSON can hold exactly. */
function refsText(metadata: TableMetadata): unknown {
  return Object.entries(metadata.refs ?? {}).map(([name, ref]) => [name, { ...ref, 'snapshot-id': String(ref['snapshot-id']) }]).sort();
}

function columnsEntry(at: number, kind: StepKind, operation: string, changesColumns: boolean): TimelineEntry {
  return { at, kind, operation, filesAdded: 0, filesRemoved: 0, bytesAdded: 0, bytesRemoved: 0, changesColumns, details: {} };
}

const KINDS: Record<string, StepKind> = { append: 'append', replace: 'upkeep', overwrite: 'change', delete: 'change' };

function snapshotEntry(snapshot: SnapshotJson, version: number, before: SnapshotJson | undefined): TimelineEntry {
  const { operation = 'unknown', ...summary } = snapshot.summary ?? {};
  const count = (key: string) => Number(summary[key] ?? 0);
  const isUpkeep = operation === 'replace';
  return {
    version,
    snapshotId: String(snapshot['snapshot-id']),
    at: snapshot['timestamp-ms'],
    kind: KINDS[operation] ?? 'change',
    operation,
    ...(summary['committed-by'] ? { who: summary['committed-by'] } : {}),
    rowsAdded: isUpkeep ? 0 : count('added-records'),
    rowsRemoved: isUpkeep ? 0 : count('deleted-records'),
    filesAdded: count('added-data-files'),
    filesRemoved: count('deleted-data-files'),
    bytesAdded: count('added-files-size'),
    bytesRemoved: count('removed-files-size'),
    changesColumns: before !== undefined && before['schema-id'] !== snapshot['schema-id'],
    details: summary,
  };
}
