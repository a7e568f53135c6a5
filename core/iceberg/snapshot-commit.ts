/** One new snapshot: files that come and go, as manifests, a manifest list and metadata; rebased on whatever was committed meanwhile. */
import { AlreadyLoaded, LakeError } from '../errors';
import type { Predicate } from '../scan/predicate';
import { joinPath } from '../storage/paths';
import type { CommitTime } from '../table/contract';
import { commitMetadata, isWritable, type CommitPorts } from './commit';
import { checkConflicts, type ReadState } from './conflicts';
import { manifestOf, partitionFieldsOf, summariesOf } from './data-files';
import { entriesOf, writeManifest, type IcebergDataFile, type ManifestEntry } from './manifest';
import { writeManifestList, type ManifestFile } from './manifest-list';
import { mergeManifests } from './manifest-merge';
import { refsOf, snapshotById, versionOf, type PartitionSpecJson, type SnapshotId, type SnapshotJson, type TableMetadata } from './metadata';
import { textAt } from './entry-columns';
import { summaryOf, type FileCounts } from './snapshot-summary';
import { specOf, type IcebergTable } from './table';
import type { TableUpdate } from './updates';

export type SnapshotOperation = 'append' | 'overwrite' | 'delete' | 'replace';

export interface NewFile {
  file: IcebergDataFile;
  specId: number;
  /** Of a file that was there before and only moves, so that its rows keep their age. */
  sequenceNumber?: number;
}

export interface SnapshotChange {
  /** `main` where absent. */
  branch?: string;
  /** Worked out from the files where absent. */
  operation?: SnapshotOperation;
  added?: readonly NewFile[];
  /** Delete files. */
  addedDeletes?: readonly NewFile[];
  /** Files that go, as the table names them, data and delete files. */
  removed?: readonly { file: IcebergDataFile; specId: number }[];
  /** More for the summary. */
  summary?: Record<string, string>;
  /** Of a load that must not happen twice: no snapshot may have it in its summary, and this one gets it. */
  loadId?: string;
  /** What the change was worked out from; absent for one that is right whatever came between. */
  read?: ReadState;
  /** New manifests in place of these, with the same live files. */
  rewrite?: { removed: ReadonlySet<string>; entries: readonly { spec: PartitionSpecJson; content: ManifestFile['content']; entries: readonly ManifestEntry[] }[] };
  predicate?: Predicate;
}

export interface SnapshotResult {
  snapshot: SnapshotJson;
  metadata: TableMetadata;
  path: string;
}

/** Entry of a snapshot's summary: what was loaded with it. */
export const LOAD_ID = 'load-id';

/** The snapshot, of those that are kept, in which a load came. */
export function snapshotOfLoad(metadata: TableMetadata, loadId: string): SnapshotJson | undefined {
  return metadata.snapshots?.find((each) => each.summary?.[LOAD_ID] === loadId);
}

/** Returns undefined when there was nothing to do. */
export async function commitSnapshot(table: IcebergTable, change: SnapshotChange, ports: CommitPorts): Promise<SnapshotResult> {
  const writer = new SnapshotWriter(table, change, ports);
  try {
    const { path, metadata } = await commitMetadata(table, (base, now) => writer.updates(base, now), ports);
    await writer.tidy();
    return { path, metadata, snapshot: snapshotById(metadata, writer.snapshotId)! };
  } catch (error) {
    // Lost for certain, so nothing names what was written.
    if (error instanceof LakeError && (error.kind === 'conflict' || error.kind === 'bad-request')) await writer.undo();
    throw error;
  }
}

class SnapshotWriter {
  readonly snapshotId: SnapshotId;
  /** Manifests of new files are written once; a retry only lists them again. */
  readonly #written = new Map<string, ManifestFile>();
  /** Everything that was written, by path in the store. */
  readonly #paths = new Set<string>();
  readonly #putting: Promise<void>[] = [];
  #kept = new Set<string>();
  #count = 0;
  readonly #uuid: string;

  constructor(
    readonly table: IcebergTable,
    readonly change: SnapshotChange,
    readonly ports: CommitPorts,
  ) {
    this.snapshotId = ports.ids.snapshotId();
    this.#uuid = ports.ids.uuid();
  }

  async updates(base: TableMetadata, now: CommitTime): Promise<TableUpdate[]> {
    const { table, change, ports } = this;
    isWritable(table, base);
    const branch = change.branch ?? 'main';
    const ref = refsOf(base)[branch];
    if (!ref && branch !== 'main') throw new LakeError('not-found', `${table.name} has no branch "${branch}".`, { table: table.name });
    if (ref && ref.type !== 'branch') throw new LakeError('bad-request', `"${branch}" of ${table.name} is a tag; rows are written to branches.`, { table: table.name });
    const parent = ref && snapshotById(base, ref['snapshot-id']);
    const loaded = change.loadId === undefined ? undefined : snapshotOfLoad(base, change.loadId);
    if (loaded) throw new AlreadyLoaded(table.name, versionOf(base, loaded));
    if (change.read) await checkConflicts(table, base, parent, change.read);
    const sequenceNumber = (base['last-sequence-number'] ?? 0) + 1;
    const before = await table.manifests(base, parent);
    const removedCounts: FileCounts = { data: [], deletes: [] };
    const kept = await this.#kepts(base, before, sequenceNumber, removedCounts);
    const made = [...await this.#newManifests(base, 'data', change.added ?? [], sequenceNumber), ...await this.#newManifests(base, 'deletes', change.addedDeletes ?? [], sequenceNumber), ...await this.#rewritten(base, sequenceNumber)];
    const merged = await mergeManifests(base.properties ?? {}, [...made, ...kept], (manifests) => this.#merge(base, manifests, sequenceNumber));
    const { manifests, nextRowId } = withRowIds(merged, base);
    const list = await this.#writeList(manifests, base, parent, sequenceNumber);
    await this.#putAll();
    const added: FileCounts = { data: (change.added ?? []).map(({ file }) => file), deletes: (change.addedDeletes ?? []).map(({ file }) => file) };
    const operation = change.operation ?? operationOf(added, removedCounts);
    const snapshot: SnapshotJson = {
      'sequence-number': sequenceNumber,
      'snapshot-id': this.snapshotId,
      ...(parent ? { 'parent-snapshot-id': parent['snapshot-id'] } : {}),
      'timestamp-ms': now,
      summary: { operation, 'committed-by': ports.who, 'engine-name': ports.engine ?? 'Kind Harbor', ...summaryOf(parent?.summary ?? {}, added, removedCounts), ...(change.loadId === undefined ? {} : { [LOAD_ID]: change.loadId }), ...change.summary },
      'manifest-list': `${table.store.uri}/${list}`,
      'schema-id': base['current-schema-id'],
      ...(base['format-version'] >= 3 ? { 'first-row-id': base['next-row-id'] ?? 0, 'added-rows': nextRowId - (base['next-row-id'] ?? 0) } : {}),
    };
    const { 'snapshot-id': _before, ...retention } = ref ?? { type: 'branch' as const, 'snapshot-id': 0 };
    return [{ action: 'add-snapshot', snapshot }, { action: 'set-snapshot-ref', 'ref-name': branch, ...retention, 'snapshot-id': this.snapshotId }];
  }

  /** The parent's manifests, those with files that go made anew without them. */
  async #kepts(base: TableMetadata, before: readonly ManifestFile[], sequenceNumber: number, counts: FileCounts): Promise<ManifestFile[]> {
    const { removed = [], rewrite } = this.change;
    const left = new Map(removed.map((each) => [keyOf(each.file), each]));
    const kept: ManifestFile[] = [];
    for (const manifest of before) {
      if (rewrite?.removed.has(manifest.path)) continue;
      // What a snapshot removed is told by that snapshot's manifests alone.
      const isDead = manifest.addedFiles + manifest.existingFiles === 0 && !manifest.isUncounted;
      if (isDead) continue;
      const mayHold = left.size > 0 && [...left.values()].some((each) => each.specId === manifest.specId && (each.file.content === 0) === (manifest.content === 'data'));
      const rest = mayHold ? await this.#without(base, manifest, left, sequenceNumber, counts) : manifest;
      if (rest) kept.push(rest);
    }
    if (left.size > 0) {
      const [first] = left.values();
      throw new LakeError('conflict', `${this.table.name}: ${first!.file.path} was removed by somebody else meanwhile.`, { table: this.table.name });
    }
    if (rewrite) {
      const there = new Set(before.map((each) => each.path));
      if ([...rewrite.removed].some((path) => !there.has(path))) throw new LakeError('conflict', `${this.table.name}: a manifest was rewritten by somebody else meanwhile.`, { table: this.table.name });
    }
    return kept;
  }

  /** The manifest without the files; itself where it has none of them. Files that were found are taken off `left`. */
  async #without(base: TableMetadata, manifest: ManifestFile, left: Map<string, { file: IcebergDataFile }>, sequenceNumber: number, counts: FileCounts): Promise<ManifestFile | undefined> {
    const columns = await this.table.entries(base, manifest);
    const has = (row: number) => columns.status[row] !== 2 && left.has(`${textAt(columns, columns.path[row]!)}@${Number.isNaN(columns.contentOffset[row]!) ? '' : columns.contentOffset[row]!}`);
    let found = false;
    for (let row = 0; row < columns.count && !found; row++) found = has(row);
    if (!found) return manifest;
    const spec = specOf(base, manifest.specId);
    const entries = entriesOf(columns, manifest, spec).flatMap((entry): ManifestEntry[] => {
      if (entry.status === 'deleted') return [];
      const key = keyOf(entry.file);
      if (!left.has(key)) return [{ ...entry, status: 'existing' }];
      left.delete(key);
      (entry.file.content === 0 ? counts.data : counts.deletes).push(entry.file);
      return [{ ...entry, status: 'deleted', snapshotId: this.snapshotId }];
    });
    return this.#write(base, spec, manifest.content, entries, sequenceNumber);
  }

  async #newManifests(base: TableMetadata, content: ManifestFile['content'], files: readonly NewFile[], sequenceNumber: number): Promise<ManifestFile[]> {
    const manifests: ManifestFile[] = [];
    for (const specId of new Set(files.map((each) => each.specId))) {
      const key = `${content} ${specId}`;
      const known = this.#written.get(key);
      const entries = files.filter((each) => each.specId === specId).map((each): ManifestEntry => ({
        status: 'added', snapshotId: this.snapshotId, sequenceNumber: each.sequenceNumber ?? sequenceNumber, ...(each.sequenceNumber === undefined ? {} : { hasOwnSequence: true }), file: each.file,
      }));
      const { partitions, path, bytes } = known ?? await this.#write(base, specOf(base, specId), content, entries, sequenceNumber);
      const made = manifestOf(entries, { path, bytes, specId, content, sequenceNumber, addedSnapshotId: this.snapshotId, partitions });
      this.#written.set(key, made);
      manifests.push(made);
    }
    return manifests;
  }

  async #rewritten(base: TableMetadata, sequenceNumber: number): Promise<ManifestFile[]> {
    const manifests: ManifestFile[] = [];
    for (const { spec, content, entries } of this.change.rewrite?.entries ?? []) manifests.push(await this.#write(base, spec, content, entries.map((entry) => ({ ...entry, status: 'existing' })), sequenceNumber));
    return manifests;
  }

  /** Several manifests of one spec and content as one; added entries keep being added only where they are this snapshot's. */
  async #merge(base: TableMetadata, manifests: readonly ManifestFile[], sequenceNumber: number): Promise<ManifestFile> {
    await this.#putAll();
    const spec = specOf(base, manifests[0]!.specId);
    const entries: ManifestEntry[] = [];
    for (const manifest of manifests) {
      for (const entry of entriesOf(await this.table.entries(base, manifest), manifest, spec)) {
        const isOwn = String(entry.snapshotId) === String(this.snapshotId);
        if (entry.status === 'deleted' && !isOwn) continue;
        entries.push(isOwn ? entry : { ...entry, status: 'existing' });
      }
    }
    return this.#write(base, spec, manifests[0]!.content, entries, sequenceNumber);
  }

  async #write(base: TableMetadata, spec: PartitionSpecJson, content: ManifestFile['content'], entries: readonly ManifestEntry[], sequenceNumber: number): Promise<ManifestFile> {
    const { table, ports } = this;
    const json = base.schemas.find((each) => (each['schema-id'] ?? 0) === base['current-schema-id'])!;
    const partitionFields = partitionFieldsOf(base, spec, table.name);
    const path = joinPath(table.root, 'metadata', `${this.#uuid}-m${this.#count++}.avro`);
    const header = { schemaJson: JSON.stringify(json), schemaId: json['schema-id'] ?? 0, spec, partitionFields, formatVersion: base['format-version'], content };
    const bytes = await writeManifest(entries, header, syncMarker(ports));
    this.#put(path, bytes);
    return manifestOf(entries, {
      path: `${table.store.uri}/${path}`, bytes: bytes.length, specId: spec['spec-id'], content, sequenceNumber, addedSnapshotId: this.snapshotId,
      partitions: summariesOf(partitionFields, entries.filter((entry) => entry.status !== 'deleted' || entries.length === 1).map(({ file }) => file.partition)),
    });
  }

  async #writeList(manifests: readonly ManifestFile[], base: TableMetadata, parent: SnapshotJson | undefined, sequenceNumber: number): Promise<string> {
    const { table, ports } = this;
    const path = joinPath(table.root, 'metadata', `snap-${this.snapshotId}-${this.#count++}-${this.#uuid}.avro`);
    const header = { 'snapshot-id': String(this.snapshotId), 'parent-snapshot-id': String(parent?.['snapshot-id'] ?? 'null'), 'sequence-number': String(sequenceNumber), ...(base['format-version'] >= 3 ? { 'first-row-id': String(base['next-row-id'] ?? 0) } : {}) };
    this.#put(path, await writeManifestList(manifests, header, base['format-version'], syncMarker(ports)));
    this.#kept = new Set([path, ...manifests.map((each) => table.storePath(each.path, base))]);
    return path;
  }

  /** Files that nothing names yet are written side by side. */
  #put(path: string, bytes: Uint8Array): void {
    this.#paths.add(path);
    const putting = this.table.store.put(path, bytes);
    putting.catch(() => undefined);
    this.#putting.push(putting);
  }

  /** All that was put is there. */
  async #putAll(): Promise<void> {
    // Others may be put while this waits, so what was put is never taken off the list.
    await Promise.all(this.#putting);
  }

  /** Lists and manifests of attempts that lost. */
  async tidy(): Promise<void> {
    for (const path of this.#paths) if (!this.#kept.has(path)) await this.table.store.delete(path).catch(() => undefined);
  }

  async undo(): Promise<void> {
    await Promise.allSettled(this.#putting);
    for (const path of this.#paths) await this.table.store.delete(path).catch(() => undefined);
  }
}

/** A vector is one blob of several in its file. */
export function keyOf({ path, contentOffset }: IcebergDataFile): string {
  return `${path}@${contentOffset ?? ''}`;
}

/** Data manifests without a first row id get one ("First Row ID Assignment"); their rows without ids are counted on from it. */
export function withRowIds(manifests: readonly ManifestFile[], base: TableMetadata): { manifests: ManifestFile[]; nextRowId: number } {
  let next = base['next-row-id'] ?? 0;
  if (base['format-version'] < 3) return { manifests: [...manifests], nextRowId: next };
  const numbered = manifests.map((manifest) => {
    if (manifest.content !== 'data' || manifest.firstRowId !== undefined) return manifest;
    const firstRowId = next;
    next += manifest.addedRows + manifest.existingRows;
    return { ...manifest, firstRowId };
  });
  return { manifests: numbered, nextRowId: next };
}

function operationOf(added: FileCounts, removed: FileCounts): SnapshotOperation {
  const adds = added.data.length > 0;
  const takes = removed.data.length + added.deletes.length > 0;
  return adds && takes ? 'overwrite' : takes ? 'delete' : 'append';
}

export function syncMarker({ ids }: Pick<CommitPorts, 'ids'>): Uint8Array {
  return Uint8Array.from(ids.uuid().replaceAll('-', '').match(/../g)!, (pair) => parseInt(pair, 16));
}

