/** Manifests (Iceberg specification, "Manifests"). Fields are known by id; names vary between writers. */
import { LakeError } from '../errors';
import type { Field } from '../schema/types';
import type { Value } from '../values/value';
import { writeAvro, type AvroCursor } from './avro';
import { decodeEntries, mapAt, METRIC_MAPS, numbersAt, textAt, type EntryColumns } from './entry-columns';
import type { PartitionSpecJson, SnapshotId } from './metadata';
import type { ManifestFile } from './manifest-list';
import { avroPartitionFields, dataFileSchema, ENTRY_SCHEMA, toAvroValue } from './manifest-schemas';

export type EntryStatus = 'existing' | 'added' | 'deleted';
const STATUS: EntryStatus[] = ['existing', 'added', 'deleted'];

export interface ManifestEntry {
  status: EntryStatus;
  snapshotId: SnapshotId;
  sequenceNumber: number;
  /** When the file itself came, which stays when its entry is moved. */
  fileSequenceNumber?: number;
  /** An added file that is as old as the ones whose rows it takes over. */
  hasOwnSequence?: boolean;
  file: IcebergDataFile;
}

export interface IcebergDataFile {
  /** 0 data, 1 position deletes (in Parquet or a vector), 2 equality deletes. */
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
  /** Version 3: the id of its first row. */
  firstRowId?: number;
  /** The one data file that it deletes rows of, if it is for one alone; always for vectors. */
  referencedFile?: string;
  /** Of a vector: where its blob lies in the Puffin file. */
  contentOffset?: number;
  contentBytes?: number;
  /** Columns by which an equality delete matches rows. */
  equalityIds?: number[];
  splitOffsets?: number[];
}

export function idOf(value: unknown): SnapshotId {
  const big = BigInt(value as bigint);
  return Number.isSafeInteger(Number(big)) ? Number(big) : big;
}

/** The manifest's entries, with what they inherit from the list (specification, "Sequence Number Inheritance", "First Row ID Inheritance"). */
export async function readManifest(bytes: Uint8Array, manifest: ManifestFile, spec: PartitionSpecJson): Promise<ManifestEntry[]> {
  return entriesOf(await decodeEntries(bytes, manifest.path), manifest, spec);
}

export function entriesOf(columns: EntryColumns, manifest: ManifestFile, spec: PartitionSpecJson): ManifestEntry[] {
  const rowIds = rowIdsOf(columns, manifest);
  return Array.from({ length: columns.count }, (_, row) => entryAt(columns, row, manifest, spec, rowIds));
}

const CONTENTS = 2;

/** `rowIds`: what `rowIdsOf` gave for the manifest. */
export function entryAt(columns: EntryColumns, row: number, manifest: ManifestFile, spec: PartitionSpecJson, rowIds?: Float64Array): ManifestEntry {
  const id = columns.snapshotId[row]!;
  const sequenceNumber = sequenceAt(columns, row, manifest);
  const fileSequence = columns.fileSequence[row]!;
  return {
    status: STATUS[columns.status[row]!]!,
    snapshotId: id === -1n ? manifest.addedSnapshotId : idOf(id),
    sequenceNumber,
    fileSequenceNumber: Number.isNaN(fileSequence) ? sequenceNumber : fileSequence,
    file: fileAt(columns, row, manifest, spec, rowIds),
  };
}

/** Only ADDED entries inherit; version 1 manifests have none and count as 0. */
export function sequenceAt(columns: EntryColumns, row: number, manifest: ManifestFile): number {
  const own = columns.sequence[row]!;
  return Number.isNaN(own) ? (columns.status[row] === 1 ? manifest.sequenceNumber : 0) : own;
}

/** The first row id of each entry: its own, or counted on from the manifest's; NaN where rows have none. */
export function rowIdsOf(columns: EntryColumns, manifest: ManifestFile): Float64Array | undefined {
  if (manifest.content !== 'data') return undefined;
  let next = manifest.firstRowId ?? NaN;
  return columns.firstRowId.map((own, row) => {
    if (!Number.isNaN(own)) return own;
    const given = next;
    next += columns.rows[row]!;
    return given;
  });
}

export function partitionAt(columns: EntryColumns, row: number, spec: PartitionSpecJson): (Value | null)[] {
  const values = columns.partitions[columns.partition[row]!];
  return spec.fields.map((field) => values?.get(field['field-id']) ?? null);
}

function fileAt(columns: EntryColumns, row: number, manifest: ManifestFile, spec: PartitionSpecJson, rowIds: Float64Array | undefined): IcebergDataFile {
  const content = columns.content[row]!;
  if (content > CONTENTS) throw new LakeError('unsupported', `${manifest.path}: a file of the content kind ${content} is not known.`, { path: manifest.path });
  const count = (at: AvroCursor) => at.long();
  const bound = (at: AvroCursor) => Uint8Array.from(at.bytes());
  const equalityIds = numbersAt(columns, columns.equalityIds[row]!);
  const splitOffsets = numbersAt(columns, columns.splitOffsets[row]!);
  const number = <K extends string>(key: K, value: number | undefined) => (value === undefined || Number.isNaN(value) ? {} : ({ [key]: value } as Record<K, number>));
  return {
    content,
    path: textAt(columns, columns.path[row]!),
    format: textAt(columns, columns.format[row]!).toUpperCase(),
    partition: partitionAt(columns, row, spec),
    rows: columns.rows[row]!,
    bytes: columns.bytes[row]!,
    columnBytes: mapAt(columns, METRIC_MAPS.columnBytes, row, count),
    valueCounts: mapAt(columns, METRIC_MAPS.valueCounts, row, count),
    nullCounts: mapAt(columns, METRIC_MAPS.nullCounts, row, count),
    nanCounts: mapAt(columns, METRIC_MAPS.nanCounts, row, count),
    lower: mapAt(columns, METRIC_MAPS.lower, row, bound),
    upper: mapAt(columns, METRIC_MAPS.upper, row, bound),
    ...number('sortOrderId', columns.sortOrder[row]),
    ...number('firstRowId', rowIds?.[row]),
    ...(columns.referenced[row]! < 0 ? {} : { referencedFile: textAt(columns, columns.referenced[row]!) }),
    ...number('contentOffset', columns.contentOffset[row]),
    ...number('contentBytes', columns.contentBytes[row]),
    ...(equalityIds.length > 0 ? { equalityIds } : {}),
    ...(splitOffsets.length > 0 ? { splitOffsets } : {}),
  };
}

export interface ManifestHeader {
  schemaJson: string;
  schemaId: number;
  spec: PartitionSpecJson;
  /** The type of each partition field, in spec order. */
  partitionFields: Field[];
  formatVersion: number;
  content: 'data' | 'deletes';
}

/** A manifest of entries; ADDED ones leave the sequence number to be inherited at commit, so that a retry need not rewrite it. */
export async function writeManifest(entries: readonly ManifestEntry[], header: ManifestHeader, sync: Uint8Array): Promise<Uint8Array> {
  const names = avroPartitionFields(header.partitionFields, header.spec);
  const schema = ENTRY_SCHEMA(dataFileSchema(names, header.formatVersion));
  const metadata = {
    schema: header.schemaJson,
    'schema-id': String(header.schemaId),
    'partition-spec': JSON.stringify(header.spec.fields),
    'partition-spec-id': String(header.spec['spec-id']),
    'format-version': String(header.formatVersion),
    content: header.content,
  };
  const rows = entries.map(({ status, snapshotId, sequenceNumber, fileSequenceNumber, hasOwnSequence, file }) => ({
    status: STATUS.indexOf(status),
    snapshot_id: BigInt(snapshotId),
    sequence_number: status === 'added' && !hasOwnSequence ? null : BigInt(sequenceNumber),
    file_sequence_number: status === 'added' ? null : BigInt(fileSequenceNumber ?? sequenceNumber),
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
      split_offsets: file.splitOffsets?.map(BigInt) ?? null,
      equality_ids: file.equalityIds ?? null,
      sort_order_id: file.sortOrderId ?? null,
      // New files get their ids from the list, where the commit knows them.
      first_row_id: status === 'added' || file.firstRowId === undefined ? null : BigInt(file.firstRowId),
      referenced_data_file: file.referencedFile ?? null,
      content_offset: file.contentOffset === undefined ? null : BigInt(file.contentOffset),
      content_size_in_bytes: file.contentBytes === undefined ? null : BigInt(file.contentBytes),
    },
  }));
  return writeAvro(schema, metadata, rows, sync);
}

/** Null where nothing is known: readers tell an unknown count from one of none. */
function longs(map: Map<number, number>): { key: number; value: bigint }[] | null {
  return map.size === 0 ? null : [...map].sort(([a], [b]) => a - b).map(([key, value]) => ({ key, value: BigInt(value) }));
}

function buffers(map: Map<number, Uint8Array>): { key: number; value: Buffer }[] | null {
  return map.size === 0 ? null : [...map].sort(([a], [b]) => a - b).map(([key, value]) => ({ key, value: Buffer.from(value) }));
}
