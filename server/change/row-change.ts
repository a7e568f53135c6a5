/** One statement on the rows of a table, as far as it is the same for every format: which rows are acted on, and in which files they lie. */
import { LakeError } from '../../core/errors';
import { filesToRead, type DataFile } from '../../core/scan/plan';
import { findField, type Field } from '../../core/schema/types';
import { readFilePlan, type FilePlan } from '../../core/write/plan';
import type { ChangeStatement, Range } from '../../core/sql/change';
import type { SqlTree } from '../../core/sql/statement';
import { POSITION, type Scan } from '../engine/parquet-scan';
import type { OpenScans } from '../query/open-scans';
import type { PlannedTable } from '../query/prepare';
import type { ComposedChange } from './composed-change';
import { ACTS, rowPlan, type RowPlan } from './row-plan';
import type { Writing } from './write-files';

export interface RowChange {
  statement: ChangeStatement;
  composed: ComposedChange;
  /** The user's text. */
  sql: string;
  name: string;
  scans: OpenScans;
  /** The table as the statement looks at it; absent when it only adds rows. */
  target?: PlannedTable;
  /** What else it reads. */
  others: readonly PlannedTable[];
  writing: Writing;
  tree: SqlTree;
  /** A load that must not happen twice. */
  loadId?: string;
  sqlOf: (range: Range) => string;
  /** How new rows go into files, by the options' names. */
  files?: Readonly<Record<string, string>>;
}

/** The plan of files that were asked for; none for statements that put rows back where they were. */
export function filePlanOf({ files }: RowChange, fields: readonly Field[]): FilePlan | undefined {
  return files && readFilePlan(files, (name) => findField(fields, name)?.name);
}

export interface ChangeOutcome {
  operation: string;
  /** Null where no row was concerned, so that no version was made. */
  version: number | null;
  /** A load that the table had before. */
  alreadyLoaded?: { version: number | null };
  counts: { rowsInserted: number; rowsUpdated: number; rowsDeleted: number; rowsCopied: number; filesAdded: number; filesRemoved: number; bytesAdded: number; bytesRemoved: number; vectorsAdded: number; changeFiles: number };
}

/** A file of which rows are acted on. */
export interface TouchedFile {
  number: number;
  file: DataFile;
  /** Rows that are acted on, and those of them that are deleted. */
  acted: number;
  deleted: number;
}

/** Finds the rows that are acted on; they are in `ACTS` afterwards. */
export async function planRows(change: RowChange, fields: readonly Field[]): Promise<{ plan: RowPlan; touched: TouchedFile[] }> {
  const { statement, composed, scans, target, sqlOf } = change;
  const { step } = change.writing;
  const source = composed.source && (statement.kind === 'merge' ? sqlOf(composed.source) : `(${sqlOf(composed.source)}\n)`);
  const sourceColumns = source ? (await step(`SELECT * FROM ${source} LIMIT 0`)).columns : [];
  const plan = rowPlan({ statement, composed, fields, target: target ? scans.relations.get(target.standIn)! : '', sqlOf, sourceColumns, table: change.name });
  for (const sql of plan.prepare) await step(sql);
  if (plan.checkDoubles && plan.prepare.length > 0) await checkDoubles(change);
  return { plan, touched: target && plan.prepare.length > 0 ? await touchedFiles(change, target, plan) : [] };
}

async function checkDoubles({ name, composed, writing }: RowChange): Promise<void> {
  const { rows } = await writing.step(`SELECT count(*), any_value(__file), any_value(__row), max(n) FROM (SELECT ${POSITION.file}, ${POSITION.row}, count(*) AS n FROM ${ACTS} GROUP BY ALL HAVING count(*) > 1)`);
  const doubles = Number(rows[0]![0]);
  if (doubles === 0) return;
  throw new LakeError('refused', `${doubles === 1 ? 'One row' : `${doubles} rows`} of ${name} match more than one row of what is merged (up to ${Number(rows[0]![3])}), so it is not clear which counts. Nothing was changed.`, {
    table: name, hint: 'Take one row a key from the source first, for example with row_number() OVER (PARTITION BY key ORDER BY …) = 1.', ...(composed.on ? { position: composed.query.originalPosition(composed.on.start) } : {}),
  });
}

async function touchedFiles({ writing }: RowChange, target: PlannedTable, plan: RowPlan): Promise<TouchedFile[]> {
  const deletes = plan.deletes.size > 0 ? `count(*) FILTER (WHERE __act IN (${[...plan.deletes].join(', ')}))` : '0';
  const { rows } = await writing.step(`SELECT ${POSITION.file}, count(*), ${deletes} FROM ${ACTS} GROUP BY 1 ORDER BY 1`);
  const files = filesToRead(target.plan);
  return rows.map(([number, acted, deleted]) => ({ number: Number(number), file: files[Number(number)]!, acted: Number(acted), deleted: Number(deleted) }));
}

/** The rows that are acted on in each of the files, ascending, by the file's number. */
export async function positionsIn({ step }: Writing, files: readonly TouchedFile[]): Promise<Map<number, Uint32Array>> {
  if (files.length === 0) return new Map();
  const { rows } = await step(`SELECT ${POSITION.file}, list(${POSITION.row} ORDER BY ${POSITION.row}) FROM ${ACTS} WHERE ${POSITION.file} IN (${files.map((each) => each.number).join(', ')}) GROUP BY 1`);
  return new Map(rows.map(([number, list]) => [Number(number), Uint32Array.from((list as (string | number)[]).map(Number))]));
}

/** The target over some of its files alone, ready to be read. */
export async function narrowedTo({ scans, target, writing }: RowChange, name: string, files: readonly TouchedFile[]): Promise<string> {
  const numbers = new Set(files.map((each) => each.number));
  const { setup, relation }: Scan = scans.narrowed(target!.standIn, name, (number) => numbers.has(number));
  if (setup.length > 0) await writing.step('SELECT 1', setup);
  return relation;
}

/** What to do with each file: those that go whole, those that are written anew, and those of which rows are only marked. */
export function sortFiles<T extends TouchedFile>(touched: readonly T[], marks: boolean): { marked: T[]; replaced: T[]; rewritten: T[] } {
  const isWhole = (each: T) => each.acted === each.file.rows;
  const marked = marks ? touched.filter((each) => !isWhole(each)) : [];
  return {
    marked,
    replaced: touched.filter((each) => !marked.includes(each)),
    rewritten: touched.filter((each) => (marks ? each.deleted < each.acted : !isWhole(each) || each.deleted < each.acted)),
  };
}

export function sum<T>(items: readonly T[], pick: (item: T) => number): number {
  return items.reduce((total, item) => total + pick(item), 0);
}
