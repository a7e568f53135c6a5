/** Partition transforms (Iceberg specification, "Partition Transforms") and what a partition value says of its source column. */
import { LakeError } from '../errors';
import type { ColumnStats } from '../scan/prune';
import type { LogicalType } from '../schema/types';
import { formatDate, formatValue } from '../values/text';
import { compareValues, floorDiv, MICROS_PER_DAY, type Value } from '../values/value';
import { hashValue } from './hash';

export type Transform =
  | { kind: 'identity' | 'void' | 'year' | 'month' | 'day' | 'hour' }
  | { kind: 'bucket' | 'truncate'; width: number };

export function parseTransform(text: string): Transform {
  const sized = /^(bucket|truncate)\[(\d+)\]$/.exec(text);
  if (sized) return { kind: sized[1] as 'bucket' | 'truncate', width: Number(sized[2]) };
  if (['identity', 'void', 'year', 'month', 'day', 'hour'].includes(text)) return { kind: text as 'identity' };
  throw new LakeError('unsupported', `The partition transform "${text}" is not supported.`);
}

/** The type of a partition field: days are dates, other times ints, bucket an int, the rest as the source. */
export function resultType(transform: Transform, source: LogicalType): LogicalType {
  switch (transform.kind) {
    case 'bucket':
    case 'year':
    case 'month':
    case 'hour':
      return { kind: 'int' };
    case 'day':
      return { kind: 'date' };
    default:
      return source;
  }
}

export function applyTransform(transform: Transform, type: LogicalType, value: Value | null): Value | null {
  if (value === null || transform.kind === 'void') return null;
  switch (transform.kind) {
    case 'identity':
      return value;
    case 'bucket':
      return (hashValue(type, value) & 0x7fffffff) % transform.width;
    case 'truncate':
      return truncate(type, value, transform.width);
    case 'hour':
      return Number(floorDiv(toMicros(type, value), MICROS_PER_DAY / 24n));
    case 'day':
      return toDays(type, value);
    case 'month': {
      const date = new Date(toDays(type, value) * 86_400_000);
      return (date.getUTCFullYear() - 1970) * 12 + date.getUTCMonth();
    }
    case 'year':
      return new Date(toDays(type, value) * 86_400_000).getUTCFullYear() - 1970;
  }
}

function toMicros(type: LogicalType, value: Value): bigint {
  if (type.kind === 'date') return BigInt(value as number) * MICROS_PER_DAY;
  return type.kind === 'timestamp_ns' ? floorDiv(value as bigint, 1000n) : (value as bigint);
}

function toDays(type: LogicalType, value: Value): number {
  return type.kind === 'date' ? (value as number) : Number(floorDiv(toMicros(type, value), MICROS_PER_DAY));
}

function truncate(type: LogicalType, value: Value, width: number): Value {
  if (typeof value === 'number') return (value - (((value % width) + width) % width)) | 0;
  if (typeof value === 'bigint') {
    const cut = floorDiv(value, BigInt(width)) * BigInt(width);
    return type.kind === 'long' ? BigInt.asIntN(64, cut) : cut;
  }
  if (typeof value === 'string') return [...value].slice(0, width).join('');
  return (value as Uint8Array).slice(0, width);
}

/** Bounds of the source column in a partition whose value is `value`. */
export function sourceStats(transform: Transform, type: LogicalType, value: Value | null): ColumnStats | undefined {
  if (transform.kind === 'void') return undefined;
  if (value === null) return { nullCount: 1, rowCount: 1 };
  const known = { nullCount: 0, rowCount: 1, mayHoldNaN: false };
  switch (transform.kind) {
    case 'identity':
      return { ...known, lower: value, upper: value, mayHoldNaN: Number.isNaN(value) };
    case 'bucket':
      return { ...known, mayEqual: (wanted) => (hashValue(type, wanted) & 0x7fffffff) % transform.width === value };
    case 'truncate':
      // What lay just above the type's least value has wrapped around to its greatest.
      if (typeof value === 'number') return value + transform.width - 1 > MOST_INT ? wrapped(transform, type, value) : { ...known, lower: value, upper: value + transform.width - 1 };
      if (typeof value === 'bigint' && type.kind === 'long' && value + BigInt(transform.width) - 1n > MOST_LONG) return wrapped(transform, type, value);
      if (typeof value === 'bigint') return { ...known, lower: value, upper: value + BigInt(transform.width) - 1n };
      return { ...known, lower: value, mayEqual: (wanted) => compareValues(applyTransform(transform, type, wanted)!, value) === 0 };
    default: {
      const [start, end] = timeRange(transform.kind, value as number);
      return { ...known, lower: fromMicros(type, start, 0n), upper: fromMicros(type, end - 1n, 999n) };
    }
  }
}

const MOST_INT = 2 ** 31 - 1;
const MOST_LONG = 2n ** 63n - 1n;

/** Of a partition that may hold the least values of the type and the greatest. */
function wrapped(transform: Transform, type: LogicalType, value: Value): ColumnStats {
  return { nullCount: 0, rowCount: 1, mayHoldNaN: false, mayEqual: (wanted) => compareValues(applyTransform(transform, type, wanted)!, value) === 0 };
}

/** Bounds of the source column in partitions whose values lie from `lower` to `upper`. */
export function rangeStats(transform: Transform, type: LogicalType, lower: Value, upper: Value): ColumnStats | undefined {
  if (transform.kind === 'bucket') {
    return { mayEqual: (wanted) => {
      const bucket = (hashValue(type, wanted) & 0x7fffffff) % transform.width;
      return bucket >= (lower as number) && bucket <= (upper as number);
    } };
  }
  const [low, high] = [sourceStats(transform, type, lower), sourceStats(transform, type, upper)];
  // The greatest partition may hold the least values, which have wrapped around.
  if (typeof upper !== 'string' && !(upper instanceof Uint8Array) && transform.kind === 'truncate' && high?.upper === undefined) return undefined;
  // Of a text cut to a prefix only the lower bound is known, and of the last prefix what begins with it.
  const last = transform.kind === 'truncate' && high?.upper === undefined ? { mayEqual: (wanted: Value) => compareValues(applyTransform(transform, type, wanted)!, upper) <= 0 } : {};
  return { ...(low?.lower === undefined ? {} : { lower: low.lower }), ...(high?.upper === undefined ? {} : { upper: high.upper }), ...last };
}

/** [start, end) in microseconds of a year, month, day or hour counted from 1970. */
function timeRange(kind: 'year' | 'month' | 'day' | 'hour', ordinal: number): [bigint, bigint] {
  const at = (n: number): bigint => {
    if (kind === 'hour') return BigInt(n) * (MICROS_PER_DAY / 24n);
    if (kind === 'day') return BigInt(n) * MICROS_PER_DAY;
    const months = kind === 'year' ? n * 12 : n;
    return BigInt(new Date(0).setUTCFullYear(1970 + Math.floor(months / 12), ((months % 12) + 12) % 12, 1)) * 1000n;
  };
  return [at(ordinal), at(ordinal + 1)];
}

/** `nanos` is added within the microsecond, for columns that count nanoseconds. */
function fromMicros(type: LogicalType, micros: bigint, nanos: bigint): Value {
  if (type.kind === 'date') return Number(floorDiv(micros, MICROS_PER_DAY));
  return type.kind === 'timestamp_ns' ? micros * 1000n + nanos : micros;
}

/** A partition value as people read it: `2026-03-14`, `2026-03`, `2026-03-14-06`. */
export function partitionText(transform: Transform, source: LogicalType, value: Value | null): string | null {
  if (value === null) return null;
  switch (transform.kind) {
    case 'year':
      return String(1970 + (value as number));
    case 'month':
      return formatDate(Number(timeRange('month', value as number)[0] / MICROS_PER_DAY)).slice(0, 7);
    case 'hour': {
      const days = Math.floor((value as number) / 24);
      return `${formatDate(days)}-${String((value as number) - days * 24).padStart(2, '0')}`;
    }
    default:
      return formatValue(resultType(transform, source), value);
  }
}
