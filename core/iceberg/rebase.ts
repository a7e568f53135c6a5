/**
 * An append that a client of the catalog made on a state that is no longer the newest, made again on the one that is: the
 * client's new manifests beside those of now. Nobody's rows are touched by an append, so the result is what the client
 * would get by trying again, and it need not.
 */
import { joinPath } from '../storage/paths';
import type { CommitTime } from '../table/contract';
import type { CommitPorts } from './commit';
import { writeManifestList, type ManifestFile } from './manifest-list';
import { hasParent, refsOf, sameId, snapshotById, type SnapshotJson, type TableMetadata } from './metadata';
import { syncMarker, withRowIds } from './snapshot-commit';
import type { IcebergTable } from './table';
import { checkRequirements, type TableRequirement, type TableUpdate } from './updates';

export interface AskedUpdates {
  requirements: readonly TableRequirement[];
  updates: readonly TableUpdate[];
}

/** The same commit on top of `metadata`, or undefined where it is no plain append or does not fit. Fails as `checkRequirements` where anything else of it does not hold. */
export async function rebasedAppend(table: IcebergTable, metadata: TableMetadata, { requirements, updates }: AskedUpdates, now: CommitTime, ports: Pick<CommitPorts, 'ids'>): Promise<AskedUpdates | undefined> {
  const added = updates.filter((update) => update.action === 'add-snapshot');
  const moved = updates.filter((update) => update.action === 'set-snapshot-ref');
  const [one] = added;
  if (!one || added.length > 1 || moved.length !== 1 || one.snapshot.summary?.operation !== 'append' || !sameId(moved[0]!['snapshot-id'], one.snapshot['snapshot-id'])) return undefined;
  const ref = moved[0]!['ref-name'];
  const others = requirements.filter((each) => !(each.type === 'assert-ref-snapshot-id' && each.ref === ref));
  checkRequirements(metadata, others, table.name);
  const parent = snapshotById(metadata, refsOf(metadata)[ref]?.['snapshot-id']);
  const madeOn = snapshotById(metadata, one.snapshot['parent-snapshot-id']);
  // Made on a state that has expired, or that is none of this branch: what it replaced cannot be told.
  if (hasParent(one.snapshot) && !madeOn) return undefined;
  const manifests = await mergedLists(table, metadata, one.snapshot, madeOn, parent);
  if (!manifests) return undefined;
  const sequence = (metadata['last-sequence-number'] ?? 0) + 1;
  const stale = one.snapshot['sequence-number'] ?? 0;
  const own = manifests.own.map((each): ManifestFile => ({ ...withoutRowId(each), sequenceNumber: sequence, minSequenceNumber: each.minSequenceNumber >= stale ? sequence : each.minSequenceNumber }));
  const { manifests: numbered, nextRowId } = withRowIds([...own, ...manifests.others], metadata);
  const firstRowId = metadata['next-row-id'] ?? 0;
  const id = one.snapshot['snapshot-id'];
  const path = joinPath(table.root, 'metadata', `snap-${id}-1-${ports.ids.uuid()}.avro`);
  const isRows = metadata['format-version'] >= 3;
  const header = { 'snapshot-id': String(id), 'parent-snapshot-id': String(parent?.['snapshot-id'] ?? 'null'), 'sequence-number': String(sequence), ...(isRows ? { 'first-row-id': String(firstRowId) } : {}), 'format-version': String(metadata['format-version']) };
  await table.store.put(path, await writeManifestList(numbered, header, metadata['format-version'], syncMarker(ports)));
  const { 'parent-snapshot-id': _before, ...rest } = one.snapshot;
  const snapshot: SnapshotJson = {
    ...rest, 'sequence-number': sequence, 'timestamp-ms': Math.max(now, one.snapshot['timestamp-ms']), 'manifest-list': `${table.store.uri}/${path}`, summary: totalsOn(one.snapshot, madeOn, parent),
    ...(parent ? { 'parent-snapshot-id': parent['snapshot-id'] } : {}), ...(isRows ? { 'first-row-id': firstRowId, 'added-rows': nextRowId - firstRowId } : {}),
  };
  return { requirements: others, updates: updates.map((update) => (update === one ? { ...one, snapshot } : update)) };
}

/** What the client brought, and what stands beside it now without the manifests that it put together; undefined where those are gone. */
async function mergedLists(table: IcebergTable, metadata: TableMetadata, snapshot: SnapshotJson, madeOn: SnapshotJson | undefined, parent: SnapshotJson | undefined): Promise<{ own: ManifestFile[]; others: ManifestFile[] } | undefined> {
  const [asked, before, now] = await Promise.all([snapshot, madeOn, parent].map((each) => table.manifests(metadata, each)));
  const [known, kept, here] = [before!, asked!, now!].map((list) => new Set(list.map(({ path }) => path)));
  const own = asked!.filter(({ path }) => !known!.has(path));
  const replaced = before!.filter(({ path }) => !kept!.has(path));
  if (own.some(({ content, deletedFiles }) => content !== 'data' || deletedFiles > 0) || replaced.some(({ path }) => !here!.has(path))) return undefined;
  const gone = new Set(replaced.map(({ path }) => path));
  return { own, others: now!.filter(({ path }) => !gone.has(path)) };
}

function withoutRowId({ firstRowId: _, ...manifest }: ManifestFile): ManifestFile {
  return manifest;
}

/** Totals of the summary are counted from the parent's. */
function totalsOn({ summary = {} }: SnapshotJson, madeOn: SnapshotJson | undefined, parent: SnapshotJson | undefined): Record<string, string> {
  return Object.fromEntries(Object.entries(summary).map(([key, value]) => {
    if (!key.startsWith('total-')) return [key, value];
    const count = Number(value) - Number(madeOn?.summary?.[key] ?? 0) + Number(parent?.summary?.[key] ?? 0);
    return [key, Number.isFinite(count) ? String(count) : value];
  }));
}
