import { LakeError } from '../errors';
import { keepPromise, Lru } from '../lru';
import { planScan, totalsOf, type DataFile } from '../scan/plan';
import type { Predicate } from '../scan/predicate';
import { remembering, type ColumnStats, type StatsLookup } from '../scan/prune';
import { findField, type Field, type TableSchema } from '../schema/types';
import type { ObjectStore } from '../storage/object-store';
import { below, joinPath } from '../storage/paths';
import type { AsOf, LakeTable, Snapshot, TimelineEntry } from '../table/contract';
import { pickVersion } from '../table/versions';
import { isFloating, type Value } from '../values/value';
import { buildHistory } from './history';
import { readManifest, readManifestList, type IcebergDataFile, type ManifestEntry, type ManifestFile } from './manifest';
import { currentSnapshot, mainLine, readMetadata, sameId, schemaOf, type PartitionSpecJson, type SnapshotJson, type TableMetadata } from './metadata';
import type { MetadataPointer } from './pointer';
import { fieldById, parseSchema } from './schema';
import { decodeValue } from './single-value';
import { parseTransform, partitionText, resultType, sourceStats, type Transform } from './transforms';

/** An Iceberg table in a folder of a store. Metadata files and manifests never change, so what was read is kept. */
export class IcebergTable implements LakeTable {
  readonly format = 'iceberg';
  readonly #metadata = new Lru<TableMetadata>(64);
  readonly #manifests = new Map<string, Promise<ManifestEntry[]>>();
  readonly #files = new Lru<Promise<DataFile[]>>(8);

  constructor(
    readonly store: ObjectStore,
    readonly root: string,
    readonly name: string,
    readonly pointer: MetadataPointer,
  ) {}

  /** The current metadata and where it was read. Fails with `not-found` when there is none. */
  async current(): Promise<{ path: string; metadata: TableMetadata }> {
    const path = await this.pointer.current();
    if (!path) throw new LakeError('not-found', `${this.name}: there is no Iceberg metadata under ${joinPath(this.root, 'metadata')}.`, { table: this.name });
    return { path, metadata: await this.metadataAt(path) };
  }

  async metadataAt(path: string): Promise<TableMetadata> {
    const kept = this.#metadata.get(path);
    if (kept) return kept;
    const metadata = await readMetadata(this.store, path);
    this.#metadata.set(path, metadata);
    return metadata;
  }

  async history(): Promise<TimelineEntry[]> {
    const { path, metadata } = await this.current();
    return buildHistory(metadata, path, async (uri) => this.metadataAt(this.storePath(uri, metadata)));
  }

  async snapshot(asOf: AsOf): Promise<Snapshot> {
    const { metadata } = await this.current();
    const line = mainLine(metadata).map(({ snapshot, version }) => ({ snapshot, version, snapshotId: String(snapshot['snapshot-id']), at: snapshot['timestamp-ms'] }));
    if (line.length === 0 && asOf.kind === 'latest') return this.#emptySnapshot(metadata);
    const others = (metadata.snapshots ?? [])
      .filter((snapshot) => !line.some((each) => sameId(each.snapshot['snapshot-id'], snapshot['snapshot-id'])))
      .map((snapshot) => ({ snapshot, version: snapshot['sequence-number'] ?? -1, snapshotId: String(snapshot['snapshot-id']), at: snapshot['timestamp-ms'] }));
    const byId = asOf.kind === 'number' ? others.find((each) => each.snapshotId === asOf.number.toString()) : undefined;
    const picked = byId ?? pickVersion(this.name, line, asOf);
    // Now means the columns of now; the past has the columns it was written with.
    const isNow = sameId(picked.snapshot['snapshot-id'], currentSnapshot(metadata)?.['snapshot-id']) && asOf.kind === 'latest';
    return this.#snapshotOf(metadata, picked.snapshot, picked.version, isNow ? undefined : picked.snapshot['schema-id']);
  }

  async #emptySnapshot(metadata: TableMetadata): Promise<Snapshot> {
    return this.#snapshotOf(metadata, { 'snapshot-id': -1, 'timestamp-ms': metadata['last-updated-ms'] }, 0, undefined);
  }

  #snapshotOf(metadata: TableMetadata, snapshot: SnapshotJson, version: number, schemaId: number | undefined): Snapshot {
    const schema = parseSchema(schemaOf(metadata, schemaId), this.name);
    const spec = specOf(metadata, metadata['default-spec-id']);
    const order = metadata['sort-orders'].find((each) => each['order-id'] === metadata['default-sort-order-id']);
    const files = () => this.#filesOf(metadata, snapshot, schema);
    return {
      format: 'iceberg',
      version,
      ...(Number(snapshot['snapshot-id']) === -1 ? {} : { snapshotId: String(snapshot['snapshot-id']) }),
      at: snapshot['timestamp-ms'],
      schema,
      partitioning: spec.fields.map((each) => ({ source: fieldById(schema.fields, each['source-id'])?.name ?? each.name, transform: each.transform, name: each.name })),
      sortedBy: (order?.fields ?? []).map((each) => fieldById(schema.fields, each['source-id'])?.name ?? '').filter((name) => name !== ''),
      properties: metadata.properties ?? {},
      files,
      totals: async () => totalsOf(await files()),
      plan: async (predicate: Predicate) => planScan({ kind: 'parquet', match: 'field-id' }, schema.fields, await files(), predicate),
    };
  }

  #filesOf(metadata: TableMetadata, snapshot: SnapshotJson, schema: TableSchema): Promise<DataFile[]> {
    return keepPromise(this.#files, `${snapshot['snapshot-id']}/${schema.id}`, () => this.#readFiles(metadata, snapshot, schema));
  }

  async #readFiles(metadata: TableMetadata, snapshot: SnapshotJson, schema: TableSchema): Promise<DataFile[]> {
    const manifests = await this.manifests(metadata, snapshot);
    const refused = manifests.find((each) => each.content === 'deletes' && each.addedFiles + each.existingFiles > 0);
    if (refused) {
      throw new LakeError('unsupported', `${this.name}, snapshot ${snapshot['snapshot-id']}, has delete files (manifest ${refused.path}), which are not supported for reading.`, { table: this.name, path: refused.path });
    }
    const lists = await Promise.all(manifests.map((manifest) => this.entries(metadata, manifest)));
    return lists.flatMap((entries, index) => {
      const spec = specOf(metadata, manifests[index]!.specId);
      return entries.filter((entry) => entry.status !== 'deleted').map((entry) => this.#dataFile(metadata, entry.file, spec, schema));
    });
  }

  /** The manifests of a snapshot; none for a table without one. */
  async manifests(metadata: TableMetadata, snapshot: SnapshotJson | undefined): Promise<ManifestFile[]> {
    if (!snapshot) return [];
    const list = snapshot['manifest-list'];
    if (list !== undefined) {
      const path = this.storePath(list, metadata);
      return readManifestList(await this.store.read(path), path);
    }
    return (snapshot.manifests ?? []).map((path) => ({
      path, bytes: 0, specId: metadata['default-spec-id'], content: 'data', sequenceNumber: 0, minSequenceNumber: 0, addedSnapshotId: snapshot['snapshot-id'],
      addedFiles: 0, existingFiles: 0, deletedFiles: 0, addedRows: 0, existingRows: 0, deletedRows: 0, partitions: [],
    }));
  }

  entries(metadata: TableMetadata, manifest: ManifestFile): Promise<ManifestEntry[]> {
    const path = this.storePath(manifest.path, metadata);
    const kept = this.#manifests.get(path);
    if (kept) return kept;
    const entries = this.store.read(path).then((bytes) => readManifest(bytes, manifest, specOf(metadata, manifest.specId)));
    this.#manifests.set(path, entries);
    entries.catch(() => this.#manifests.delete(path));
    return entries;
  }

  #dataFile(metadata: TableMetadata, file: IcebergDataFile, spec: PartitionSpecJson, schema: TableSchema): DataFile {
    if (file.format !== 'PARQUET') throw new LakeError('unsupported', `${this.name} has a data file in ${file.format}: ${file.path}. Parquet is supported.`, { table: this.name, path: file.path });
    const parts = spec.fields.map((each, index) => {
      const source = fieldById(schema.fields, each['source-id']);
      const transform = parseTransform(each.transform);
      return source && { name: each.name, source, transform, value: typedPartition(transform, source, file.partition[index] ?? null) };
    }).filter((part) => part !== undefined);
    return {
      path: this.storePath(file.path, metadata),
      bytes: file.bytes,
      rows: file.rows,
      partition: Object.fromEntries(parts.map((part) => [part.name, partitionText(part.transform, part.source.type, part.value)])),
      constants: {},
      partitionStats: remembering(partitionLookup(parts, schema.fields)),
      stats: remembering(metricsLookup(file, schema.fields)),
    };
  }

  /**
   * The path in our store of an absolute location from the metadata. A table that was moved as a whole still names
   * its old place: what lay under the old location is looked for under the folder we found the table in.
   */
  storePath(uri: string, metadata: TableMetadata): string {
    const inside = below(this.store.uri, normalUri(uri));
    if (inside !== undefined && below(this.root, inside) !== undefined) return inside;
    const moved = below(normalUri(metadata.location).replace(/\/$/, ''), normalUri(uri));
    if (moved !== undefined) return joinPath(this.root, moved);
    if (inside !== undefined) return inside;
    throw new LakeError('unsupported', `${this.name} names a file outside its storage: ${uri}.`, { table: this.name, path: uri });
  }
}

/** `file:/x`, `file:///x` and `/x` are one place. */
function normalUri(uri: string): string {
  const local = /^(?:file:)?\/+/.exec(uri);
  return local ? `file:///${uri.slice(local[0].length)}` : uri;
}

export function specOf(metadata: TableMetadata, id: number): PartitionSpecJson {
  return metadata['partition-specs'].find((spec) => spec['spec-id'] === id) ?? { 'spec-id': id, fields: [] };
}

/** Avro gives decimals as bytes and some writers ints for longs; values take the type that the transform yields. */
function typedPartition(transform: Transform, source: Field, value: Value | null): Value | null {
  const type = resultType(transform, source.type);
  if (value instanceof Uint8Array && type.kind === 'decimal') return decodeValue(type, value) ?? null;
  if (typeof value === 'number' && ['long', 'timestamp', 'timestamptz', 'time'].includes(type.kind)) return BigInt(value);
  if (typeof value === 'bigint' && ['int', 'date'].includes(type.kind)) return Number(value);
  return value;
}

function partitionLookup(parts: { source: Field; transform: Transform; value: Value | null }[], fields: readonly Field[]): StatsLookup {
  return (column) => {
    const wanted = fieldAt(fields, column);
    const known = parts.filter((part) => part.source.id === wanted?.id).map((part) => sourceStats(part.transform, part.source.type, part.value));
    return known.reduce<ColumnStats | undefined>((all, each) => (each ? { ...all, ...each } : all), undefined);
  };
}

function metricsLookup(file: IcebergDataFile, fields: readonly Field[]): StatsLookup {
  return (column) => {
    const wanted = fieldAt(fields, column);
    if (wanted?.id === undefined) return undefined;
    const { id, type } = wanted;
    const lower = file.lower.get(id);
    const upper = file.upper.get(id);
    const stats: ColumnStats = { mayHoldNaN: isFloating(type) && file.nanCounts.get(id) !== 0 };
    const nulls = file.nullCounts.get(id);
    const values = file.valueCounts.get(id);
    if (nulls !== undefined) stats.nullCount = nulls;
    if (values !== undefined) stats.rowCount = values;
    const low = lower && decodeValue(type, lower);
    const high = upper && decodeValue(type, upper);
    if (low !== undefined) stats.lower = low;
    if (high !== undefined) stats.upper = high;
    return stats;
  };
}

function fieldAt(fields: readonly Field[], column: readonly string[]): Field | undefined {
  const [first, ...rest] = column;
  const found = first === undefined ? undefined : findField(fields, first);
  if (!found || rest.length === 0) return found;
  return found.type.kind === 'struct' ? fieldAt(found.type.fields, rest) : undefined;
}
