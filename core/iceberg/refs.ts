/** Branches and tags (specification, "Snapshot References"): made, moved and dropped; the table rolled back; single snapshots taken over. */
import { LakeError } from '../errors';
import { commitMetadata, isWritable, type CommitPorts } from './commit';
import { textAt } from './entry-columns';
import { entryAt } from './manifest';
import { lineTo, refsOf, sameId, snapshotById, type RefJson, type SnapshotId, type SnapshotJson, type TableMetadata } from './metadata';
import { commitSnapshot, type NewFile } from './snapshot-commit';
import { specOf, type IcebergTable } from './table';

export interface RefRetention {
  /** Of a branch: snapshots and their age that expiry keeps. */
  minSnapshotsToKeep?: number;
  maxSnapshotAgeMs?: number;
  /** How long the branch or tag itself is kept; `main` always is. */
  maxRefAgeMs?: number;
}

export interface RefRequest extends RefRetention {
  name: string;
  type: 'branch' | 'tag';
  /** The current snapshot where absent. */
  snapshotId?: SnapshotId;
}

/** A new branch or tag, or another retention and snapshot of one that is there. */
export async function setRef(table: IcebergTable, request: RefRequest, ports: CommitPorts): Promise<TableMetadata> {
  const { metadata } = await commitMetadata(table, async (base) => {
    const snapshot = request.snapshotId === undefined ? currentOf(table, base) : mustFind(table, base, request.snapshotId);
    const before = refsOf(base)[request.name];
    if (before && before.type !== request.type) throw new LakeError('bad-request', `"${request.name}" of ${table.name} is a ${before.type} already.`, { table: table.name });
    return [{ action: 'set-snapshot-ref', 'ref-name': request.name, type: request.type, 'snapshot-id': snapshot['snapshot-id'], ...retentionJson(request) }];
  }, ports);
  return metadata;
}

export async function dropRef(table: IcebergTable, name: string, ports: CommitPorts): Promise<TableMetadata> {
  if (name === 'main') throw new LakeError('bad-request', '"main" cannot be dropped.', { table: table.name });
  const { metadata } = await commitMetadata(table, async (base) => {
    mustFindRef(table, base, name);
    return [{ action: 'remove-snapshot-ref', 'ref-name': name }];
  }, ports);
  return metadata;
}

/** Moves a branch on to where another branch or tag is, which must come after it. */
export async function fastForward(table: IcebergTable, branch: string, to: string, ports: CommitPorts): Promise<TableMetadata> {
  const { metadata } = await commitMetadata(table, async (base) => {
    const from = mustFindRef(table, base, branch, 'branch');
    const target = mustFindRef(table, base, to);
    if (!lineTo(base, snapshotById(base, target['snapshot-id'])).some((each) => sameId(each['snapshot-id'], from['snapshot-id']))) {
      throw new LakeError('conflict', `"${to}" of ${table.name} does not come after "${branch}": both have snapshots that the other lacks. Nothing was changed.`, { table: table.name });
    }
    return [{ action: 'set-snapshot-ref', 'ref-name': branch, ...from, 'snapshot-id': target['snapshot-id'] }];
  }, ports);
  return metadata;
}

/** Makes a kept snapshot the branch's newest; later ones stay until they expire. It need not be linked to what the branch has: one between may have expired. */
export async function rollBack(table: IcebergTable, snapshotId: SnapshotId, ports: CommitPorts, branch = 'main'): Promise<TableMetadata> {
  const { metadata } = await commitMetadata(table, async (base) => {
    const ref = mustFindRef(table, base, branch, 'branch');
    mustFind(table, base, snapshotId);
    return [{ action: 'set-snapshot-ref', 'ref-name': branch, ...ref, 'snapshot-id': snapshotId }];
  }, ports);
  return metadata;
}

/** Takes over what one snapshot of another branch added; only ones that add data files and do nothing else can be. */
export async function cherryPick(table: IcebergTable, snapshotId: SnapshotId, ports: CommitPorts): Promise<SnapshotJson> {
  const { metadata } = await table.current();
  const picked = mustFind(table, metadata, snapshotId);
  const line = lineTo(metadata, snapshotById(metadata, refsOf(metadata).main?.['snapshot-id']));
  if (line.some((each) => sameId(each['snapshot-id'], snapshotId) || each.summary?.['source-snapshot-id'] === String(snapshotId))) throw new LakeError('bad-request', `The snapshot ${snapshotId} is in ${table.name} already.`, { table: table.name });
  if (picked.summary?.operation !== 'append') throw new LakeError('unsupported', `The snapshot ${snapshotId} of ${table.name} does more than add files (${picked.summary?.operation ?? 'unknown'}), so it cannot be taken over alone. Nothing was changed.`, { table: table.name });
  const added: NewFile[] = [];
  for (const manifest of await table.manifests(metadata, picked)) {
    if (manifest.content !== 'data' || !sameId(manifest.addedSnapshotId, snapshotId)) continue;
    const columns = await table.entries(metadata, manifest);
    for (let row = 0; row < columns.count; row++) {
      const entry = entryAt(columns, row, manifest, specOf(metadata, manifest.specId));
      if (entry.status === 'added' && textAt(columns, columns.path[row]!) !== '') {
        const { firstRowId: _, ...file } = entry.file;
        added.push({ file, specId: manifest.specId });
      }
    }
  }
  return (await commitSnapshot(table, { operation: 'append', added, summary: { 'source-snapshot-id': String(snapshotId) } }, ports)).snapshot;
}

function currentOf(table: IcebergTable, metadata: TableMetadata): SnapshotJson {
  const found = snapshotById(metadata, metadata['current-snapshot-id']);
  if (!found) throw new LakeError('bad-request', `${table.name} has no snapshot yet, so there is nothing to name.`, { table: table.name });
  return found;
}

function mustFind(table: IcebergTable, metadata: TableMetadata, id: SnapshotId): SnapshotJson {
  isWritable(table, metadata);
  const found = snapshotById(metadata, id);
  if (!found) throw new LakeError('not-found', `${table.name} has no snapshot ${id}; it may have expired.`, { table: table.name });
  return found;
}

function mustFindRef(table: IcebergTable, metadata: TableMetadata, name: string, type?: RefJson['type']): RefJson {
  const found = refsOf(metadata)[name];
  if (found && (type === undefined || found.type === type)) return found;
  throw new LakeError('not-found', `${table.name} has no ${type ?? 'branch or tag'} "${name}".`, { table: table.name, hint: `It has ${Object.keys(refsOf(metadata)).join(', ') || 'none'}.` });
}

function retentionJson({ minSnapshotsToKeep, maxSnapshotAgeMs, maxRefAgeMs }: RefRetention): Partial<RefJson> {
  return {
    ...(minSnapshotsToKeep === undefined ? {} : { 'min-snapshots-to-keep': minSnapshotsToKeep }), ...(maxSnapshotAgeMs === undefined ? {} : { 'max-snapshot-age-ms': maxSnapshotAgeMs }),
    ...(maxRefAgeMs === undefined ? {} : { 'max-ref-age-ms': maxRefAgeMs }),
  };
}
