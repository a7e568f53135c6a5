/** Manifest lists (Iceberg specification, "Manifest Lists"). Fields are known by id; names vary between writers. */
import { asBuffer, asUnreadable, AvroCursor, avroReader, readAvroBlocks, writeAvro, type AvroSchema } from './avro';
import { AvroTypes } from './avro-types';
import { idOf } from './manifest';
import { manifestListSchema } from './manifest-schemas';
import type { SnapshotId } from './metadata';

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
  /** Version 3: the id of the first row of the entries that give none. */
  firstRowId?: number;
  /** The counts were not given (version 1 allows that), so they say nothing. */
  isUncounted?: boolean;
}

export interface FieldSummary {
  containsNull: boolean;
  containsNaN?: boolean;
  lower?: Uint8Array;
  upper?: Uint8Array;
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
}

/** Rows of a list that are in the next one too, byte for byte, which is most of them, are not decoded again. */
export interface KnownRows {
  schema: string;
  /** By their bytes. */
  rows: Map<string, ManifestFile>;
}

/** Rows of longer lists are not kept. */
const ROWS_KEPT = 20_000;

/** `known` is what was read before of the same table; manifests that are in both are the same objects. Fails with `bad-file`, naming `path`. */
export async function readManifestList(bytes: Uint8Array, path: string, known?: KnownRows): Promise<{ manifests: ManifestFile[]; rows: KnownRows }> {
  const { schema, metadata, blocks } = await readAvroBlocks(bytes, path);
  try {
    const before = known?.schema === metadata['avro.schema'] ? known : undefined;
    const rows: KnownRows = { schema: metadata['avro.schema']!, rows: new Map() };
    const skip = new AvroTypes().skip(schema);
    const manifestOf = rowReader(schema);
    let read: ReturnType<typeof avroReader> | undefined;
    const manifests: ManifestFile[] = [];
    for (const { count, data } of blocks) {
      const at = new AvroCursor(asBuffer(data), path);
      for (let i = 0; i < count; i++) {
        const start = at.at;
        skip(at, i);
        const key = at.buffer.toString('latin1', start, at.at);
        const manifest = before?.rows.get(key) ?? manifestOf((read ??= avroReader(schema))(at.buffer, start).value);
        manifests.push(manifest);
        if (manifests.length <= ROWS_KEPT) rows.rows.set(key, manifest);
      }
    }
    return { manifests, rows };
  } catch (error) {
    throw asUnreadable(error, path);
  }
}

function rowReader(schema: AvroSchema): (row: Row) => ManifestFile {
  const by = new ById(schema);
  const summaries = by.schema.fields?.find((each) => each['field-id'] === 507)?.type;
  const summaryBy = new ById(elementRecord(summaries));
  return (row) => ({
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
    ...optional('firstRowId', typeof by.get(row, 520) === 'bigint' || typeof by.get(row, 520) === 'number' ? by.number(row, 520) : undefined),
    ...(by.get(row, 504) === null || by.get(row, 504) === undefined ? { isUncounted: true } : {}),
    partitions: ((by.get(row, 507) as Row[] | null) ?? []).map((each) => ({
      containsNull: summaryBy.get(each, 509) === true,
      ...optional('containsNaN', summaryBy.get(each, 518) as boolean | null),
      ...optional('lower', summaryBy.get(each, 510) as Uint8Array | null),
      ...optional('upper', summaryBy.get(each, 511) as Uint8Array | null),
    })),
  });
}

function elementRecord(type: unknown): AvroSchema {
  const array = (Array.isArray(type) ? type : [type]).find((each) => (each as AvroSchema | undefined)?.type === 'array') as { items?: AvroSchema } | undefined;
  return array?.items ?? { type: 'record', fields: [] };
}

function optional<K extends string, T>(key: K, value: T | null | undefined): Partial<Record<K, T>> {
  return value === null || value === undefined ? {} : ({ [key]: value } as Record<K, T>);
}

export async function writeManifestList(manifests: readonly ManifestFile[], header: Record<string, string>, formatVersion: number, sync: Uint8Array): Promise<Uint8Array> {
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
    first_row_id: each.firstRowId === undefined ? null : BigInt(each.firstRowId),
  }));
  return writeAvro(manifestListSchema(formatVersion), { ...header, 'format-version': String(formatVersion) }, rows, sync);
}
