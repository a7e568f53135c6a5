import type { Field } from '../schema/types';
import type { Value } from '../values/value';
import { predicateColumns, type ColumnPath, type Predicate } from './predicate';
import { mergeStats, mightMatch, type StatsLookup } from './prune';
import type { ReadOptions } from '../folder/read-options';

/** One data file of a version, with all that planning and reading need. */
/** What a file of an Iceberg table can be besides Parquet. */
export type FileFormat = 'avro';

export interface DataFile {
  /** Relative to the storage's root. */
  path: string;
  bytes: number;
  /** The format of a file that is none of the table's usual one; it is read by way of a copy. */
  format?: FileFormat;
  /** Rows that readers see. */
  rows?: number;
  /** Only some of its rows are to be read. */
  rowFilter?: RowFilter;
  /** When the bytes were last seen to change, for kinds of table that do not promise immutable files. */
  modified?: number;
  etag?: string;
  /** Partition columns by name as they are shown: `{ day: '2026-03-14' }`; null is a null partition. */
  partition: Record<string, string | null>;
  /** The table's columns as this file has them, where it must be read by name: those with other names in it have a physical one. */
  columns?: FileColumns;
  /** Values of columns that are not in the file, by column name. */
  constants: Record<string, Value | null>;
  /** What the partition alone says of a column. */
  partitionStats: StatsLookup;
  /** What the file's own statistics say of a column. */
  stats: StatsLookup;
}

export interface FileColumns {
  /** Equal for files whose columns are equal. */
  key: string;
  fields: readonly Field[];
}

/** Which rows of a file count, by their positions from 0. */
export interface RowFilter {
  /** The rows listed are left out, or are the only ones read. */
  listed: 'left-out' | 'kept';
  /** How many are listed. */
  count: number;
  /** Rows in the file, counted or not. */
  physicalRows?: number;
  /** Tells this list from others; equal lists have equal keys. */
  key: string;
  /** Ascending. Fails when the list is damaged. */
  load(): Promise<Uint32Array>;
}

/** How a file's columns become the table's: by Parquet field id, or by name. */
export type ColumnMatch = 'field-id' | 'name';

/** How the engine must read a table's files. */
export type FileReader = { kind: 'parquet'; match: ColumnMatch } | { kind: 'text'; options: ReadOptions } | { kind: 'copy'; options: ReadOptions } | SourceReader;

/** Rows that a connected database is asked for; what asks it is the server's. `copy` stands for rows that were fetched. */
export interface SourceReader {
  kind: 'source';
  driver: SourceRows;
  place: { schema: string; name: string };
  predicate: Predicate;
}

/** As much of a driver as a plan must know. */
export interface SourceRows {
  rows(read: { schema: string; name: string; fields: readonly Field[]; predicate: Predicate }): AsyncIterable<Record<string, unknown>[]>;
  statementOf(read: { schema: string; name: string; fields: readonly Field[]; predicate: Predicate }): string;
}

export type Verdict = 'read' | 'skipped-by-partition' | 'skipped-by-bounds';

export interface ConsideredFile {
  file: DataFile;
  verdict: Verdict;
}

export interface ScanCounts {
  total: number;
  skippedByPartition: number;
  skippedByBounds: number;
  read: number;
}

export interface ScanPlan {
  reader: FileReader;
  /** The table's columns at this version, in order. */
  fields: Field[];
  /** Files that were looked at one by one; of very large tables the others are only counted. */
  considered: ConsideredFile[];
  /** Files that were ruled out many at a time, by the column that did it where that is known; the counts have them too. */
  ruledOut?: { column: string; kind: 'partition' | 'bounds'; files: number }[];
  files: ScanCounts;
  bytes: { total: number; read: number };
}

export interface Totals {
  files: number;
  bytes: number;
  /** Undefined where not every file says. */
  rows: number | undefined;
}

export function totalsOf(files: readonly DataFile[]): Totals {
  const totals: Totals = { files: files.length, bytes: 0, rows: 0 };
  for (const file of files) {
    totals.bytes += file.bytes;
    totals.rows = totals.rows === undefined || file.rows === undefined ? undefined : totals.rows + file.rows;
  }
  return totals;
}

/** A plan with the files that an index ruled out before, which are counted and not named. */
export function withRuledOut(plan: ScanPlan, ruledOut: { byPartition: number; byBounds: number; bytes: number }): ScanPlan {
  const { files, bytes } = plan;
  return {
    ...plan,
    files: { total: files.total + ruledOut.byPartition + ruledOut.byBounds, skippedByPartition: files.skippedByPartition + ruledOut.byPartition, skippedByBounds: files.skippedByBounds + ruledOut.byBounds, read: files.read },
    bytes: { total: bytes.total + ruledOut.bytes, read: bytes.read },
  };
}

/** The files a reader must open. */
export function filesToRead(plan: ScanPlan): DataFile[] {
  return plan.considered.filter(({ verdict }) => verdict === 'read').map(({ file }) => file);
}

/** Decides for each file whether it can hold matching rows: by its partition first, then by its bounds. */
export function planScan(reader: FileReader, fields: Field[], files: readonly DataFile[], predicate: Predicate): ScanPlan {
  const considered = files.map((file) => judge(file, predicate));
  const counts = { total: files.length, skippedByPartition: 0, skippedByBounds: 0, read: 0 };
  const bytes = { total: 0, read: 0 };
  for (const { file, verdict } of considered) {
    bytes.total += file.bytes;
    if (verdict === 'read') {
      counts.read++;
      bytes.read += file.bytes;
    } else if (verdict === 'skipped-by-partition') counts.skippedByPartition++;
    else counts.skippedByBounds++;
  }
  return { reader, fields, considered, files: counts, bytes };
}

function judge(file: DataFile, predicate: Predicate): ConsideredFile {
  if (!mightMatch(predicate, file.partitionStats)) return { file, verdict: 'skipped-by-partition' };
  return { file, verdict: mightMatch(predicate, allStats(file)) ? 'read' : 'skipped-by-bounds' };
}

/** What partition and statistics say together. */
function allStats(file: DataFile): StatsLookup {
  return (column) => mergeStats(file.partitionStats(column), file.stats(column));
}

/** The first column that alone rules out what the lookup tells of, or undefined when it takes several together. */
export function whyRuledOut(predicate: Predicate, stats: StatsLookup): string | undefined {
  return predicateColumns(predicate).find((name) => !mightMatch(predicate, (column: ColumnPath) => (column.join('.') === name ? stats(column) : undefined)));
}

/** The first column that alone rules the file out, or undefined when it takes several together, or it is read. */
export function whySkipped({ file, verdict }: ConsideredFile, predicate: Predicate): string | undefined {
  if (verdict === 'read') return undefined;
  return whyRuledOut(predicate, verdict === 'skipped-by-partition' ? file.partitionStats : allStats(file));
}
