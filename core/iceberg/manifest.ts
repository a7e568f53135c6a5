/** Manifests and manifest lists (Iceberg specification, "Manifests", "Manifest Lists"). Fields are known by id; names vary between writers. */
import { LakeError } from '../errors';
import type { Field } from '../schema/types';
import type { Value } from '../values/value';
import { readAvro, writeAvro, type AvroSchema } from './avro';
import type { PartitionSpecJson, SnapshotId } from './metadata';
import { avroPartitionFields, dataFileSchema, ENTRY_SCHEMA, MANIFEST_LIST_SCHEMA, toAvroValue } from './manifest-schemas';

export interface ManifestFile {
  path: string;
  bytes: number;
  specId: number;
  content: 'data' | 'deletes';
  sequenceNumber: number;
  minSequenceNumber: number;
  addedSnapshotId: SnapshotId;
  addedFiles: number;
  existingFiles: number;
  deletedFiles: number;
  addedRows: number;
  existingRows: number;
  deletedRows: number;
  partitions: FieldSummary[];
}

export interface FieldSummary {
  containsNull: boolean;
  containsNaN?: boolean;
  lower?: Uint8Array;
  upper?: Uint8Array;
}

export type EntryStatus = 'existing' | 'added' | 'deleted';
const STATUS: EntryStatus[] = ['existing', 'added', 'deleted'];

export interface ManifestEntry {
  status: EntryStatus;
  snapshotId: SnapshotId;
  sequenceNumber: number;
  file: IcebergDataFile;
}

export interface IcebergDataFile {
  content: number;
  path: string;
  format: string;
  /** Values in the order of the partition spec's fields. */
  partition: (Value | null)[];
  rows: number;
  bytes: number;
  columnBytes: Map<number, number>;
  valueCounts: Map<number, number>;
  nullCounts: Map<number, number>;
  nanCounts: Map<number, number>;
  lower: Map<number, Uint8Array>;
  upper: Map<number, Uint8Array>;
  sortOrderId?: number;
}

type Row = Record<string, unknown>;

/** Reads record fields by their field id. */
class ById {
  readonly #names: Map<number, string>;
  constructor(readonly schema: AvroSchema) {
    this.#names = new Map((schema.fields ?? []).map((each) => [each['field-id'] ?? -1, each.name]));
  }

  get(row: Row, id: number): unknown {
    const name = this.#names.get(id);
    return name === undefined ? undefined : row[name];
  }

  number(row: Row, id: number, otherwise = 0): number {
    const value = this.get(row, id);
    return value === null || value === undefined ? otherwise : Number(value);
  }

  /** The record schema of a field whose type is a record, or a union with one. */
  inner(id: number): ById {
    const type = this.schema.fields?.find((each) => each['field-id'] === id)?.type;
    const record = (Array.isArray(type) ? type : [type]).find((each) => (each as AvroSchema | undefined)?.type === 'record');
    return new ById((record as AvroSchema | undefined) ?? { type: 'record', fields: [] });
  }
}

function idOf(value: unknown): SnapshotId {
  const big = BigInt(value as bigint);
  return Number.isSafeInteger(Number(big)) ? Number(big) : big;
}

export async function readManifestList(bytes: Uint8Array, path: string): Promise<ManifestFile[]> {
  const file = await readAvro(bytes, path);
  const by = new ById(file.schema);
  const summaries = by.schema.fields?.find((each) => each['field-id'] === 507)?.type;
  const summaryBy = new ById(elementRecord(summaries));
  return file.records.map((row) => ({
    path: by.get(row, 500) as string,
    bytes: by.number(row, 501),
    specId: by.number(row, 502),
    content: by.number(row, 517) === 1 ? 'deletes' : 'data',
    sequenceNumber: by.number(row, 515),
    minSequenceNumber: by.number(row, 516),
    addedSnapshotId: idOf(by.get(row, 503) ?? 0),
    addedFiles: by.number(row, 504),
    existingFiles: by.number(row, 505),
    deletedFiles: by.number(row, 506),
    addedRows: by.number(row, 512),
    existingRows: by.number(row, 513),
    deletedRows: by.number(row, 514),
    partitions: ((by.get(row, 507) as Row[] | null) ?? []).map((each) => ({
      containsNull: summaryBy.get(each, 509) === true,
      ...optional('containsNaN', summaryBy.get(each, 518) as boolean | null),
      ...optional('lower', summaryBy.get(each, 510) as Uint8Array | null),
      ...optional('upper', summaryBy.get(each, 511) as Uint8Array | null),
    })),
  }));
}

function elementRecord(type: unknown): AvroSchema {
  const array = (Array.isArray(type) ? type : [type]).find((each) => (each as AvroSchema | undefined)?.type === 'array') as { items?: AvroSchema } | undefined;
  return array?.items ?? { type: 'record', fields: [] };
}

function optional<K extends string, T>(key: K, value: T | null | undefined): Partial<Record<K, T>> {
  return value === null || value === undefined ? {} : ({ [key]: value } as Record<K, T>);
}

/** The manifest's entries, with what they inherit from the list (specification, "Sequence Number Inheritance"). */
export async function readManifest(bytes: Uint8Array, manifest: ManifestFile, spec: PartitionSpecJson): Promise<ManifestEntry[]> {
  const file = await readAvro(bytes, manifest.path);
  const entryBy = new ById(file.schema);
  const dataBy = entryBy.inner(2);
  const partitionBy = dataBy.inner(102);
  return file.records.map((row) => {
    const data = entryBy.get(row, 2) as Row | undefined;
    const status = STATUS[entryBy.number(row, 0, -1)];
    if (!data || !status) throw new LakeError('bad-file', `${manifest.path}: expected manifest entries with a status and a data file.`, { path: manifest.path });
    const ownSequence = entryBy.get(row, 3);
    // Only ADDED entries inherit; version 1 manifests have none and count as 0.
    const inherited = status === 'added' ? manifest.sequenceNumber : 0;
    return {
      status,
      snapshotId: idOf(entryBy.get(row, 1) ?? manifest.addedSnapshotId),
      sequenceNumber: ownSequence === null || ownSequence === undefined ? inherited : Number(ownSequence),
      file: dataFile(dataBy, data, partitionBy, spec),
    };
  });
}

function dataFile(by: ById, row: Row, partitionBy: ById, spec: PartitionSpecJson): IcebergDataFile {
  const partition = (by.get(row, 102) ?? {}) as Row;
  const map = <T>(id: number, convert: (value: unknown) => T): Map<number, T> =>
    new Map(entriesOf(by.get(row, id)).map(([key, value]) => [key, convert(value)]));
  return {
    content: by.number(row, 134),
    path: by.get(row, 100) as string,
    format: String(by.get(row, 101)).toUpperCase(),
    partition: spec.fields.map((field) => (partitionBy.get(partition, field['field-id']) ?? null) as Value | null),
    rows: by.number(row, 103),
    bytes: by.number(row, 104),
    columnBytes: map(108, Number),
    valueCounts: map(109, Number),
    nullCounts: map(110, Number),
    nanCounts: map(137, Number),
    lower: map(125, (value) => value as Uint8Array),
    upper: map(128, (value) => value as Uint8Array),
    ...optional('sortOrderId', by.get(row, 140) === undefined || by.get(row, 140) === null ? undefined : by.number(row, 140)),
  };
}

/** Maps with integer keys are lists of key-value records in Avro; some writers use maps with text keys. */
function entriesOf(value: unknown): [number, unknown][] {
  if (Array.isArray(value)) return value.map((each: Row) => [Number(each.key), each.value]);
  if (typeof value === 'object' && value !== null) return Object.entries(value).map(([key, each]) => [Number(key), each]);
  return [];
}

export interface ManifestHeader {
  schemaJson: string;
  schemaId: number;
  spec: PartitionSpecJson;
  /** The type of each partition field, in spec order. */
  partitionFields: Field[];
}

/** A manifest of entries; ADDED ones leave the sequence number to be inherited at commit, so that a retry need not rewrite it. */
export async function writeManifest(entries: ManifestEntry[], header: ManifestHeader, sync: Uint8Array): Promise<Uint8Array> {
  const names = avroPartitionFields(header.partitionFields, header.spec);
  const schema = ENTRY_SCHEMA(dataFileSchema(names));
  const metadata = {
    schema: header.schemaJson,
    'schema-id': String(header.schemaId),
    'partition-spec': JSON.stringify(header.spec.fields),
    'partition-spec-id': String(header.spec['spec-id']),
    'format-version': '2',
    content: 'data',
  };
  const rows = entries.map(({ status, snapshotId, sequenceNumber, file }) => ({
    status: STATUS.indexOf(status),
    snapshot_id: BigInt(snapshotId),
    sequence_number: status === 'added' ? null : BigInt(sequenceNumber),
    file_sequence_number: status === 'added' ? null : BigInt(sequenceNumber),
    data_file: {
      content: file.content,
      file_path: file.path,
      file_format: file.format,
      partition: Object.fromEntries(names.map((each, index) => [each.name, toAvroValue(header.partitionFields[index]!.type, file.partition[index] ?? null)])),
      record_count: BigInt(file.rows),
      file_size_in_bytes: BigInt(file.bytes),
      column_sizes: longs(file.columnBytes),
      value_counts: longs(file.valueCounts),
      null_value_counts: longs(file.nullCounts),
      nan_value_counts: longs(file.nanCounts),
      lower_bounds: buffers(file.lower),
      upper_bounds: buffers(file.upper),
      key_metadata: null,
      split_offsets: null,
      equality_ids: null,
      sort_order_id: file.sortOrderId ?? null,
    },
  }));
  return writeAvro(schema, metadata, rows, sync);
}

function longs(map: Map<number, number>): { key: number; value: bigint }[] {
  return [...map].sort(([a], [b]) => a - b).map(([key, value]) => ({ key, value: BigInt(value) }));
}

function buffers(map: Map<number, Uint8Array>): { key: number; value: Buffer }[] {
  return [...map].sort(([a], [b]) => a - b).map(([key, value]) => ({ key, value: Buffer.from(value) }));
}

export async function writeManifestList(manifests: ManifestFile[], header: Record<string, string>, sync: Uint8Array): Promise<Uint8Array> {
  const rows = manifests.map((each) => ({
    manifest_path: each.path,
    manifest_length: BigInt(each.bytes),
    partition_spec_id: each.specId,
    content: each.content === 'data' ? 0 : 1,
    sequence_number: BigInt(each.sequenceNumber),
    min_sequence_number: BigInt(each.minSequenceNumber),
    added_snapshot_id: BigInt(each.addedSnapshotId),
    added_files_count: each.addedFiles,
    existing_files_count: each.existingFiles,
    deleted_files_count: each.deletedFiles,
    added_rows_count: BigInt(each.addedRows),
    existing_rows_count: BigInt(each.existingRows),
    deleted_rows_count: BigInt(each.deletedRows),
    partitions: each.partitions.map((summary) => ({
      contains_null: summary.containsNull,
      contains_nan: summary.containsNaN ?? null,
      lower_bound: summary.lower ? Buffer.from(summary.lower) : null,
      upper_bound: summary.upper ? Buffer.from(summary.upper) : null,
    })),
    key_metadata: null,
  }));
  return writeAvro(MANIFEST_LIST_SCHEMA, { ...header, 'format-version': '2' }, rows, sync);
}
