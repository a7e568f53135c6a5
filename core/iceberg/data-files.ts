/** Files that were written, as manifests tell of them (specification, "Manifests", "Metrics"). */
import type { Field, LogicalType } from '../schema/types';
import { lowerTextBound, upperTextBound, type WrittenColumn, type WrittenFile } from '../table/written-file';
import { parseValue } from '../values/text';
import { compareValues, isFloating, type Value } from '../values/value';
import type { IcebergDataFile, ManifestEntry } from './manifest';
import type { FieldSummary, ManifestFile } from './manifest-list';
import type { PartitionSpecJson, TableMetadata } from './metadata';
import type { PackedVector } from './puffin';
import { fieldById, parseSchema } from './schema';
import { encodeValue } from './single-value';
import { parseTransform, resultType } from './transforms';

/** How much is kept of a column: `write.metadata.metrics.default` and `…column.<name>` (common practice). */
type MetricsMode = { kind: 'none' | 'counts' | 'full' } | { kind: 'truncate'; length: number };

/** "truncate(16)" is the default by common practice. */
const DEFAULT_MODE: MetricsMode = { kind: 'truncate', length: 16 };

export function modeOf(properties: Record<string, string> | undefined, column: string): MetricsMode {
  const text = properties?.[`write.metadata.metrics.column.${column}`] ?? properties?.['write.metadata.metrics.default'] ?? '';
  const cut = /^truncate\((\d+)\)$/.exec(text);
  if (cut) return { kind: 'truncate', length: Number(cut[1]) };
  return text === 'none' || text === 'counts' || text === 'full' ? { kind: text } : DEFAULT_MODE;
}

export function newDataFile(uri: string, file: WrittenFile, metadata: TableMetadata, table: string): IcebergDataFile {
  const { fields } = parseSchema(metadata.schemas.find((each) => (each['schema-id'] ?? 0) === metadata['current-schema-id'])!, table);
  const spec = metadata['partition-specs'].find((each) => each['spec-id'] === metadata['default-spec-id'])!;
  const out: IcebergDataFile = {
    content: 0, path: `${uri}/${file.path}`, format: 'PARQUET', rows: file.rows, bytes: file.bytes, sortOrderId: file.isUnsorted ? 0 : metadata['default-sort-order-id'],
    partition: spec.fields.map((each) => file.partition[each.name] ?? null),
    columnBytes: new Map(), valueCounts: new Map(), nullCounts: new Map(), nanCounts: new Map(), lower: new Map(), upper: new Map(),
  };
  for (const column of file.columns) {
    const leaf = leafAt(fields, column.path);
    const mode = modeOf(metadata.properties, column.path.join('.'));
    if (leaf?.id === undefined || mode.kind === 'none') continue;
    if (column.bytes !== undefined) out.columnBytes.set(leaf.id, column.bytes);
    if (column.valueCount !== undefined) out.valueCounts.set(leaf.id, column.valueCount);
    if (column.nullCount !== undefined) out.nullCounts.set(leaf.id, column.nullCount);
    if (isFloating(leaf.type) && !column.hasNaN) out.nanCounts.set(leaf.id, 0);
    if (mode.kind !== 'counts') addBounds(out, leaf, column, mode.kind === 'truncate' ? mode.length : Infinity);
  }
  return out;
}

/** An entry for a file of deletes. `bytes` are those of the whole file. */
export function deleteFile(uri: string, format: string, bytes: number, rows: number, partition: IcebergDataFile['partition']): IcebergDataFile {
  return { content: 1, path: uri, format, bytes, rows, partition, columnBytes: new Map(), valueCounts: new Map(), nullCounts: new Map(), nanCounts: new Map(), lower: new Map(), upper: new Map() };
}

/** An entry for one vector of a Puffin file. */
export function vectorFile(uri: string, bytes: number, vector: PackedVector, partition: IcebergDataFile['partition']): IcebergDataFile {
  return { ...deleteFile(uri, 'PUFFIN', bytes, vector.cardinality, partition), referencedFile: vector.referencedFile, contentOffset: vector.offset, contentBytes: vector.bytes };
}

function leafAt(fields: readonly Field[], path: readonly string[]): Field | undefined {
  const [name, ...rest] = path;
  const found = fields.find((each) => each.name === name);
  if (!found || rest.length === 0) return found;
  if (found.type.kind === 'struct') return leafAt(found.type.fields, rest);
  if (found.type.kind === 'list') return leafAt([found.type.element], rest);
  return found.type.kind === 'map' ? leafAt([found.type.key, found.type.value], rest) : undefined;
}

function addBounds(out: IcebergDataFile, leaf: Field, column: WrittenColumn, length: number): void {
  if (column.min === undefined || column.max === undefined || ['binary', 'fixed', 'uuid'].includes(leaf.type.kind)) return;
  const isCut = leaf.type.kind === 'string' && length !== Infinity;
  const min = isCut ? lowerTextBound(column.min, length) : column.min;
  const max = isCut ? upperTextBound(column.max, length) : column.max;
  const lower = encodeValue(leaf.type, parseValue(leaf.type, min));
  const upper = max === undefined ? undefined : encodeValue(leaf.type, parseValue(leaf.type, max));
  if (lower) out.lower.set(leaf.id!, lower);
  if (upper) out.upper.set(leaf.id!, upper);
}

/** The fields of a spec with their types; those of columns that were dropped have the type that they had. */
export function partitionFieldsOf(metadata: TableMetadata, spec: PartitionSpecJson, table: string): Field[] {
  const schemas = [...metadata.schemas].sort((a, b) => Number((b['schema-id'] ?? 0) === metadata['current-schema-id']) - Number((a['schema-id'] ?? 0) === metadata['current-schema-id']));
  return spec.fields.map((each) => {
    for (const schema of schemas) {
      const source = fieldById(parseSchema(schema, table).fields, each['source-id']);
      if (source) return { name: each.name, required: false, type: resultType(parseTransform(each.transform), source.type) };
    }
    return { name: each.name, required: false, type: { kind: 'string' } };
  });
}

export function summariesOf(fields: readonly Field[], partitions: readonly (readonly (Value | null)[])[]): FieldSummary[] {
  return fields.map((field, index) => summary(field.type, partitions.map((values) => values[index] ?? null)));
}

function summary(type: LogicalType, values: readonly (Value | null)[]): FieldSummary {
  let [low, high]: (Value | undefined)[] = [];
  const containsNaN = values.some((value) => Number.isNaN(value));
  for (const value of values) {
    if (value === null || Number.isNaN(value)) continue;
    if (low === undefined || compareValues(value, low) < 0) low = value;
    if (high === undefined || compareValues(value, high) > 0) high = value;
  }
  const lower = low === undefined ? undefined : encodeValue(type, low);
  const upper = high === undefined ? undefined : encodeValue(type, high);
  return { containsNull: values.some((value) => value === null), containsNaN, ...(lower ? { lower } : {}), ...(upper ? { upper } : {}) };
}

/** What the list tells of a manifest with these entries. */
export function manifestOf(entries: readonly ManifestEntry[], rest: Pick<ManifestFile, 'path' | 'bytes' | 'specId' | 'content' | 'sequenceNumber' | 'addedSnapshotId' | 'partitions'>): ManifestFile {
  const count = (status: ManifestEntry['status']) => entries.filter((entry) => entry.status === status);
  const rows = (status: ManifestEntry['status']) => count(status).reduce((sum, { file }) => sum + file.rows, 0);
  const live = entries.filter((entry) => entry.status !== 'deleted');
  return {
    ...rest,
    minSequenceNumber: live.reduce((least, entry) => Math.min(least, entry.status === 'added' && !entry.hasOwnSequence ? rest.sequenceNumber : entry.sequenceNumber), rest.sequenceNumber),
    addedFiles: count('added').length, existingFiles: count('existing').length, deletedFiles: count('deleted').length,
    addedRows: rows('added'), existingRows: rows('existing'), deletedRows: rows('deleted'),
  };
}
