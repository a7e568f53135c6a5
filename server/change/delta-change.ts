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
import { or, and, type Predicate } from '../../core/scan/predicate';
import { field, type Field } from '../../core/schema/types';
import { readRule } from '../../core/sql/rule-sql';
import { joinPath } from '../../core/storage/paths';
import type { WrittenFile } from '../../core/table/written-file';
import { compareValues } from '../../core/values/value';
import { newRowsSql, oldRowsSql, type NewRows, type RunnableRules } from './new-rows';
import type { RowPlan } from './row-plan';
import { parametersOf } from './operation-words';
import { filePlanOf, narrowedTo, planRows, positionsIn, sortFiles, sum, type ChangeOutcome, type RowChange, type TouchedFile } from './row-change';
import { columnPartitions, writeFiles } from './write-files';

export interface DeltaChange extends RowChange {
  base: LogState;
  table: DeltaTable;
  ports: CommitPorts;
}

/** A file of which rows are acted on, with its entry of the log. */
interface Touched extends TouchedFile {
  key: string;
  add: Add;
}

export async function commitDelta(change: DeltaChange): Promise<ChangeOutcome> {
  const { statement, base, table } = change;
  checkPossible(change);
  const { fields } = schemaOf(base.metadata, table.name);
  const { plan, touched: found } = await planRows(change, fields);
  const touched = found.map((each): Touched => {
    const add = table.addOf(each.file);
    return { ...each, add, key: fileKey(add) };
  });
  const files = await writeChange(change, plan, fields, touched);
  if (touched.length === 0 && files.replaced.length === 0 && files.added.length === 0) return outcomeOf(change, null, touched, files);
  const metrics = metricsOf(change, touched, files);
  const version = await changeRows(table, {
    base, replaced: files.replaced.map((each) => each.key), deleted: files.vectors, files: files.added, changeFiles: files.changes,
    operation: statement.kind === 'update' ? 'UPDATE' : statement.kind === 'delete' ? 'DELETE' : statement.kind === 'merge' ? 'MERGE' : 'WRITE',
    parameters: parametersOf(statement, change.sql, base.metadata.partitionColumns), metrics, read: readSet(change, files.added), rowsChecked: true, ...(change.loadId === undefined ? {} : { txn: { appId: loadApplication(change.loadId), version: 1 } }),
  }, change.ports).catch(async (error: unknown) => {
    // Lost a race for certain, so nothing names these files.
    if (error instanceof LakeError && error.kind === 'conflict') await Promise.all([...files.added, ...files.changes].map((file) => table.store.delete(file.path).catch(() => undefined)));
    throw error;
  });
  return outcomeOf(change, version, touched, files);
}

/** By which Delta knows a load ("Transaction Identifiers"). */
export function loadApplication(loadId: string): string {
  return `load-${loadId}`;
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
  const { statement, base, table, composed, writing } = change;
  const { metadata, protocol } = base;
  const byVector = metadata.configuration['delta.enableDeletionVectors'] === 'true' && hasFeature(protocol, 'deletionVectors');
  const { marked, rewritten, ...sorted } = sortFiles(touched, byVector);
  const replaced: { key: string; add: Add }[] = [...sorted.replaced];
  const tracking = trackingOf(change, rewritten);
  const rows: NewRows = { plan, fields, alias: composed.alias, which: byVector ? 'acted' : 'all', rules: await runnableRules(change), ...(tracking ? { tracking: tracking.rows } : {}) };
  const wanted = {
    fields, partitions: columnPartitions(fields, metadata.partitionColumns), extra: tracking?.extra ?? [], folder: table.root, withIds: mappingMode(metadata.configuration, table.name) !== 'none',
    targetBytes: targetFileBytes(metadata.configuration),
  };
  let added: WrittenFile[] = [];
  if (rewritten.length > 0 || plan.inserts) {
    if (rewritten.length > 0) rows.touched = await narrowedTo(change, 'touched', rewritten);
    const files = filePlanOf(change, fields);
    added = await writeFiles(writing, { ...wanted, rows: newRowsSql(rows), ...(files ? { plan: files } : {}) });
  }
  if (statement.kind === 'replace' && statement.what.kind !== 'rows') {
    const live = [...(await allFiles(base.files))];
    const gone = statement.what.kind === 'all' ? live : live.filter(([, add]) => added.some((file) => samePartition(change, fields, add, file)));
    replaced.push(...gone.map(([key, add]) => ({ key, add })));
  }
  const changes = metadata.configuration['delta.enableChangeDataFeed'] === 'true' && touched.length > 0
    ? await writeFiles(writing, { ...wanted, extra: [{ name: '_change_type', type: { kind: 'string' } }], folder: joinPath(table.root, '_change_data'), rows: changedRows({ ...rows, which: 'acted' }, await narrowedTo(change, 'changed', touched)) })
    : [];
  const positions = await positionsIn(writing, marked);
  return { added, replaced, changes, vectors: new Map(marked.map((each) => [each.key, positions.get(each.number)!])) };
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

function outcomeOf({ statement }: DeltaChange, version: number | null, touched: readonly Touched[], { added, replaced, vectors, changes }: ChangedFiles): ChangeOutcome {
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
