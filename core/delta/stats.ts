/** Per-file statistics (Delta protocol, "Per-file Statistics"): JSON text to typed column statistics and back. */
import { parseJson, parseJsonKeepingDigits } from '../json';
import { findField, physicalName, type Field, type LogicalType } from '../schema/types';
import type { ColumnPath } from '../scan/predicate';
import type { ColumnStats, StatsLookup } from '../scan/prune';
import { lowerTextBound, upperTextBound, type WrittenColumn, type WrittenFile } from '../table/written-file';
import { parseValue } from '../values/text';
import { isFloating, type Value } from '../values/value';

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
  if (lower !== undefined) known.lower = lower;
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
      return [column.min, column.max];
    case 'timestamp':
    case 'timestamptz':
      return [isoMillis(type, column.min, 0n), isoMillis(type, column.max, 999n)];
    default:
      return [undefined, undefined];
  }
}

/** ISO 8601 with milliseconds; `roundUp` microseconds are added first so that a maximum never loses its tail. */
function isoMillis(type: LogicalType, text: string, roundUp: bigint): string {
  const millis = Number(((parseValue(type, text) as bigint) + roundUp) / 1000n);
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
