/** One statement against a Delta table: its new files, its vectors, its change files, and the commit. */
import type { Add } from '../../core/delta/actions';
import type { CommitPorts } from '../../core/delta/commit';
import { BLIND, WHOLE_TABLE, type ReadSet } from '../../core/delta/conflicts';
import { fileKey } from '../../core/delta/file-key';
import { allFiles } from '../../core/delta/live-files';
import { changeRows } from '../../core/delta/operations';
import { targetFileBytes } from '../../core/delta/properties';
import { hasFeature } from '../../core/delta/protocol';
import { rowTrackingColumns } from '../../core/delta/row-tracking';
import { RULE_FUNCTIONS, rulesOf } from '../../core/delta/rules';
import { mappingMode, schemaOf } from '../../core/delta/schema';
import type { LogState } from '../../core/delta/state';
import { rowCountOf } from '../../core/delta/stats';
import type { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { filesToRead, type DataFile } from '../../core/scan/plan';
import { or, and, type Predicate } from '../../core/scan/predicate';
import { field, type Field } from '../../core/schema/types';
import type { ChangeStatement, Range } from '../../core/sql/change';
import { readRule } from '../../core/sql/rule-sql';
import type { SqlTree } from '../../core/sql/statement';
import { joinPath } from '../../core/storage/paths';
import type { WrittenFile } from '../../core/table/written-file';
import { compareValues } from '../../core/values/value';
import { POSITION } from '../engine/parquet-scan';
import type { OpenScans } from '../query/open-scans';
import type { PlannedTable } from '../query/prepare';
import type { ComposedChange } from './composed-change';
import { newRowsSql, oldRowsSql, type NewRows, type RunnableRules } from './new-rows';
import { ACTS, rowPlan, type RowPlan } from './row-plan';
import { parametersOf } from './operation-words';
import { writeFiles, type Writing } from './write-files';

export interface DeltaChange {
  statement: ChangeStatement;
  composed: ComposedChange;
  /** The user's text. */
  sql: string;
  base: LogState;
  table: DeltaTable;
  name: string;
  scans: OpenScans;
  /** The table as the statement looks at it; absent when it only adds rows. */
  target?: PlannedTable;
  /** What else it reads. */
  others: readonly PlannedTable[];
  writing: Writing;
  tree: SqlTree;
  sqlOf: (range: Range) => string;
  ports: CommitPorts;
}

export interface DeltaOutcome {
  operation: string;
  /** Null where no row was concerned, so that no version was made. */
  version: number | null;
  counts: { rowsInserted: number; rowsUpdated: number; rowsDeleted: number; rowsCopied: number; filesAdded: number; filesRemoved: number; bytesAdded: number; bytesRemoved: number; vectorsAdded: number; changeFiles: number };
}

/** A file of which rows are acted on. */
interface Touched {
  number: number;
  file: DataFile;
  key: string;
  add: Add;
  /** Rows that are acted on, and those of them that are deleted. */
  acted: number;
  deleted: number;
}

export async function commitDelta(change: DeltaChange): Promise<DeltaOutcome> {
  const { statement, composed, base, table, scans, target, writing, sqlOf } = change;
  const { step } = writing;
  checkPossible(change);
  const { fields } = schemaOf(base.metadata, table.name);
  const source = composed.source && (statement.kind === 'merge' ? sqlOf(composed.source) : `(${sqlOf(composed.source)}\n)`);
  const sourceColumns = source ? (await step(`SELECT * FROM ${source} LIMIT 0`)).columns : [];
  const plan = rowPlan({ statement, composed, fields, target: target ? scans.relations.get(target.standIn)! : '', sqlOf, sourceColumns, table: change.name });
  for (const sql of plan.prepare) await step(sql);
  if (plan.checkDoubles && plan.prepare.length > 0) await checkDoubles(change, step);
  const touched = target && plan.prepare.length > 0 ? await touchedFiles(change, target, plan) : [];
  const files = await writeChange(change, plan, fields, touched);
  if (touched.length === 0 && files.replaced.length === 0 && files.added.length === 0) return outcomeOf(change, null, touched, files);
  const metrics = metricsOf(change, touched, files);
  const version = await changeRows(table, {
    base, replaced: files.replaced.map((each) => each.key), deleted: files.vectors, files: files.added, changeFiles: files.changes,
    operation: statement.kind === 'update' ? 'UPDATE' : statement.kind === 'delete' ? 'DELETE' : statement.kind === 'merge' ? 'MERGE' : 'WRITE',
    parameters: parametersOf(statement, change.sql, base.metadata.partitionColumns), metrics, read: readSet(change, files.added), rowsChecked: true,
  }, change.ports).catch(async (error: unknown) => {
    // Lost a race for certain, so nothing names these files.
    if (error instanceof LakeError && error.kind === 'conflict') await Promise.all([...files.added, ...files.changes].map((file) => table.store.delete(file.path).catch(() => undefined)));
    throw error;
  });
  return outcomeOf(change, version, touched, files);
}

/** Before anything is written. */
function checkPossible({ statement, base, name }: DeltaChange): void {
  const { configuration, partitionColumns } = base.metadata;
  if (statement.kind !== 'insert' && configuration['delta.appendOnly'] === 'true') {
    throw new LakeError('refused', `${name} is append-only (delta.appendOnly): rows can be inserted, not changed or removed. Nothing was changed.`, { table: name, position: 0 });
  }
  if (statement.kind === 'replace' && statement.what.kind === 'partitions' && partitionColumns.length === 0) {
    throw new LakeError('bad-request', `${name} is not partitioned, so there are no partitions to replace. Nothing was changed.`, { table: name, hint: 'Say which rows go: REPLACE ROWS OF … WHERE … BY …, or REPLACE ALL ROWS OF … BY ….' });
  }
}

interface ChangedFiles {
  added: WrittenFile[];
  /** Files that go whole. */
  replaced: { key: string; add: Add }[];
  /** Rows that go and stay in their files, by file key. */
  vectors: Map<string, Uint32Array>;
  changes: WrittenFile[];
}

async function writeChange(change: DeltaChange, plan: RowPlan, fields: Field[], touched: readonly Touched[]): Promise<ChangedFiles> {
  const { statement, base, table, composed, scans, target, writing } = change;
  const { metadata, protocol } = base;
  const byVector = metadata.configuration['delta.enableDeletionVectors'] === 'true' && hasFeature(protocol, 'deletionVectors');
  const isWhole = (each: Touched) => each.acted === each.file.rows;
  const marked = byVector ? touched.filter((each) => !isWhole(each)) : [];
  const replaced: { key: string; add: Add }[] = touched.filter((each) => !marked.includes(each));
  const rewritten = touched.filter((each) => (byVector ? each.deleted < each.acted : !isWhole(each) || each.deleted < each.acted));
  const tracking = trackingOf(change, rewritten);
  const narrowed = (name: string, files: readonly Touched[]) => {
    const numbers = new Set(files.map((each) => each.number));
    return scans.narrowed(target!.standIn, name, (number) => numbers.has(number));
  };
  const rows: NewRows = { plan, fields, alias: composed.alias, which: byVector ? 'acted' : 'all', rules: await runnableRules(change), ...(tracking ? { tracking: tracking.rows } : {}) };
  const wanted = {
    fields, partitionColumns: metadata.partitionColumns, extra: tracking?.extra ?? [], folder: table.root, withIds: mappingMode(metadata.configuration, table.name) !== 'none',
    targetBytes: targetFileBytes(metadata.configuration),
  };
  let added: WrittenFile[] = [];
  if (rewritten.length > 0 || plan.inserts) {
    if (rewritten.length > 0) rows.touched = await prepared(writing, narrowed('touched', rewritten));
    added = await writeFiles(writing, { ...wanted, rows: newRowsSql(rows) });
  }
  if (statement.kind === 'replace' && statement.what.kind !== 'rows') {
    const live = [...(await allFiles(base.files))];
    const gone = statement.what.kind === 'all' ? live : live.filter(([, add]) => added.some((file) => samePartition(change, fields, add, file)));
    replaced.push(...gone.map(([key, add]) => ({ key, add })));
  }
  const changes = metadata.configuration['delta.enableChangeDataFeed'] === 'true' && touched.length > 0
    ? await writeFiles(writing, { ...wanted, extra: [{ name: '_change_type', type: { kind: 'string' } }], folder: joinPath(table.root, '_change_data'), rows: changedRows({ ...rows, which: 'acted' }, await prepared(writing, narrowed('changed', touched))) })
    : [];
  return { added, replaced, changes, vectors: await positions(writing, marked) };
}

async function prepared({ step }: Writing, { setup, relation }: { setup: string[]; relation: string }): Promise<string> {
  if (setup.length > 0) await step('SELECT 1', setup);
  return relation;
}

/** "Add CDC File": rows before and after, with `_change_type`. */
function changedRows(rows: NewRows, relation: string): string {
  const { plan } = rows;
  const columns = rows.fields.map((each) => `"${each.name.replaceAll('"', '""')}"`).join(', ');
  const parts = [oldRowsSql(rows, relation)];
  if (plan.updates.size > 0 || plan.inserts) parts.push(`SELECT ${columns}, CASE WHEN __act = -1 THEN 'insert' ELSE 'update_postimage' END AS _change_type FROM (${newRowsSql({ ...withoutTracking(rows), touched: relation })}) AS __after`);
  return parts.join(' UNION ALL BY NAME ');
}

function withoutTracking({ tracking: _, ...rows }: NewRows): NewRows {
  return rows;
}

async function checkDoubles({ name, composed }: DeltaChange, step: Writing['step']): Promise<void> {
  const { rows } = await step(`SELECT count(*), any_value(__file), any_value(__row), max(n) FROM (SELECT ${POSITION.file}, ${POSITION.row}, count(*) AS n FROM ${ACTS} GROUP BY ALL HAVING count(*) > 1)`);
  const doubles = Number(rows[0]![0]);
  if (doubles === 0) return;
  throw new LakeError('refused', `${doubles === 1 ? 'One row' : `${doubles} rows`} of ${name} match more than one row of what is merged (up to ${Number(rows[0]![3])}), so it is not clear which counts. Nothing was changed.`, {
    table: name, hint: 'Take one row a key from the source first, for example with row_number() OVER (PARTITION BY key ORDER BY …) = 1.', ...(composed.on ? { position: composed.query.originalPosition(composed.on.start) } : {}),
  });
}

async function touchedFiles({ table, writing }: DeltaChange, target: PlannedTable, plan: RowPlan): Promise<Touched[]> {
  const deletes = plan.deletes.size > 0 ? `count(*) FILTER (WHERE __act IN (${[...plan.deletes].join(', ')}))` : '0';
  const { rows } = await writing.step(`SELECT ${POSITION.file}, count(*), ${deletes} FROM ${ACTS} GROUP BY 1 ORDER BY 1`);
  if (rows.length === 0) return [];
  const files = filesToRead(target.plan);
  return rows.map(([number, acted, deleted]) => {
    const file = files[Number(number)]!;
    const add = table.addOf(file);
    return { number: Number(number), file, key: fileKey(add), add, acted: Number(acted), deleted: Number(deleted) };
  });
}

async function positions({ step }: Writing, marked: readonly Touched[]): Promise<Map<string, Uint32Array>> {
  const vectors = new Map<string, Uint32Array>();
  if (marked.length === 0) return vectors;
  const { rows } = await step(`SELECT ${POSITION.file}, list(${POSITION.row} ORDER BY ${POSITION.row}) FROM ${ACTS} WHERE ${POSITION.file} IN (${marked.map((each) => each.number).join(', ')}) GROUP BY 1`);
  const lists = new Map(rows.map(([number, list]) => [Number(number), Uint32Array.from((list as (string | number)[]).map(Number))]));
  for (const each of marked) vectors.set(each.key, lists.get(each.number)!);
  return vectors;
}

/** The table's rules as SQL; those that are not understood are refused by name. */
async function runnableRules({ base, table, statement, composed, sqlOf, tree }: DeltaChange): Promise<RunnableRules> {
  const rules = rulesOf(base.metadata, table.name);
  const read = (name: string, sql: string) => readRule(name, sql, RULE_FUNCTIONS, tree);
  const conditions = await Promise.all(rules.conditions.map(async ({ name, sql }) => ({ name, sql: await read(name, sql) })));
  if (statement.kind === 'replace' && composed.where) conditions.push({ name: 'the rows that come in must meet the condition of those they replace', sql: sqlOf(composed.where) });
  return {
    required: rules.required,
    conditions,
    generated: await Promise.all(rules.generated.map(async ({ column, sql }) => ({ column, sql: await read(column, sql) }))),
    defaults: new Map(await Promise.all(rules.defaults.map(async ({ column, sql }) => [column, await read(column, sql)] as const))),
  };
}

function trackingOf({ base, table, target }: DeltaChange, rewritten: readonly Touched[]): { rows: NonNullable<NewRows['tracking']>; extra: { name: string; type: Field['type'] }[] } | undefined {
  const columns = rowTrackingColumns(base.metadata);
  if (!columns || !target) return undefined;
  if (mappingMode(base.metadata.configuration, table.name) === 'id') throw new LakeError('unsupported', `${table.name} keeps row ids and maps columns by id; rows of such a table cannot be moved to other files here. Nothing was changed.`, { table: table.name });
  return {
    rows: { ...columns, files: new Map(rewritten.map(({ number, add }) => [number, { baseRowId: Number(add.baseRowId ?? 0), version: Number(add.defaultRowCommitVersion ?? 0) }])) },
    extra: [columns.id, columns.version].map((name) => ({ name, type: { kind: 'long' } })),
  };
}

/** Columns of row tracking are read beside the table's own. */
export function trackingFields(base: LogState): Field[] {
  const columns = rowTrackingColumns(base.metadata);
  return columns ? [field(columns.id, 'long'), field(columns.version, 'long')] : [];
}

function samePartition({ table, base }: DeltaChange, fields: readonly Field[], add: Add, file: WrittenFile): boolean {
  const { constants } = table.partitionOf(add, { fields: [...fields] }, base.metadata.partitionColumns);
  return base.metadata.partitionColumns.every((name) => {
    const [a, b] = [constants[name] ?? null, file.partition[name] ?? null];
    return a === null || b === null ? a === b : compareValues(a, b) === 0;
  });
}

/** What the statement looked at, so that a commit that came first can be judged. */
function readSet({ statement, target, others, name, base }: DeltaChange, added: readonly WrittenFile[]): ReadSet {
  if (others.some((other) => other.source.name === name)) return WHOLE_TABLE;
  if (statement.kind === 'insert') return BLIND;
  if (statement.kind === 'replace' && statement.what.kind === 'all') return WHOLE_TABLE;
  if (statement.kind === 'replace' && statement.what.kind === 'partitions') return { kind: 'rows', predicate: partitionsOf(added, base.metadata.partitionColumns) };
  const bySource = statement.kind === 'merge' && statement.clauses.some((clause) => clause.when === 'not-matched-by-source');
  return target && !bySource ? { kind: 'rows', predicate: target.predicate } : WHOLE_TABLE;
}

function partitionsOf(files: readonly WrittenFile[], columns: readonly string[]): Predicate {
  return or(files.map((file) => and(columns.map((name): Predicate => {
    const value = file.partition[name] ?? null;
    return value === null ? { op: 'null', column: [name] } : { op: 'compare', column: [name], comparison: '=', value };
  }))));
}

function outcomeOf({ statement }: DeltaChange, version: number | null, touched: readonly Touched[], { added, replaced, vectors, changes }: ChangedFiles): DeltaOutcome {
  const acted = sum(touched, (each) => each.acted);
  const deleted = sum(touched, (each) => each.deleted);
  const updated = acted - deleted;
  // Rows of rewritten files that only moved.
  const copied = vectors.size > 0 ? 0 : sum(touched, (each) => (each.file.rows ?? 0) - each.acted);
  const whole = statement.kind === 'replace' && statement.what.kind !== 'rows' ? sum(replaced, ({ add }) => rowsOf(add)) : 0;
  return {
    operation: statement.kind,
    version,
    counts: {
      rowsInserted: sum(added, (file) => file.rows) - copied - updated, rowsUpdated: updated, rowsDeleted: deleted + whole, rowsCopied: copied,
      filesAdded: added.length, filesRemoved: replaced.length, bytesAdded: sum(added, (file) => file.bytes), bytesRemoved: sum(replaced, ({ add }) => Number(add.size)),
      vectorsAdded: vectors.size, changeFiles: changes.length,
    },
  };
}

function rowsOf(add: Add): number {
  return (rowCountOf(add.stats) ?? 0) - Number(add.deletionVector?.cardinality ?? 0);
}

/** Metrics by the names that other writers use (common practice). */
function metricsOf(change: DeltaChange, touched: readonly Touched[], files: ChangedFiles): Record<string, number> {
  const { counts } = outcomeOf(change, null, touched, files);
  const common = { numAddedChangeFiles: counts.changeFiles, numDeletionVectorsAdded: counts.vectorsAdded };
  const moved = { numAddedFiles: counts.filesAdded, numRemovedFiles: counts.filesRemoved, numAddedBytes: counts.bytesAdded, numRemovedBytes: counts.bytesRemoved, numCopiedRows: counts.rowsCopied };
  switch (change.statement.kind) {
    case 'update':
      return { ...moved, numUpdatedRows: counts.rowsUpdated, ...common };
    case 'delete':
      return { ...moved, numDeletedRows: counts.rowsDeleted, ...common };
    case 'merge':
      return {
        numTargetRowsInserted: counts.rowsInserted, numTargetRowsUpdated: counts.rowsUpdated, numTargetRowsDeleted: counts.rowsDeleted, numTargetRowsCopied: counts.rowsCopied,
        numOutputRows: counts.rowsInserted + counts.rowsUpdated + counts.rowsCopied, numTargetFilesAdded: counts.filesAdded, numTargetFilesRemoved: counts.filesRemoved,
        numTargetBytesAdded: counts.bytesAdded, numTargetBytesRemoved: counts.bytesRemoved, numTargetChangeFilesAdded: counts.changeFiles, numTargetDeletionVectorsAdded: counts.vectorsAdded,
      };
    default:
      return { numFiles: counts.filesAdded, numOutputRows: counts.rowsInserted + counts.rowsCopied, numOutputBytes: counts.bytesAdded, ...(change.statement.kind === 'replace' ? { numDeletedRows: counts.rowsDeleted, numCopiedRows: counts.rowsCopied, numRemovedFiles: counts.filesRemoved, ...common } : {}) };
  }
}

function sum<T>(items: readonly T[], pick: (item: T) => number): number {
  return items.reduce((total, item) => total + pick(item), 0);
}
