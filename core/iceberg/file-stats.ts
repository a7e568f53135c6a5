/** What manifests say of columns: in a whole manifest, in a partition, in a file. */
import { mergeStats, type ColumnStats, type StatsLookup } from '../scan/prune';
import { findField, type Field } from '../schema/types';
import { isFloating, type Value } from '../values/value';
import { boundAt, countAt, METRIC_MAPS, type EntryColumns } from './entry-columns';
import type { FieldSummary } from './manifest-list';
import type { PartitionSpecJson } from './metadata';
import { fieldById } from './schema';
import { decodeValue } from './single-value';
import { parseTransform, partitionText, rangeStats, resultType, sourceStats, type Transform } from './transforms';

export interface PartitionPart {
  name: string;
  /** Absent where the source column was dropped. */
  source: Field | undefined;
  transform: Transform;
}

/** The fields of a spec, in its order. */
export function partsOf(spec: PartitionSpecJson, fields: readonly Field[]): PartitionPart[] {
  return spec.fields.map((each) => ({ name: each.name, source: fieldById(fields, each['source-id']), transform: parseTransform(each.transform) }));
}

/** Avro gives decimals as bytes and some writers ints for longs; values take the type that the transform yields. */
export function typedPartition({ source, transform }: PartitionPart, value: Value | null): Value | null {
  if (!source) return value;
  const type = resultType(transform, source.type);
  if (value instanceof Uint8Array && type.kind === 'decimal') return decodeValue(type, value) ?? null;
  if (typeof value === 'number' && ['long', 'timestamp', 'timestamptz', 'timestamp_ns', 'time'].includes(type.kind)) return BigInt(value);
  if (typeof value === 'bigint' && ['int', 'date'].includes(type.kind)) return Number(value);
  return value;
}

export function partitionTexts(parts: readonly PartitionPart[], values: readonly (Value | null)[]): Record<string, string | null> {
  return Object.fromEntries(parts.flatMap((part, index) => (part.source ? [[part.name, partitionText(part.transform, part.source.type, values[index] ?? null)]] : [])));
}

/** Of one partition; several fields of one column are taken together. */
export function partitionLookup(parts: readonly PartitionPart[], values: readonly (Value | null)[], fields: readonly Field[]): StatsLookup {
  return lookupOf(parts, fields, (part, index) => sourceStats(part.transform, part.source!.type, values[index] ?? null));
}

/** Of all partitions in a manifest ("Manifest Lists", field summaries). */
export function manifestLookup(parts: readonly PartitionPart[], summaries: readonly FieldSummary[], fields: readonly Field[]): StatsLookup {
  return lookupOf(parts, fields, (part, index) => {
    const summary = summaries[index];
    if (!summary) return undefined;
    const type = resultType(part.transform, part.source!.type);
    const lower = summary.lower && decodeValue(type, summary.lower);
    const upper = summary.upper && decodeValue(type, summary.upper);
    // Without bounds there are only nulls, or NaN.
    if (!summary.lower && !summary.upper) return summary.containsNull && summary.containsNaN === false ? { nullCount: 1, rowCount: 1 } : undefined;
    const stats = lower === undefined || upper === undefined ? undefined : rangeStats(part.transform, part.source!.type, lower, upper);
    return { ...stats, ...(summary.containsNull ? {} : { nullCount: 0, rowCount: 1 }), ...(isFloating(type) ? { mayHoldNaN: summary.containsNaN !== false } : {}) };
  });
}

function lookupOf(parts: readonly PartitionPart[], fields: readonly Field[], statsOf: (part: PartitionPart, index: number) => ColumnStats | undefined): StatsLookup {
  return (column) => {
    const wanted = fieldAt(fields, column);
    if (wanted?.id === undefined) return undefined;
    // A void field is null whatever its column holds ("void: produces null for all values").
    return parts.reduce<ColumnStats | undefined>((all, part, index) => (part.source?.id === wanted.id && part.transform.kind !== 'void' ? mergeStats(all, statsOf(part, index)) : all), undefined);
  };
}

/** Of one file, decoded as it is asked for. */
export function metricsLookup(columns: EntryColumns, row: number, fields: readonly Field[]): StatsLookup {
  return (column) => {
    const wanted = fieldAt(fields, column);
    if (wanted?.id === undefined) return undefined;
    const { id, type } = wanted;
    const stats: ColumnStats = { mayHoldNaN: isFloating(type) && countAt(columns, METRIC_MAPS.nanCounts, row, id) !== 0 };
    const nulls = countAt(columns, METRIC_MAPS.nullCounts, row, id);
    const values = countAt(columns, METRIC_MAPS.valueCounts, row, id);
    const lower = boundAt(columns, METRIC_MAPS.lower, row, id);
    const upper = boundAt(columns, METRIC_MAPS.upper, row, id);
    if (nulls !== undefined) stats.nullCount = nulls;
    if (values !== undefined) stats.rowCount = values;
    const low = lower && decodeValue(type, lower);
    const high = upper && decodeValue(type, upper);
    // A bound that is NaN says nothing ("Manifests": bounds of floats leave NaN out; older writers did not).
    if (low !== undefined && !Number.isNaN(low)) stats.lower = low;
    if (high !== undefined && !Number.isNaN(high)) stats.upper = high;
    return stats;
  };
}

/** Asked for every file: found once for each column of a predicate. */
const found = new WeakMap<readonly Field[], WeakMap<readonly string[], Field | 'none'>>();

function fieldAt(fields: readonly Field[], column: readonly string[]): Field | undefined {
  let known = found.get(fields);
  if (!known) found.set(fields, (known = new WeakMap()));
  let field = known.get(column);
  if (field === undefined) known.set(column, (field = search(fields, column) ?? 'none'));
  return field === 'none' ? undefined : field;
}

function search(fields: readonly Field[], column: readonly string[]): Field | undefined {
  const [first, ...rest] = column;
  const field = first === undefined ? undefined : findField(fields, first);
  if (!field || rest.length === 0) return field;
  return field.type.kind === 'struct' ? search(field.type.fields, rest) : undefined;
}
