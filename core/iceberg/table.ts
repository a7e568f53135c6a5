import { LakeError } from '../errors';
import { readingTable } from '../fault-words';
import { keepPromise, Lru } from '../lru';
import type { DataFile } from '../scan/plan';
import { remembering, type StatsLookup } from '../scan/prune';
import type { ObjectStore } from '../storage/object-store';
import { below, insideStorage, joinPath, normalUri } from '../storage/paths';
import type { AsOf, LakeTable, Snapshot, TimelineEntry } from '../table/contract';
import { pickVersion } from '../table/versions';
import type { RowPositions } from '../values/row-positions';
import type { FileDeletes } from './delete-index';
import type { EntryColumns } from './entry-columns';
import { buildHistory } from './history';
import { readManifestList, type KnownRows, type ManifestFile } from './manifest-list';
import { currentSnapshot, mainLine, readMetadata, type KnownSnapshots, refsOf, schemaOf, snapshotById, versionOf, type PartitionSpecJson, type SnapshotJson, type TableMetadata } from './metadata';
import type { MetadataPointer } from './pointer';
import { plainReaders, type EqualityRequest, type FileColumn, type IcebergReaders, type RowsFile } from './ports';
import { fieldById, parseSchema } from './schema';
import { SnapshotFiles, type FileEntry } from './snapshot-files';

const SNAPSHOTS_KEPT = 8;

/** An Iceberg table in a folder of a store. Metadata files and manifests never change, so what was read is kept. */
export class IcebergTable implements LakeTable {
  readonly format = 'iceberg';
  readonly #metadata = new Lru<Promise<TableMetadata>>(64);
  readonly #lists = new Lru<Promise<ManifestFile[]>>(32);
  readonly #snapshots = new Lru<{ snapshot: Snapshot; files: SnapshotFiles }>(SNAPSHOTS_KEPT);
  readonly #rows = new Lru<Promise<RowPositions>>(500);
  readonly #positions = new Lru<Promise<Map<string, RowPositions>>>(16);
  readonly #matches = new Lru<Promise<RowPositions>>(2000);
  readonly #columns = new Lru<Promise<FileColumn[]>>(100_000);
  readonly #entries = new WeakMap<DataFile, { entry: () => FileEntry; deletes: FileDeletes }>();
  readonly #keys = new Map<string, string>();
  readonly #summaries = new WeakMap<ManifestFile, { schemaId: number; stats: StatsLookup }>();
  #rowsOfLists: KnownRows | undefined;
  readonly #known: KnownSnapshots = {};
  readonly #readers: IcebergReaders;

  constructor(
    readonly store: ObjectStore,
    readonly root: string,
    readonly name: string,
    readonly pointer: MetadataPointer,
    readers?: IcebergReaders,
  ) {
    this.#readers = readers ?? plainReaders(store);
  }

  /** The current metadata and where it was read. Fails with `not-found` when there is none. */
  async current(): Promise<{ path: string; metadata: TableMetadata }> {
    const path = await this.pointer.current();
    if (!path) throw new LakeError('not-found', `${this.name}: there is no Iceberg metadata under ${joinPath(this.root, 'metadata')}.`, { table: this.name });
    return { path, metadata: await this.metadataAt(path) };
  }

  metadataAt(path: string): Promise<TableMetadata> {
    return keepPromise(this.#metadata, path, () => readMetadata(this.store, path, this.#known));
  }

  /** Takes up metadata that was just written here, so that it need not be read. */
  adopt(path: string, metadata: TableMetadata): void {
    this.#metadata.set(path, Promise.resolve(metadata));
  }

  history(): Promise<TimelineEntry[]> {
    return readingTable(this.name, async () => {
      const { path, metadata } = await this.current();
      return buildHistory(metadata, path, async (uri) => this.metadataAt(this.storePath(uri, metadata)));
    });
  }

  snapshot(asOf: AsOf): Promise<Snapshot> {
    return readingTable(this.name, async () => {
      const { path, metadata } = await this.current();
      const { snapshot, isPast } = this.#pick(metadata, asOf);
      return this.#opened(path, metadata, snapshot, isPast).snapshot;
    });
  }

  /** A snapshot of this metadata with the columns of now, and its files. */
  stateOf(path: string, metadata: TableMetadata, snapshot: SnapshotJson | undefined): { snapshot: Snapshot; files: SnapshotFiles } {
    return this.#opened(path, metadata, snapshot, false);
  }

  #pick(metadata: TableMetadata, asOf: AsOf): { snapshot: SnapshotJson | undefined; isPast: boolean } {
    // Now means the columns of now, on every branch; the past has the columns it was written with.
    if (asOf.kind === 'latest') return { snapshot: currentSnapshot(metadata), isPast: false };
    if (asOf.kind === 'ref') return this.#pickRef(metadata, asOf.name);
    const line = mainLine(metadata).map(({ snapshot, version }) => ({ snapshot, version, snapshotId: String(snapshot['snapshot-id']), at: snapshot['timestamp-ms'] }));
    if (asOf.kind === 'time') {
      const found = metadata['snapshot-log']?.findLast((each) => each['timestamp-ms'] <= asOf.at);
      const snapshot = found && snapshotById(metadata, found['snapshot-id']);
      // What the log says was current counts even where it was rolled back since.
      if (snapshot) return { snapshot, isPast: true };
    }
    const byId = asOf.kind === 'number' ? (metadata.snapshots ?? []).find((each) => BigInt(each['snapshot-id']) === asOf.number) : undefined;
    return { snapshot: byId ?? pickVersion(this.name, line, asOf).snapshot, isPast: true };
  }

  #pickRef(metadata: TableMetadata, name: string): { snapshot: SnapshotJson; isPast: boolean } {
    const refs = refsOf(metadata);
    const ref = refs[name] ?? Object.entries(refs).find(([each]) => each.toLowerCase() === name.toLowerCase())?.[1];
    const snapshot = ref && snapshotById(metadata, ref['snapshot-id']);
    if (snapshot) return { snapshot, isPast: ref.type === 'tag' };
    const names = Object.keys(refs);
    throw new LakeError('not-found', `${this.name} has no branch or tag "${name}".`, { table: this.name, hint: names.length > 0 ? `It has ${names.join(', ')}.` : 'It has none yet.' });
  }

  #opened(path: string, metadata: TableMetadata, snapshot: SnapshotJson | undefined, isPast: boolean): { snapshot: Snapshot; files: SnapshotFiles } {
    const key = `${path} ${String(snapshot?.['snapshot-id'])} ${String(isPast)}`;
    const kept = this.#snapshots.get(key);
    if (kept) return kept;
    const schema = parseSchema(schemaOf(metadata, isPast ? snapshot?.['schema-id'] : undefined), this.name);
    const files = new SnapshotFiles(this, metadata, snapshot, schema);
    const spec = this.specOf(metadata, metadata['default-spec-id']);
    const order = metadata['sort-orders'].find((each) => each['order-id'] === metadata['default-sort-order-id']);
    const made: Snapshot = {
      format: 'iceberg',
      version: snapshot ? versionOf(metadata, snapshot) : 0,
      ...(snapshot ? { snapshotId: String(snapshot['snapshot-id']) } : {}),
      at: snapshot?.['timestamp-ms'] ?? metadata['last-updated-ms'],
      schema,
      partitioning: spec.fields.map((each) => ({ source: fieldById(schema.fields, each['source-id'])?.name ?? each.name, transform: each.transform, name: each.name })),
      sortedBy: (order?.fields ?? []).map((each) => fieldById(schema.fields, each['source-id'])?.name ?? '').filter((name) => name !== ''),
      properties: metadata.properties ?? {},
      files: () => readingTable(this.name, () => files.files()),
      totals: () => readingTable(this.name, () => files.totals()),
      plan: (predicate) => readingTable(this.name, () => files.plan(predicate)),
    };
    this.#snapshots.set(key, { snapshot: made, files });
    return { snapshot: made, files };
  }

  /** The manifests of a snapshot; none for a table without one. */
  async manifests(metadata: TableMetadata, snapshot: SnapshotJson | undefined): Promise<ManifestFile[]> {
    if (!snapshot) return [];
    if (snapshot['key-id'] !== undefined) throw new LakeError('unsupported', `${this.name} is encrypted, which is not supported.`, { table: this.name });
    const list = snapshot['manifest-list'];
    if (list !== undefined) {
      const path = this.storePath(list, metadata);
      return keepPromise(this.#lists, path, async () => {
        const { manifests, rows } = await readManifestList(await this.store.read(path), path, this.#rowsOfLists);
        this.#rowsOfLists = rows;
        return manifests;
      });
    }
    return (snapshot.manifests ?? []).map((path) => ({
      path, bytes: 0, specId: metadata['default-spec-id'], content: 'data', sequenceNumber: 0, minSequenceNumber: 0, addedSnapshotId: snapshot['snapshot-id'],
      addedFiles: 0, existingFiles: 0, deletedFiles: 0, addedRows: 0, existingRows: 0, deletedRows: 0, partitions: [], isUncounted: true,
    }));
  }

  entries(metadata: TableMetadata, manifest: ManifestFile): Promise<EntryColumns> {
    return this.#readers.manifest(this.storePath(manifest.path, metadata), manifest.bytes);
  }

  specOf(metadata: TableMetadata, id: number): PartitionSpecJson {
    return specOf(metadata, id);
  }

  /** What a manifest's summaries say of columns, as one schema names them; found once for all snapshots that have the manifest. */
  summaryOf(manifest: ManifestFile, schemaId: number, make: () => StatsLookup): StatsLookup {
    const known = this.#summaries.get(manifest);
    if (known?.schemaId === schemaId) return known.stats;
    const stats = remembering(make());
    this.#summaries.set(manifest, { schemaId, stats });
    return stats;
  }

  noteEntry(file: DataFile, entry: () => FileEntry, deletes: FileDeletes): void {
    this.#entries.set(file, { entry, deletes });
  }

  /** What a file of one of this table's plans stands for. */
  entryOf(file: DataFile): FileEntry {
    return this.#entries.get(file)!.entry();
  }

  deletesOf(file: DataFile): FileDeletes {
    return this.#entries.get(file)!.deletes;
  }

  /** The rows that a vector deletes, read once. */
  rows(key: string, load: () => Promise<RowPositions>): Promise<RowPositions> {
    return keepPromise(this.#rows, key, load);
  }

  positions(deletes: readonly RowsFile[]): Promise<Map<string, RowPositions>> {
    return keepPromise(this.#positions, deletes.map(({ path }) => path).sort().join('\n'), () => this.#readers.positions(deletes));
  }

  /** Asked once for each data file and set of deletes. */
  async matches(request: EqualityRequest, key: string): Promise<RowPositions[]> {
    const keyOf = (file: DataFile) => `${file.path}\n${key}`;
    const unknown = request.files.filter((file) => this.#matches.get(keyOf(file)) === undefined);
    if (unknown.length > 0) {
      const found = this.#readers.matches({ ...request, files: unknown });
      for (const [index, file] of unknown.entries()) void keepPromise(this.#matches, keyOf(file), async () => (await found)[index]!).catch(() => undefined);
      await found;
    }
    return Promise.all(request.files.map((file) => this.#matches.get(keyOf(file))!));
  }

  async columnsOf(files: readonly DataFile[]): Promise<FileColumn[][]> {
    const unknown = files.filter((file) => this.#columns.get(file.path) === undefined);
    if (unknown.length > 0) {
      const found = this.#readers.columns(unknown);
      for (const [index, file] of unknown.entries()) void keepPromise(this.#columns, file.path, async () => (await found)[index]!).catch(() => undefined);
      await found;
    }
    return Promise.all(files.map((file) => this.#columns.get(file.path)!));
  }

  /** Short, and the same for the same text. */
  shortKey(text: string): string {
    const known = this.#keys.get(text);
    if (known) return known;
    const made = `d${this.#keys.size}`;
    this.#keys.set(text, made);
    return made;
  }

  /**
   * The path in our store of an absolute location from the metadata. A table that was moved as a whole still names
   * its old place: what lay under the old location is looked for under the folder we found the table in.
   */
  storePath(uri: string, metadata: TableMetadata): string {
    const inside = insideStorage(this.store.uri, uri);
    if (inside !== undefined && below(this.root, inside) !== undefined) return inside;
    const moved = below(normalUri(metadata.location).replace(/\/$/, ''), normalUri(uri));
    if (moved !== undefined) return joinPath(this.root, moved);
    if (inside !== undefined) return inside;
    throw new LakeError('unsupported', `${this.name} names a file outside its storage: ${uri}.`, { table: this.name, path: uri });
  }
}

export function specOf(metadata: TableMetadata, id: number): PartitionSpecJson {
  return metadata['partition-specs'].find((spec) => spec['spec-id'] === id) ?? { 'spec-id': id, fields: [] };
}
