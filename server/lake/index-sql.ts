/** The index of a large checkpoint as SQL: how it is made, and how a predicate searches it the way that `core/scan/prune` judges a file. */
import type { Predicate } from '../../core/scan/predicate';
import type { IndexedColumn } from '../../core/delta/live-files';
import type { LogicalType } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteList } from '../engine/instances';
import { quoteText } from '../../core/sql/tokens';
import { isFloating, type Value } from '../../core/values/value';
import { literal } from '../engine/literal';

/** Decimals of more digits are rounded on their way through JSON: their bounds are kept and compared as doubles, which round alike. */
const EXACT_DIGITS = 15;

/** What the checkpoint's files have of an `add`. */
export interface AddShape {
  fields: ReadonlySet<string>;
  hasRemoves: boolean;
}

const OPTIONAL: [field: string, name: string, sql: string, absent: string][] = [
  ['deletionVector', 'vector', 'CASE WHEN add.deletionVector IS NULL THEN NULL ELSE to_json(add.deletionVector)::VARCHAR END', 'NULL::VARCHAR'],
  ['baseRowId', 'base_row_id', 'add.baseRowId', 'NULL::BIGINT'],
  ['defaultRowCommitVersion', 'row_version', 'add.defaultRowCommitVersion', 'NULL::BIGINT'],
  ['tags', 'tags', 'to_json(add.tags)::VARCHAR', 'NULL::VARCHAR'],
];

/**
 * Columns in which an entry of the log is kept whole, but for its statistics: those stay in the checkpoint, at the row that
 * `part` (the n-th file) and `part_row` name, since keeping their text too would take as long as all the rest.
 */
export const ADD_COLUMNS = 'path, partition_values, size, modified, vector, base_row_id, row_version, tags, row_count, part, part_row';

/** The JSON text of an entry's statistics. */
export function statsSql(shape: AddShape): string {
  return shape.fields.has('stats') ? (shape.fields.has('stats_parsed') ? 'coalesce(add.stats, to_json(add.stats_parsed)::VARCHAR)' : 'add.stats') : shape.fields.has('stats_parsed') ? 'to_json(add.stats_parsed)::VARCHAR' : 'NULL::VARCHAR';
}

/**
 * Makes `into.files` and `into.removes`; every column of statistics is read from its text once. Text that is no JSON fails
 * the whole statement unless `careful`, which costs a tenth more.
 */
export function buildSql(into: string, files: readonly string[], columns: readonly IndexedColumn[], shape: AddShape, careful: boolean): string[] {
  const from = `read_parquet(${quoteList(files)}, union_by_name = true)`;
  const stats = statsSql(shape);
  const kept = OPTIONAL.map(([field, name, sql, absent]) => `${shape.fields.has(field) ? sql : absent} AS ${name}`);
  const typed = columns.flatMap((column, index) => (column.isPartition ? [`${partitionSql(column)} AS p${index}`] : boundsSql(column, index)));
  const bounded = columns.filter((column) => !column.isPartition && isBounded(column.type));
  const parsed = `from_json(${stats}, ${quoteText(statsShape(bounded))})`;
  return [
    `CREATE TABLE ${into}.files AS SELECT path, partition_values, size, modified, vector, base_row_id, row_version, tags, s.numRecords AS row_count, part, part_row${typed.map((each) => `, ${each}`).join('')}
     FROM (SELECT add.path AS path, add.partitionValues AS pv, to_json(add.partitionValues)::VARCHAR AS partition_values, add.size AS size, add.modificationTime AS modified, ${kept.join(', ')},
           file_index::INTEGER AS part, file_row_number AS part_row, ${careful ? `CASE WHEN json_valid(${stats}) THEN ${parsed} END` : parsed} AS s FROM ${from} WHERE add.path IS NOT NULL)`,
    `CREATE TABLE ${into}.removes AS ${shape.hasRemoves ? `SELECT to_json(remove)::VARCHAR AS remove FROM ${from} WHERE remove.path IS NOT NULL` : 'SELECT NULL::VARCHAR AS remove WHERE false'}`,
  ];
}

function isBounded(type: LogicalType): boolean {
  return type.kind !== 'boolean';
}

function isRounded(type: LogicalType): boolean {
  return type.kind === 'decimal' && type.precision > EXACT_DIGITS;
}

function partitionSql({ path, type }: IndexedColumn): string {
  return `try_cast(nullif(pv[${quoteText(path[0]!)}], '') AS ${typeName(type)})`;
}

function boundsSql({ path, type }: IndexedColumn, index: number): string[] {
  if (!isBounded(type)) return [];
  const at = (tree: string) => path.reduce((sql, step) => `struct_extract(${sql}, ${quoteText(step)})`, `s.${tree}`);
  const isText = type.kind === 'timestamp' || type.kind === 'timestamptz' || type.kind === 'date';
  const cast = (sql: string) => (type.kind === 'timestamptz' ? instantSql(sql) : isText ? `try_cast(${sql} AS ${typeName(type)})` : sql);
  // Writers cut timestamps to milliseconds, so the true maximum may lie up to a millisecond above.
  const upper = type.kind === 'timestamp' || type.kind === 'timestamptz' ? `${cast(at('maxValues'))} + INTERVAL 1 MILLISECOND` : cast(at('maxValues'));
  // With wide bounds ("tightBounds" false) nulls tell only of none or all.
  const nulls = `CASE WHEN coalesce(s.tightBounds, true) OR ${at('nullCount')} IN (0, s.numRecords) THEN ${at('nullCount')} END`;
  return [`${cast(at('minValues'))} AS lo${index}`, `${upper} AS hi${index}`, `${nulls} AS nu${index}`];
}

/** Times in UTC, as nearly all writers give them, are read far faster than those with an offset. */
function instantSql(sql: string): string {
  return `CASE WHEN suffix(${sql}, 'Z') THEN try_cast(${sql} AS TIMESTAMP) ELSE timezone('UTC', try_cast(${sql} AS TIMESTAMPTZ)) END`;
}

/** The structure that `from_json` reads; what is missing or of another kind becomes null. */
function statsShape(columns: readonly IndexedColumn[]): string {
  const tree = (typeOf: (type: LogicalType) => string): Record<string, unknown> => {
    const root: Record<string, unknown> = {};
    for (const { path, type } of columns) {
      let node = root;
      for (const step of path.slice(0, -1)) node = (node[step] ??= {}) as Record<string, unknown>;
      node[path.at(-1)!] = typeOf(type);
    }
    return root;
  };
  const jsonType = (type: LogicalType) => isRounded(type) ? 'DOUBLE' : (['date', 'timestamp', 'timestamptz', 'string', 'uuid', 'time', 'timestamp_ns'].includes(type.kind) ? 'VARCHAR' : typeName(type).toUpperCase());
  const shape = { numRecords: 'BIGINT', tightBounds: 'BOOLEAN', ...(columns.length > 0 ? { minValues: tree(jsonType), maxValues: tree(jsonType), nullCount: tree(() => 'BIGINT') } : {}) };
  return JSON.stringify(shape);
}

/** False only of files that cannot hold a matching row; `by`: what partitions say alone, or with bounds too. */
export function conditionSql(predicate: Predicate, columns: readonly IndexedColumn[], by: 'partition' | 'all'): string {
  switch (predicate.op) {
    case 'true':
      return 'true';
    case 'and':
    case 'or': {
      const parts = predicate.args.map((each) => conditionSql(each, columns, by));
      if (predicate.op === 'or' && parts.includes('true')) return 'true';
      const useful = parts.filter((part) => part !== 'true');
      return useful.length === 0 ? 'true' : `(${useful.join(predicate.op === 'and' ? ' AND ' : ' OR ')})`;
    }
    default: {
      const index = columns.findIndex((column) => column.path.length === predicate.column.length && column.path.every((step, at) => step === predicate.column[at]));
      const column = columns[index];
      if (!column || !fits(predicate, column.type)) return 'true';
      if (column.isPartition) return partitionLeaf(predicate, column.type, `p${index}`);
      return by === 'all' && isBounded(column.type) ? boundsLeaf(predicate, column.type, index) : 'true';
    }
  }
}

type Leaf = Exclude<Predicate, { op: 'true' | 'and' | 'or' }>;

/** A value of another type than the column had when it was indexed cannot be compared here. */
function fits(leaf: Leaf, type: LogicalType): boolean {
  const values = leaf.op === 'compare' ? [leaf.value] : leaf.op === 'in' ? leaf.values : leaf.op === 'prefix' ? [leaf.prefix] : [];
  return values.every((value) => typeof value === jsKind(type)) && (leaf.op !== 'prefix' || type.kind === 'string');
}

function jsKind(type: LogicalType): string {
  switch (type.kind) {
    case 'boolean':
      return 'boolean';
    case 'byte':
    case 'short':
    case 'int':
    case 'float':
    case 'double':
    case 'date':
      return 'number';
    case 'string':
    case 'uuid':
      return 'string';
    default:
      return 'bigint';
  }
}

function partitionLeaf(leaf: Leaf, type: LogicalType, name: string): string {
  switch (leaf.op) {
    case 'null':
      return `${name} IS NULL`;
    case 'not-null':
      return `${name} IS NOT NULL`;
    case 'compare':
      return `coalesce(${name} ${leaf.comparison === '!=' ? '<>' : leaf.comparison} ${literal(type, leaf.value)}, false)`;
    case 'in':
      return leaf.values.length === 0 ? 'false' : `coalesce(${name} IN (${leaf.values.map((value) => literal(type, value)).join(', ')}), false)`;
    case 'prefix':
      return `coalesce(starts_with(${name}, ${quoteText(leaf.prefix)}), false)`;
  }
}

function boundsLeaf(leaf: Leaf, type: LogicalType, index: number): string {
  const [lo, hi, nulls] = [`lo${index}`, `hi${index}`, `nu${index}`];
  if (leaf.op === 'null') return `coalesce(${nulls} <> 0, true)`;
  const notAllNull = `(${nulls} < row_count OR ${nulls} IS NULL OR row_count IS NULL)`;
  switch (leaf.op) {
    case 'not-null':
      return notAllNull;
    case 'compare':
      return `(${notAllNull} AND ${comparison(leaf.comparison, leaf.value, type, lo, hi)})`;
    case 'in':
      return `(${notAllNull} AND (${['false', ...leaf.values.map((value) => comparison('=', value, type, lo, hi))].join(' OR ')}))`;
    case 'prefix':
      return `(${notAllNull} AND coalesce(${hi} >= ${quoteText(leaf.prefix)}, true) AND coalesce(${lo} <= ${quoteText(leaf.prefix)} OR starts_with(${lo}, ${quoteText(leaf.prefix)}), true))`;
  }
}

/** Bounds leave NaN out, and the engine sorts it above all numbers. */
function comparison(how: Extract<Leaf, { op: 'compare' }>['comparison'], value: Value, type: LogicalType, lo: string, hi: string): string {
  // Bounds of instants are kept as times in UTC.
  const v = `${literal(type.kind === 'timestamptz' ? { kind: 'timestamp' } : type, value)}${isRounded(type) ? '::DOUBLE' : ''}`;
  const mayBeNaN = isFloating(type);
  // What is equal after rounding may differ before it.
  if (isRounded(type) && how === '!=') return 'true';
  const side = isRounded(type) && !how.endsWith('=') ? `${how}=` : how;
  switch (how) {
    case '=':
      return mayBeNaN && Number.isNaN(value) ? 'true' : `${orUnknown(lo, '<=', v)} AND ${orUnknown(hi, '>=', v)}`;
    case '<':
    case '<=':
      return orUnknown(lo, side, v);
    case '>':
    case '>=':
      return mayBeNaN ? 'true' : orUnknown(hi, side, v);
    case '!=':
      return mayBeNaN ? 'true' : `coalesce(${lo} <> ${v} OR ${hi} <> ${v}, true)`;
  }
}

/** In a form by which the engine skips whole blocks. */
function orUnknown(bound: string, how: string, value: string): string {
  return `(${bound} ${how} ${value} OR ${bound} IS NULL)`;
}
