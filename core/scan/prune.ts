import { compareText, compareValues, type Value } from '../values/value';
import type { ColumnPath, Comparison, Predicate } from './predicate';

/** What is known of one column's values in one file, partition or manifest. Absent means unknown. */
export interface ColumnStats {
  /** No value is below it; it need not occur. */
  lower?: Value;
  /** No value but NaN is above it; it need not occur. */
  upper?: Value;
  nullCount?: number;
  rowCount?: number;
  /** False only when it is known that no value is NaN. */
  mayHoldNaN?: boolean;
  /** A test beyond bounds for equality, as a bucket partition gives. */
  mayEqual?: (value: Value) => boolean;
}

export type StatsLookup = (column: ColumnPath) => ColumnStats | undefined;

/** The same lookup, asked once a column: files are judged again and again, by query after query. */
export function remembering(lookup: StatsLookup): StatsLookup {
  const known = new Map<string, ColumnStats | undefined>();
  return (column) => {
    const key = column.length === 1 ? column[0]! : column.join('\0');
    if (known.has(key)) return known.get(key);
    const stats = lookup(column);
    known.set(key, stats);
    return stats;
  };
}

/** Both at once; where both tell, the narrower. */
export function mergeStats(a: ColumnStats | undefined, b: ColumnStats | undefined): ColumnStats | undefined {
  if (!a || !b) return a ?? b;
  const narrower = (x: Value | undefined, y: Value | undefined, sign: number) => (x === undefined || y === undefined ? (x ?? y) : sign * compareValues(x, y) > 0 ? x : y);
  const [lower, upper] = [narrower(a.lower, b.lower, 1), narrower(a.upper, b.upper, -1)];
  const mayEqual = a.mayEqual && b.mayEqual ? (value: Value) => a.mayEqual!(value) && b.mayEqual!(value) : (a.mayEqual ?? b.mayEqual);
  return { ...a, ...b, ...(lower === undefined ? {} : { lower }), ...(upper === undefined ? {} : { upper }), ...(mayEqual ? { mayEqual } : {}), ...(a.mayHoldNaN === false || b.mayHoldNaN === false ? { mayHoldNaN: false } : {}) };
}

/** False only when no row can satisfy the predicate. */
export function mightMatch(predicate: Predicate, stats: StatsLookup): boolean {
  switch (predicate.op) {
    case 'true':
      return true;
    case 'and':
      return predicate.args.every((arg) => mightMatch(arg, stats));
    case 'or':
      return predicate.args.some((arg) => mightMatch(arg, stats));
    default: {
      const known = stats(predicate.column);
      return known === undefined || leafMightMatch(predicate, known);
    }
  }
}

type Leaf = Exclude<Predicate, { op: 'true' | 'and' | 'or' }>;

function leafMightMatch(leaf: Leaf, stats: ColumnStats): boolean {
  const allNull = stats.nullCount !== undefined && stats.rowCount !== undefined && stats.nullCount >= stats.rowCount;
  if (leaf.op === 'null') return stats.nullCount !== 0;
  if (allNull) return false;
  switch (leaf.op) {
    case 'not-null':
      return true;
    case 'compare':
      return comparisonMightMatch(leaf.comparison, leaf.value, stats);
    case 'in':
      return leaf.values.some((value) => comparisonMightMatch('=', value, stats));
    case 'prefix':
      return prefixMightMatch(leaf.prefix, stats);
  }
}

function comparisonMightMatch(comparison: Comparison, value: Value, stats: ColumnStats): boolean {
  const { lower, upper } = stats;
  // Bounds leave NaN out, and the engine sorts it above all numbers: it satisfies >, >= and !=, and = NaN.
  const nanMatches = stats.mayHoldNaN !== false && typeof value === 'number';
  switch (comparison) {
    case '=':
      if (Number.isNaN(value)) return nanMatches;
      if (stats.mayEqual && !stats.mayEqual(value)) return false;
      return (lower === undefined || compareValues(lower, value) <= 0) && (upper === undefined || compareValues(upper, value) >= 0);
    case '<':
      return lower === undefined || compareValues(lower, value) < 0;
    case '<=':
      return lower === undefined || compareValues(lower, value) <= 0;
    case '>':
      return nanMatches || upper === undefined || compareValues(upper, value) > 0;
    case '>=':
      return nanMatches || upper === undefined || compareValues(upper, value) >= 0;
    case '!=':
      if (nanMatches || lower === undefined || upper === undefined) return true;
      return compareValues(lower, value) !== 0 || compareValues(upper, value) !== 0;
  }
}

function prefixMightMatch(prefix: string, { lower, upper }: ColumnStats): boolean {
  if (typeof upper === 'string' && compareText(upper, prefix) < 0) return false;
  return typeof lower !== 'string' || compareText(lower, prefix) <= 0 || lower.startsWith(prefix);
}
