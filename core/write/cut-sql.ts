/** The cutting of rows into files, as SQL of the engine. */
import { quoteName, quoteText } from '../sql/tokens';
import type { FilePlan, SortTerm } from './plan';

/** Names that no column of a user has. */
export const FILE_NUMBER = '__file_number';
export const groupName = (index: number) => `__group_${index}`;

export interface CutExpressions {
  /** By which rows are grouped; each has the name `groupName(index)`. */
  groups: readonly string[];
  /** The number of a row's file, from 1; undefined where rows of a group are counted off. */
  file: string | undefined;
  sort: readonly SortTerm[];
}

export interface RangeBounds {
  /** As texts of the type; the first file ends before the first bound. */
  bounds: readonly string[];
  type: string;
}

/** `files` of hash; `ranges` of range. */
export function fileNumberSql(plan: FilePlan, files: number, ranges: RangeBounds | undefined): string | undefined {
  if (plan.mechanism === 'hash') return `(hash(${plan.by.map(quoteName).join(', ')}) % ${files})::INTEGER + 1`;
  if (plan.mechanism !== 'range') return undefined;
  return rangeSql(quoteName(plan.by[0]!), ranges!, 0, ranges!.bounds.length);
}

/** A search by halves: which of the bounds from `low` to `high` a value lies before. Rows without a value are in the last. */
function rangeSql(value: string, ranges: RangeBounds, low: number, high: number): string {
  if (low === high) return String(low + 1);
  const middle = (low + high) >> 1;
  const bound = `CAST(${quoteText(ranges.bounds[middle]!)} AS ${ranges.type})`;
  return `CASE WHEN ${value} < ${bound} THEN ${rangeSql(value, ranges, low, middle)} ELSE ${rangeSql(value, ranges, middle + 1, high)} END`;
}

/** Rows with their groups and file numbers, in the order in which they are cut. */
export function stagedSql(rows: string, cut: CutExpressions): string {
  const order = orderSql(cut);
  return `SELECT __rows.*${markSql(cut)} FROM (${rows}\n) AS __rows${order === '' ? '' : ` ORDER BY ${order}`}`;
}

/** Groups with their rows, in the order of `stagedSql`. */
export function countedSql(rows: string, cut: CutExpressions): string {
  const names = markNames(cut);
  const grouped = `SELECT ${[...names, 'count(*) AS __count'].join(', ')} FROM (SELECT *${markSql(cut)} FROM (${rows}\n) AS __rows) AS __marked`;
  return `SELECT ${shownMarks(cut)}, __count FROM (${grouped}${names.length > 0 ? ` GROUP BY ${names.join(', ')}` : ''}) AS __counts${names.length > 0 ? ` ORDER BY ${marksInOrder(cut)}` : ''}`;
}

/** The same of rows that are staged; `from`: where the rows of each group begin. */
export function stagedGroupsSql(staged: string, cut: CutExpressions): string {
  const names = markNames(cut);
  const grouped = `SELECT ${[...names, 'count(*) AS __count', 'min(file_row_number) AS __from'].join(', ')} FROM ${stagedRelation(staged)}`;
  return `SELECT ${shownMarks(cut)}, __count, __from FROM (${grouped}${names.length > 0 ? ` GROUP BY ${names.join(', ')}` : ''}) AS __counts ORDER BY __from`;
}

/** The columns of one file's rows. */
export function fileRowsSql(staged: string, columns: readonly string[], from: number, rows: number): string {
  return `SELECT ${columns.join(', ')} FROM ${stagedRelation(staged)} WHERE file_row_number BETWEEN ${from} AND ${from + rows - 1}`;
}

function stagedRelation(staged: string): string {
  return `read_parquet(${quoteText(staged)}, file_row_number = true)`;
}

export function sortSql(sort: readonly SortTerm[]): string[] {
  return sort.map(({ column, descending, nullsFirst }) => `${quoteName(column)} ${descending ? 'DESC' : 'ASC'} NULLS ${nullsFirst ? 'FIRST' : 'LAST'}`);
}

function orderSql(cut: CutExpressions): string {
  return [...(markNames(cut).length > 0 ? [marksInOrder(cut)] : []), ...sortSql(cut.sort)].join(', ');
}

function marksInOrder(cut: CutExpressions): string {
  return markNames(cut).map((name) => `${name} NULLS LAST`).join(', ');
}

function markNames({ groups, file }: CutExpressions): string[] {
  return [...groups.map((_, index) => groupName(index)), ...(file === undefined ? [] : [FILE_NUMBER])];
}

function markSql({ groups, file }: CutExpressions): string {
  return [...groups.map((sql, index) => `, ${sql} AS ${groupName(index)}`), ...(file === undefined ? [] : [`, ${file} AS ${FILE_NUMBER}`])].join('');
}

/** One list of texts and the number of the file, so that every answer has the same columns. */
function shownMarks({ groups, file }: CutExpressions): string {
  return `[${groups.map((_, index) => `${groupName(index)}::VARCHAR`).join(', ')}]::VARCHAR[] AS __values, ${file === undefined ? 'NULL' : FILE_NUMBER} AS __number`;
}
