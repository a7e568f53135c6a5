/** What the values of a table's columns are like: asked of the engine, of all rows or of a sample, and from metadata alone where that is enough. */
import type { Identity } from '../access/access';
import { isNested, type Field } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { nameAsSql, quoteName } from '../../core/sql/tokens';
import type { Snapshot } from '../../core/table/contract';
import { compareValues, type Value } from '../../core/values/value';
import { formatValue } from '../../core/values/text';
import type { DataFile } from '../../core/scan/plan';
import type { Queries } from './queries';

export interface ColumnProfile {
  name: string;
  type: string;
  nulls: number | null;
  distinct: number | null;
  distinctIsExact: boolean;
  min: string | null;
  max: string | null;
  /** Of numbers. */
  mean: number | null;
  /** At 5, 25, 50, 75 and 95 of a hundred. */
  quantiles: number[] | null;
  /** Of texts: shortest, mean and longest. */
  lengths: { min: number; mean: number; max: number } | null;
  frequent: { value: string; rows: number }[];
  /** Equal steps from the least value to the greatest; times in milliseconds since the epoch. */
  histogram: { from: number; to: number; counts: number[]; isTime: boolean } | null;
}

export interface TableProfile {
  version: number;
  at: string;
  /** Rows that were looked at, of how many. */
  looked: number;
  rows: number | null;
  how: 'all rows' | 'a sample' | 'metadata';
  columns: ColumnProfile[];
}

export const SAMPLE_ROWS = 100_000;
/** Up to so many rows different values are counted one by one. */
const EXACT_ROWS = 1_000_000;
const BINS = 24;
const FREQUENT = 6;
const NUMBERS = new Set(['byte', 'short', 'int', 'long', 'float', 'double', 'decimal']);
const TIMES = new Set(['date', 'timestamp', 'timestamptz', 'timestamp_ns']);

/** Rows, nulls and bounds as the files' own statistics tell them. */
export async function profileFromMetadata(snapshot: Snapshot): Promise<TableProfile> {
  const files = await snapshot.files();
  const rows = files.every((file) => file.rows !== undefined) ? files.reduce((sum, file) => sum + file.rows!, 0) : null;
  return { version: snapshot.version, at: new Date().toISOString(), looked: 0, rows, how: 'metadata', columns: snapshot.schema.fields.map((field) => fromMetadata(field, files, rows)) };
}

function fromMetadata(field: Field, files: readonly DataFile[], rows: number | null): ColumnProfile {
  const stats = files.map((file) => ({ ...file.partitionStats([field.name]), ...file.stats([field.name]) }));
  const told = stats.length > 0 && stats.every((each) => each.nullCount !== undefined);
  const nulls = told ? stats.reduce((sum, each) => sum + each.nullCount!, 0) : null;
  const withValues = stats.filter((each, index) => !(each.nullCount !== undefined && each.nullCount === files[index]!.rows));
  const bounded = told && withValues.length > 0 && withValues.every((each) => each.lower !== undefined && each.upper !== undefined) && hasExactBounds(field);
  const best = (pick: 'lower' | 'upper', sign: number) => (bounded ? shownBound(field, withValues.map((each) => each[pick]!).reduce((a, b) => (sign * compareValues(b, a) > 0 ? b : a))) : null);
  return { ...emptyColumn(field), nulls: rows === null ? null : nulls, min: best('lower', -1), max: best('upper', 1) };
}

/** Texts are cut short in statistics, and times rounded, so their bounds are none of their values. */
function hasExactBounds({ type }: Field): boolean {
  return NUMBERS.has(type.kind) || type.kind === 'date';
}

/** A 32-bit number by its shortest digits. */
function shownBound(field: Field, value: Value): string {
  return field.type.kind === 'float' ? String(Number((value as number).toPrecision(7))) : formatValue(field.type, value);
}

function emptyColumn(field: Field): ColumnProfile {
  return { name: field.name, type: typeName(field.type), nulls: null, distinct: null, distinctIsExact: false, min: null, max: null, mean: null, quantiles: null, lengths: null, frequent: [], histogram: null };
}

/** One query for everything, so that a sample is drawn once. */
export async function profileByQuery(queries: Queries, name: { namespace: string; table: string }, snapshot: Snapshot, options: { sample: boolean; as: Identity; columns?: readonly string[] }): Promise<TableProfile> {
  const table = `${nameAsSql(name.namespace)}.${nameAsSql(name.table)}${snapshot.format === 'postgres' ? '' : ` FOR SYSTEM_VERSION AS OF ${snapshot.version}`}`;
  const fields = snapshot.schema.fields.filter((field) => options.columns === undefined || options.columns.includes(field.name));
  const files = await snapshot.files();
  const total = files.every((file) => file.rows !== undefined) ? files.reduce((sum, file) => sum + file.rows!, 0) : null;
  const isSampled = options.sample && (total === null || total > SAMPLE_ROWS);
  const exact = isSampled || (total ?? Infinity) <= EXACT_ROWS;
  const looked = isSampled ? `looked_at AS MATERIALIZED (SELECT * FROM ${table} USING SAMPLE ${SAMPLE_ROWS} ROWS)` : `looked_at AS (SELECT * FROM ${table})`;
  const parts = [
    `SELECT 'figures' AS part, 0 AS field, to_json([count(*)::VARCHAR, ${fields.map((field) => figuresOf(field, exact)).join(', ')}])::VARCHAR AS value, 0 AS n, 0.0 AS low, 0.0 AS high FROM looked_at`,
    ...fields.flatMap((field, index) => (isNested(field.type) ? [] : [frequentOf(field, index), ...histogramOf(field, index)])),
  ];
  const { rows } = await queries.run({ sql: `WITH ${looked}\n${parts.join('\nUNION ALL ')}`, maxRows: 100_000, as: options.as });
  const found = rows as [part: string, field: number, value: string, n: number, low: number, high: number][];
  const figures = JSON.parse(found.find(([part]) => part === 'figures')![2]) as (string | null)[];
  const count = Number(figures[0]);
  const columns = fields.map((field, index) => {
    const own = found.filter(([part, at]) => part !== 'figures' && Number(at) === index);
    const profile = readFigures(field, figures.slice(1 + index * FIGURES, 1 + (index + 1) * FIGURES), count, exact);
    profile.frequent = own.filter(([part]) => part === 'frequent').map(([, , value, n]) => ({ value, rows: Number(n) })).sort((a, b) => b.rows - a.rows);
    profile.histogram = readHistogram(field, own.filter(([part]) => part === 'bin'));
    return profile;
  });
  return { version: snapshot.version, at: new Date().toISOString(), looked: count, rows: total ?? (isSampled ? null : count), how: isSampled ? 'a sample' : 'all rows', columns };
}

/** Figures of each column, in this order. */
const FIGURES = 9;

function figuresOf(field: Field, exact: boolean): string {
  const column = quoteName(field.name);
  if (isNested(field.type)) return [`count(${column})::VARCHAR`, ...new Array<string>(FIGURES - 1).fill('NULL')].join(', ');
  const isNumber = NUMBERS.has(field.type.kind);
  const number = `${column}::DOUBLE`;
  const figures = [
    `count(${column})`, exact ? `count(DISTINCT ${column})` : `approx_count_distinct(${column})`, `min(${column})`, `max(${column})`,
    isNumber ? `avg(${number}) FILTER (WHERE isfinite(${number}))` : 'NULL', isNumber ? `to_json(quantile_cont(${number}, [0.05, 0.25, 0.5, 0.75, 0.95]) FILTER (WHERE isfinite(${number})))` : 'NULL',
    ...(field.type.kind === 'string' ? [`min(length(${column}))`, `avg(length(${column}))`, `max(length(${column}))`] : ['NULL', 'NULL', 'NULL']),
  ];
  return figures.map((figure) => `(${figure})::VARCHAR`).join(', ');
}

function readFigures(field: Field, figures: readonly (string | null)[], looked: number, exact: boolean): ColumnProfile {
  const [count, distinct, min = null, max = null, mean, quantiles, shortest, meanLength, longest] = figures;
  const number = (value: string | null | undefined) => (value === null || value === undefined ? null : Number(value));
  return {
    ...emptyColumn(field), nulls: looked - Number(count), distinct: number(distinct), distinctIsExact: exact, min, max, mean: number(mean),
    quantiles: quantiles ? (JSON.parse(quantiles) as number[]) : null, lengths: longest ? { min: Number(shortest), mean: Number(meanLength), max: Number(longest) } : null,
  };
}

function frequentOf(field: Field, index: number): string {
  const column = quoteName(field.name);
  return `SELECT * FROM (SELECT 'frequent', ${index}, ${column}::VARCHAR, count(*), 0.0, 0.0 FROM looked_at WHERE ${column} IS NOT NULL GROUP BY ${column} ORDER BY 4 DESC, 3 LIMIT ${FREQUENT})`;
}

/** The bins that hold rows, for numbers and times; nothing for other types. */
function histogramOf(field: Field, index: number): string[] {
  const isTime = TIMES.has(field.type.kind);
  if (!isTime && !NUMBERS.has(field.type.kind)) return [];
  const column = quoteName(field.name);
  const value = isTime ? `epoch_ms(${column}::TIMESTAMP)::DOUBLE` : `${column}::DOUBLE`;
  const bin = `CASE WHEN high = low THEN 0 ELSE least(${BINS - 1}, floor((v - low) / (high - low) * ${BINS})) END`;
  return [`SELECT 'bin', ${index}, (${bin})::INTEGER::VARCHAR, count(*), low, high FROM (SELECT v, (min(v) OVER ()) AS low, (max(v) OVER ()) AS high FROM (SELECT ${value} AS v FROM looked_at WHERE ${column} IS NOT NULL) WHERE isfinite(v)) GROUP BY ALL`];
}

function readHistogram(field: Field, bins: readonly [string, number, string, number, number, number][]): ColumnProfile['histogram'] {
  if (bins.length === 0) return null;
  const counts = new Array<number>(BINS).fill(0);
  for (const [, , bin, count] of bins) counts[Number(bin)]! += Number(count);
  return { from: Number(bins[0]![4]), to: Number(bins[0]![5]), counts, isTime: TIMES.has(field.type.kind) };
}
