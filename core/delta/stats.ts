/** Per-file statistics (Delta protocol, "Per-file Statistics"): JSON text to typed column statistics and back. */
import { parseJson, parseJsonKeepingDigits } from '../json';
import { findField, type Field, type LogicalType } from '../schema/types';
import type { ColumnPath } from '../scan/predicate';
import type { ColumnStats, StatsLookup } from '../scan/prune';
import { lowerTextBound, upperTextBound, type WrittenColumn, type WrittenFile } from '../table/written-file';
import { parseValue } from '../values/text';
import { isFloating, type Value } from '../values/value';

interface StatsJson {
  numRecords?: number;
  minValues?: Tree;
  maxValues?: Tree;
  nullCount?: Tree;
}
interface Tree {
  [name: string]: unknown;
}

/** The file's row count, when its statistics say one. */
export function rowCountOf(stats: string | undefined): number | undefined {
  const match = stats && /"numRecords"\s*:\s*(\d+)/.exec(stats);
  return match ? Number(match[1]) : undefined;
}

/** A lookup that parses the text at its first use. Statistics that cannot be read count as unknown, never as an error. */
export function statsLookup(text: string | undefined, fields: readonly Field[]): StatsLookup {
  let parsed: StatsJson | undefined;
  return (column) => {
    if (!text) return undefined;
    parsed ??= parseStats(text);
    const type = typeAt(fields, column);
    return type && columnStats(parsed, column, type);
  };
}

function parseStats(text: string): StatsJson {
  try {
    const keepDigits = /\d[\d.]{15}/.test(text);
    return (keepDigits ? parseJsonKeepingDigits(text) : parseJson(text)) as StatsJson;
  } catch {
    return {};
  }
}

function typeAt(fields: readonly Field[], column: ColumnPath): LogicalType | undefined {
  const [first, ...rest] = column;
  const type = first === undefined ? undefined : findField(fields, first)?.type;
  if (rest.length === 0 || !type) return type;
  return type.kind === 'struct' ? typeAt(type.fields, rest) : undefined;
}

function columnStats(stats: StatsJson, column: ColumnPath, type: LogicalType): ColumnStats {
  const known: ColumnStats = { mayHoldNaN: isFloating(type) };
  const nulls = at(stats.nullCount, column);
  if (nulls !== undefined) known.nullCount = Number(nulls);
  if (stats.numRecords !== undefined) known.rowCount = Number(stats.numRecords);
  const lower = bound(type, at(stats.minValues, column));
  const upper = bound(type, at(stats.maxValues, column));
  if (lower !== undefined) known.lower = lower;
  // Writers cut timestamps to milliseconds, so the true maximum may lie up to a millisecond above.
  if (upper !== undefined) known.upper = typeof upper === 'bigint' && isTimestamp(type) ? upper + 1000n : upper;
  return known;
}

function isTimestamp(type: LogicalType): boolean {
  return type.kind === 'timestamp' || type.kind === 'timestamptz';
}

function at(tree: Tree | undefined, column: ColumnPath): unknown {
  return column.reduce<unknown>((node, name) => (typeof node === 'object' && node !== null ? (node as Tree)[name] : undefined), tree);
}

function bound(type: LogicalType, json: unknown): Value | undefined {
  if (json === undefined || json === null || typeof json === 'object') return undefined;
  try {
    return parseValue(type, String(json));
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
    const type = typeAt(fields, column.path);
    if (!type) continue; // inside a list or map: the protocol keeps no bounds there
    if (column.nullCount !== undefined) put(nullCount, column.path, column.nullCount);
    const [min, max] = boundsJson(type, column);
    if (min !== undefined) put(minValues, column.path, min);
    if (max !== undefined) put(maxValues, column.path, max);
  }
  return `{"numRecords":${file.rows},"minValues":${tree(minValues)},"maxValues":${tree(maxValues)},"nullCount":${tree(nullCount)}}`;
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
