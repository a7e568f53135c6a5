/** Data files and manifests put together (common practice: bin-packing to a target size); what is read stays the same. */
import type { DataFile } from '../scan/plan';
import { groupKey } from './delete-index';
import type { CommitPorts } from './commit';
import { entriesOf, type ManifestEntry } from './manifest';
import type { ManifestFile } from './manifest-list';
import { binsOf } from './manifest-merge';
import { refsOf, snapshotById, type SnapshotJson } from './metadata';
import { commitSnapshot } from './snapshot-commit';
import { specOf, type IcebergTable } from './table';

export interface RewriteWish {
  targetBytes: number;
  /** Files that need nothing are written anew too, as for another order of rows. */
  everyFile: boolean;
  /** Only files of which rows are deleted. */
  onlyDeletes: boolean;
}

export interface RewriteGroup {
  files: DataFile[];
  bytes: number;
}

/** A file of at least so much of the target is left alone. */
const FULL = 0.75;
/** A file of which so much is deleted is written anew. */
const DELETED = 0.1;

/** Files of one partition that become fewer. */
export function planRewrite(table: IcebergTable, files: readonly DataFile[], specId: number, { targetBytes, everyFile, onlyDeletes }: RewriteWish): RewriteGroup[] {
  const partitions = new Map<string, DataFile[]>();
  for (const file of files) {
    const { spec, file: entry } = table.entryOf(file);
    // Files of an earlier partitioning are divided anew, whatever their partition was.
    const key = spec['spec-id'] === specId ? groupKey(specId, entry.partition) : `earlier ${spec['spec-id']} ${groupKey(spec['spec-id'], entry.partition)}`;
    partitions.set(key, [...(partitions.get(key) ?? []), file]);
  }
  const groups: RewriteGroup[] = [];
  for (const [key, all] of partitions) {
    const hasDeletes = (file: DataFile) => file.rowFilter !== undefined;
    const manyDeletes = (file: DataFile) => file.rowFilter !== undefined && file.rowFilter.count >= DELETED * (file.rowFilter.physicalRows ?? 0);
    // What is not Parquet is read by way of copies, so it is better written anew.
    const isOther = (file: DataFile) => file.format !== undefined;
    const chosen = onlyDeletes ? all.filter(hasDeletes) : everyFile || key.startsWith('earlier') ? all : all.filter((file) => file.bytes < FULL * targetBytes || manyDeletes(file) || isOther(file));
    for (const bin of packed(chosen, targetBytes)) {
      const alone = bin.length === 1 && !everyFile && !manyDeletes(bin[0]!) && !isOther(bin[0]!) && !(onlyDeletes && hasDeletes(bin[0]!)) && !key.startsWith('earlier');
      if (bin.length > 0 && !alone) groups.push({ files: bin, bytes: bin.reduce((sum, file) => sum + file.bytes, 0) });
    }
  }
  return groups;
}

function packed(files: readonly DataFile[], targetBytes: number): DataFile[][] {
  const bins: { files: DataFile[]; bytes: number }[] = [];
  for (const file of [...files].sort((a, b) => b.bytes - a.bytes)) {
    const bin = bins.find((each) => each.bytes + file.bytes <= targetBytes) ?? bins[bins.push({ files: [], bytes: 0 }) - 1]!;
    bin.files.push(file);
    bin.bytes += file.bytes;
  }
  return bins.map((bin) => bin.files);
}

export interface ManifestRewrite {
  before: number;
  after: number;
  snapshot: SnapshotJson | undefined;
}

/** Manifests of one partition spec and kind put together up to the target, their entries in the order of partitions. */
export async function rewriteManifests(table: IcebergTable, targetBytes: number, ports: CommitPorts, run: boolean): Promise<ManifestRewrite> {
  const { metadata } = await table.current();
  const head = snapshotById(metadata, refsOf(metadata).main?.['snapshot-id']);
  const manifests = await table.manifests(metadata, head);
  const groups = new Map<string, ManifestFile[]>();
  for (const manifest of manifests) {
    const key = `${manifest.content} ${manifest.specId}`;
    groups.set(key, [...(groups.get(key) ?? []), manifest]);
  }
  const removed = new Set<string>();
  const entries: { spec: ReturnType<typeof specOf>; content: ManifestFile['content']; entries: ManifestEntry[] }[] = [];
  let after = 0;
  for (const group of groups.values()) {
    const bins = binsOf(group, targetBytes);
    after += bins.length;
    if (bins.length === group.length) continue;
    const spec = specOf(metadata, group[0]!.specId);
    for (const manifest of group) removed.add(manifest.path);
    if (!run) continue;
    const live: ManifestEntry[] = [];
    for (const manifest of group) live.push(...entriesOf(await table.entries(metadata, manifest), manifest, spec).filter((entry) => entry.status !== 'deleted'));
    // Neighbouring partitions in one manifest, so that its summary tells more.
    live.sort((a, b) => (groupKey(0, a.file.partition) < groupKey(0, b.file.partition) ? -1 : 1));
    const each = Math.ceil(live.length / bins.length);
    for (let from = 0; from < live.length; from += each) entries.push({ spec, content: group[0]!.content, entries: live.slice(from, from + each) });
  }
  if (!run || removed.size === 0) return { before: manifests.length, after, snapshot: undefined };
  const { snapshot } = await commitSnapshot(table, { operation: 'replace', rewrite: { removed, entries }, summary: { 'manifests-replaced': String(removed.size), 'manifests-created': String(entries.length), 'manifests-kept': String(manifests.length - removed.size) } }, ports);
  return { before: manifests.length, after, snapshot };
}
