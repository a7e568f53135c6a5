/** Per-file statistics (Delta protocol, "Per-file Statistics"): JSON text to typed column statistics and back. */
import { parseJson, parseJsonKeepingDigits, stringifyJson } from '../json';
import { findField, physicalName, type Field, type LogicalType } from '../schema/types';
import type { ColumnPath } from '../scan/predicate';
import type { ColumnStats, StatsLookup } from '../scan/prune';
import { lowerTextBound, upperTextBound, type WrittenColumn, type WrittenFile } from '../table/written-file';
import { formatValue, parseValue } from '../values/text';
import { floorDiv, isFloating, type Value } from '../values/value';

interface StatsJson {
  numRecords?: unknown;
  tightBounds?: unknown;
  minValues?: Tree;
  maxValues?: Tree;
  nullCount?: Tree;
}
interface Tree {
  [name: string]: unknown;
}

/** Rows that a file holds, deleted ones included, when its statistics say so. */
export function rowCountOf(stats: string | undefined): number | undefined {
  const match = stats && /"numRecords"\s*:\s*(\d+)/.exec(stats);
  return match ? Number(match[1]) : undefined;
}

/**
 * A lookup that parses the text at its first use. Statistics that cannot be read count as unknown, never as an error.
 * `deleted`: rows that a deletion vector takes away.
 */
export function statsLookup(text: string | undefined, fields: readonly Field[], deleted = 0): StatsLookup {
  let parsed: StatsJson | undefined;
  return (column) => {
    if (!text) return undefined;
    parsed ??= parseStats(text);
    const found = columnAt(fields, column);
    return found && columnStats(parsed, found.physical, found.type, deleted);
  };
}

function parseStats(text: string): StatsJson {
  try {
    const keepDigits = /\d[\d.]{15}/.test(text);
    const stats = (keepDigits ? parseJsonKeepingDigits(text) : parseJson(text)) as StatsJson | null;
    return typeof stats === 'object' && stats !== null ? stats : {};
  } catch {
    return {};
  }
}

/** A column's type and its physical names ("statistics are keyed by physical names"). */
function columnAt(fields: readonly Field[], column: ColumnPath): { type: LogicalType; physical: string[] } | undefined {
  const [first, ...rest] = column;
  const found = first === undefined ? undefined : findField(fields, first);
  if (!found) return undefined;
  if (rest.length === 0) return { type: found.type, physical: [physicalName(found)] };
  const inner = found.type.kind === 'struct' ? columnAt(found.type.fields, rest) : undefined;
  return inner && { type: inner.type, physical: [physicalName(found), ...inner.physical] };
}

function columnStats(stats: StatsJson, column: ColumnPath, type: LogicalType, deleted: number): ColumnStats {
  const known: ColumnStats = { mayHoldNaN: isFloating(type) };
  const records = countOf(stats.numRecords);
  const nulls = countOf(at(stats.nullCount, column));
  // "Missing means tight." Wide bounds are those of before rows were deleted: nulls then tell only of none or all.
  const isTight = stats.tightBounds !== false && stats.tightBounds !== 'false';
  if (records !== undefined) known.rowCount = isTight ? records - deleted : records;
  if (nulls !== undefined && (isTight || nulls === 0 || nulls === records)) known.nullCount = nulls;
  const lower = bound(type, at(stats.minValues, column), -1n);
  const upper = bound(type, at(stats.maxValues, column), 1n);
  // Writers of before, ours too, cut times before 1970 towards 1970, so the true minimum may lie up to a millisecond below.
  if (lower !== undefined) known.lower = typeof lower === 'bigint' && isTimestamp(type) && lower <= 0n ? lower - 1000n : lower;
  // Writers cut timestamps to milliseconds, so the true maximum may lie up to a millisecond above.
  if (upper !== undefined) known.upper = typeof upper === 'bigint' && isTimestamp(type) ? upper + 1000n : upper;
  return known;
}

function countOf(value: unknown): number | undefined {
  const count = typeof value === 'number' || typeof value === 'string' || typeof value === 'bigint' ? Number(value) : NaN;
  return Number.isFinite(count) ? count : undefined;
}

function isTimestamp(type: LogicalType): boolean {
  return type.kind === 'timestamp' || type.kind === 'timestamptz';
}

function at(tree: Tree | undefined, column: ColumnPath): unknown {
  return column.reduce<unknown>((node, name) => (typeof node === 'object' && node !== null ? (node as Tree)[name] : undefined), tree);
}

function bound(type: LogicalType, json: unknown, outwards: -1n | 1n): Value | undefined {
  if (json === undefined || json === null || typeof json === 'object') return undefined;
  try {
    const text = String(json);
    const value = parseValue(type, text);
    return type.kind === 'decimal' && type.precision > 15 && typeof value === 'bigint' && mayBeRounded(text) ? value + outwards * lastDigitOfDouble(value) : value;
  } catch {
    return undefined;
  }
}

/** Some writers send decimals through a double, which shows 17 digits at most; longer ones were kept. */
function mayBeRounded(text: string): boolean {
  return text.replace(/^[-+0.]+|\./g, '').replace(/0+$/, '').length <= 17;
}

function lastDigitOfDouble(value: bigint): bigint {
  const size = value < 0n ? -value : value;
  return size < 2n ** 53n ? 0n : size / 2n ** 52n + 1n;
}

/** The statistics of a file of which rows were deleted since: bounds hold still, but are no longer exact. */
export function looseStats(text: string | undefined): string | undefined {
  if (!text?.startsWith('{')) return text;
  const rest = text.slice(1).replace(/"tightBounds"\s*:\s*(?:true|false)\s*,?/, '');
  return `{"tightBounds":false,${rest}`;
}

/**
 * The same statistics with minimums of times before 1970 a millisecond lower: our writer of before rounded them up to the
 * next one. Undefined where there are none, or where the text cannot be read.
 */
export function withEarlierMinimums(text: string | undefined, fields: readonly Field[]): string | undefined {
  if (!text) return undefined;
  let changed = false;
  const lowered = (all: readonly Field[], minimums: Tree): Tree => Object.fromEntries(Object.entries(minimums).map(([name, value]) => {
    const type = all.find((each) => physicalName(each) === name)?.type;
    if (type?.kind === 'struct' && typeof value === 'object' && value !== null) return [name, lowered(type.fields, value as Tree)];
    if (!type || !isTimestamp(type) || typeof value !== 'string') return [name, value];
    const lower = bound(type, value, -1n);
    if (typeof lower !== 'bigint' || lower > 0n) return [name, value];
    changed = true;
    return [name, isoMillis(type, formatValue(type, lower - 1000n), 0n)];
  }));
  try {
    const stats = parseJson(text) as StatsJson;
    const minValues = stats.minValues && lowered(fields, stats.minValues);
    // Numbers that JSON would not keep are left as they stand, and the file with them.
    const next = stringifyJson({ ...stats, minValues });
    return changed && stringifyJson({ ...(parseJson(next) as StatsJson), minValues: stats.minValues }) === stringifyJson(stats) ? next : undefined;
  } catch {
    return undefined;
  }
}

/** The statistics JSON for a file that was just written. */
export function statsText(file: WrittenFile, fields: readonly Field[]): string {
  const minValues: Tree = {};
  const maxValues: Tree = {};
  const nullCount: Tree = {};
  for (const column of file.columns) {
    const type = writtenType(fields, column.path);
    if (!type) continue; // inside a list or map: the protocol keeps no bounds there
    if (column.nullCount !== undefined) put(nullCount, column.path, column.nullCount);
    const [min, max] = boundsJson(type, column);
    if (min !== undefined) put(minValues, column.path, min);
    if (max !== undefined) put(maxValues, column.path, max);
  }
  return `{"numRecords":${file.rows},"minValues":${tree(minValues)},"maxValues":${tree(maxValues)},"nullCount":${tree(nullCount)}}`;
}

/** The type of a column by its names in the file. */
function writtenType(fields: readonly Field[], path: readonly string[]): LogicalType | undefined {
  const [first, ...rest] = path;
  const type = fields.find((each) => physicalName(each) === first)?.type;
  if (rest.length === 0 || !type) return type;
  return type.kind === 'struct' ? writtenType(type.fields, rest) : undefined;
}

function fourDigitYear(date: string): string | undefined {
  return /^\d{4}-\d\d-\d\d$/.test(date) ? date : undefined;
}

/** A number already in JSON's form, kept digit by digit. */
class Digits {
  constructor(readonly text: string) {}
}

function boundsJson(type: LogicalType, column: WrittenColumn): [unknown, unknown] {
  if (column.min === undefined || column.max === undefined) return [undefined, undefined];
  switch (type.kind) {
    case 'string':
      return [lowerTextBound(column.min), upperTextBound(column.max)];
    case 'float':
    case 'double':
      if (column.hasNaN || !Number.isFinite(Number(column.min)) || !Number.isFinite(Number(column.max))) return [undefined, undefined];
      return [Number(column.min), Number(column.max)];
    case 'byte':
    case 'short':
    case 'int':
    case 'long':
    case 'decimal':
      return [new Digits(column.min), new Digits(column.max)];
    case 'date':
      return [fourDigitYear(column.min), fourDigitYear(column.max)];
    case 'timestamp':
    case 'timestamptz':
      return [isoMillis(type, column.min, 0n), isoMillis(type, column.max, 999n)];
    default:
      return [undefined, undefined];
  }
}

/** Of the years that ISO 8601 writes with four digits. */
const [FIRST_MILLIS, LAST_MILLIS] = [Date.parse('0000-01-01T00:00:00Z'), Date.parse('9999-12-31T23:59:59.999Z')];

/**
 * ISO 8601 with milliseconds, rounded down; `roundUp` microseconds are added first so that a maximum never loses its tail.
 * Undefined for what has no such text: no bound is never a wrong one.
 */
function isoMillis(type: LogicalType, text: string, roundUp: bigint): string | undefined {
  let micros: bigint;
  try {
    micros = parseValue(type, text) as bigint;
  } catch {
    return undefined;
  }
  const millis = Number(floorDiv(micros + roundUp, 1000n));
  if (millis < FIRST_MILLIS || millis > LAST_MILLIS) return undefined;
  const iso = new Date(millis).toISOString();
  return type.kind === 'timestamptz' ? iso : iso.slice(0, -1);
}

function put(into: Tree, path: string[], value: unknown): void {
  const [name, ...rest] = path;
  if (rest.length === 0) into[name!] = value;
  else put((into[name!] ??= {}) as Tree, rest, value);
}

function tree(node: Tree): string {
  const entry = (value: unknown): string =>
    value instanceof Digits ? value.text : typeof value === 'object' && value !== null ? tree(value as Tree) : JSON.stringify(value);
  return `{${Object.entries(node).map(([name, value]) => `${JSON.stringify(name)}:${entry(value)}`).join(',')}}`;
}
