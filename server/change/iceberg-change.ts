/** One statement against an Iceberg table: its new files, its delete files or vectors, and the snapshot. */
import { randomUUID } from 'node:crypto';
import { mkdirSync } from 'node:fs';
import path from 'node:path';
import { LakeError } from '../../core/errors';
import type { CommitPorts } from '../../core/iceberg/commit';
import { deleteFile, newDataFile, vectorFile } from '../../core/iceberg/data-files';
import { groupKey } from '../../core/iceberg/delete-index';
import type { IcebergDataFile } from '../../core/iceberg/manifest';
import { refsOf, snapshotById, schemaOf, versionOf, type SnapshotJson, type TableMetadata } from '../../core/iceberg/metadata';
import { packVectors } from '../../core/iceberg/puffin';
import { parseSchema, schemaJson } from '../../core/iceberg/schema';
import { commitSnapshot, keyOf, type NewFile } from '../../core/iceberg/snapshot-commit';
import type { FileEntry, SnapshotFiles } from '../../core/iceberg/snapshot-files';
import { specOf, type IcebergTable } from '../../core/iceberg/table';
import { TRUE, type Predicate } from '../../core/scan/predicate';
import { field, type Field } from '../../core/schema/types';
import { quoteText } from '../../core/sql/tokens';
import { joinPath } from '../../core/storage/paths';
import type { Snapshot } from '../../core/table/contract';
import type { WrittenFile } from '../../core/table/written-file';
import { unionOf } from '../../core/values/row-positions';
import { quoteList } from '../engine/instances';
import { literal } from '../engine/literal';
import { POSITION } from '../engine/parquet-scan';
import { fieldIdsOption } from '../engine/row-files';
import { newRowsSql, type NewRows, type RowOrigin, type RunnableRules } from './new-rows';
import { ACTS, type RowPlan } from './row-plan';
import { filePlanOf, narrowedTo, planRows, positionsIn, sortFiles, sum, type ChangeOutcome, type RowChange, type TouchedFile } from './row-change';
import { transformPartitions } from './transform-partitions';
import { sortSql } from '../../core/write/cut-sql';
import type { FilePlan, SortTerm } from '../../core/write/plan';
import { writeFiles, type FilesWanted } from './write-files';

/** The state of a branch that a statement is worked out from. */
export interface BranchState {
  path: string;
  metadata: TableMetadata;
  branch: string;
  head: SnapshotJson | undefined;
  snapshot: Snapshot;
  files: SnapshotFiles;
}

export interface IcebergChange extends RowChange {
  base: BranchState;
  table: IcebergTable;
  ports: CommitPorts;
}

interface Touched extends TouchedFile {
  entry: FileEntry;
}

/** Row lineage ("Reserved Field IDs"). */
const ROW_ID = field('_row_id', 'long', { id: 2147483540 });
const ROW_SEQUENCE = field('_last_updated_sequence_number', 'long', { id: 2147483539 });
const DELETE_FIELDS = [field('file_path', 'string', { id: 2147483546 }), field('pos', 'long', { id: 2147483545 })];
const FILE_PATH = 2147483546;
const POS = 2147483545;
export const TARGET_BYTES = 128 * 1024 * 1024;

/** Columns of row lineage are read beside the table's own. */
export function lineageFields(metadata: TableMetadata): Field[] {
  return metadata['format-version'] >= 3 ? [ROW_ID, ROW_SEQUENCE] : [];
}

export async function branchState(table: IcebergTable, branch: string): Promise<BranchState> {
  const { path: at, metadata } = await table.current();
  const ref = refsOf(metadata)[branch];
  if (!ref && branch !== 'main') throw new LakeError('not-found', `${table.name} has no branch "${branch}". Nothing was changed.`, { table: table.name, hint: `It has ${Object.keys(refsOf(metadata)).join(', ') || 'none'}.` });
  if (ref && ref.type !== 'branch') throw new LakeError('bad-request', `"${branch}" of ${table.name} is a tag; rows are written to branches. Nothing was changed.`, { table: table.name });
  const head = ref && snapshotById(metadata, ref['snapshot-id']);
  return { path: at, metadata, branch, head, ...table.stateOf(at, metadata, head) };
}

export async function commitIceberg(change: IcebergChange): Promise<ChangeOutcome> {
  const { statement, base, table } = change;
  checkPossible(change);
  const { fields } = parseSchema(schemaOf(base.metadata, undefined), table.name);
  const { plan, touched: found } = await planRows(change, fields);
  const touched = found.map((each): Touched => ({ ...each, entry: table.entryOf(each.file) }));
  const files = await writeChange(change, plan, fields, touched);
  if (touched.length === 0 && files.replaced.length === 0 && files.added.length === 0) return outcomeOf(change, null, touched, files);
  const { snapshot, metadata } = await commitSnapshot(table, {
    branch: base.branch, ...(change.loadId === undefined ? {} : { loadId: change.loadId }),
    added: files.added.map((file) => ({ file: newDataFile(table.store.uri, file, base.metadata, table.name), specId: base.metadata['default-spec-id'] })),
    addedDeletes: files.deletes,
    removed: [...files.replaced.map(({ file, spec }) => ({ file, specId: spec['spec-id'] })), ...goneDeletes(files)],
    read: {
      snapshotId: base.head?.['snapshot-id'], schemaId: base.metadata['current-schema-id'],
      files: new Set([...touched.map(({ entry }) => entry.file.path), ...files.replaced.map(({ file }) => file.path)]),
      ...(isolationOf(change) === 'serializable' ? rowsRead(change) : {}),
    },
    ...(statement.kind === 'insert' ? { operation: 'append' as const } : {}),
    ...(statement.kind === 'replace' ? { operation: 'overwrite' as const } : {}),
  }, change.ports).catch(async (error: unknown) => {
    // Lost a race for certain, so nothing names these files.
    if (error instanceof LakeError && error.kind === 'conflict') await Promise.all([...files.added.map((file) => file.path), ...files.paths].map((each) => table.store.delete(each).catch(() => undefined)));
    throw error;
  });
  return outcomeOf(change, versionOf(metadata, snapshot), touched, files);
}

/** Before anything is written. */
function checkPossible({ statement, base, name }: IcebergChange): void {
  const { metadata } = base;
  if (metadata['format-version'] < 2) throw new LakeError('unsupported', `${name} has format version 1, which is read only here. Nothing was changed.`, { table: name, hint: 'Upgrade the table to version 2 or 3 first; no file is rewritten.' });
  const spec = specOf(metadata, metadata['default-spec-id']);
  if (statement.kind === 'replace' && statement.what.kind === 'partitions' && spec.fields.length === 0) {
    throw new LakeError('bad-request', `${name} is not partitioned, so there are no partitions to replace. Nothing was changed.`, { table: name, hint: 'Say which rows go: REPLACE ROWS OF … WHERE … BY …, or REPLACE ALL ROWS OF … BY ….' });
  }
}

/** `write.delete.mode` and its like (common practice); copying is the default. */
function marksRows({ statement, base }: IcebergChange): boolean {
  const kind = statement.kind === 'update' || statement.kind === 'merge' ? statement.kind : 'delete';
  return base.metadata.properties?.[`write.${kind}.mode`] === 'merge-on-read';
}

function isolationOf({ statement, base }: IcebergChange): 'serializable' | 'snapshot' {
  const kind = statement.kind === 'update' || statement.kind === 'merge' ? statement.kind : 'delete';
  return base.metadata.properties?.[`write.${kind}.isolation-level`] === 'snapshot' ? 'snapshot' : 'serializable';
}

interface GoneFile extends FileEntry {
  visibleRows: number;
}

interface ChangedFiles {
  added: WrittenFile[];
  deletes: NewFile[];
  /** Files that go whole. */
  replaced: GoneFile[];
  /** Vectors that newer ones take the place of. */
  oldVectors: { file: IcebergDataFile; specId: number }[];
  /** Of the delete files. */
  paths: string[];
}

async function writeChange(change: IcebergChange, plan: RowPlan, fields: Field[], touched: readonly Touched[]): Promise<ChangedFiles> {
  const { statement, base, table, composed, writing } = change;
  const { metadata } = base;
  const marks = marksRows(change);
  const { marked, rewritten, replaced: whole } = sortFiles(touched, marks);
  const replaced: GoneFile[] = whole.map(({ entry, file }) => ({ ...entry, visibleRows: file.rows ?? 0 }));
  const tracked = metadata['format-version'] >= 3;
  const origins = new Map(rewritten.map(({ number, entry }): [number, RowOrigin] => [number, { version: entry.sequenceNumber, ...(entry.file.firstRowId === undefined ? {} : { baseRowId: entry.file.firstRowId }) }]));
  const rows: NewRows = { plan, fields, alias: composed.alias, which: marks ? 'acted' : 'all', rules: rulesOf(change, fields), ...(tracked ? { tracking: { id: ROW_ID.name, version: ROW_SEQUENCE.name, files: origins } } : {}) };
  let added: WrittenFile[] = [];
  if (rewritten.length > 0 || plan.inserts) {
    if (rewritten.length > 0) rows.touched = await narrowedTo(change, 'touched', rewritten);
    const isMoved = tracked && rewritten.length > 0;
    const files = filePlanOf(change, fields);
    const wanted = filesWanted(metadata, fields, table, newRowsSql(isMoved ? rows : withoutTracking(rows)), isMoved, isMoved || files !== undefined);
    added = await writeFiles(writing, files ? planned(wanted, files, metadata, fields) : wanted);
  }
  if (statement.kind === 'replace' && statement.what.kind !== 'rows') replaced.push(...await replacedWhole(change, statement.what.kind, added));
  const deletes = marked.length === 0 ? { deletes: [], oldVectors: [], paths: [] } : metadata['format-version'] >= 3 ? await writeVectors(change, marked) : await writePositionDeletes(change, marked);
  return { added, replaced, ...deletes };
}

function withoutTracking({ tracking: _, ...rows }: NewRows): NewRows {
  return rows;
}

/** How rows of the table go into files: divided by its transforms, in its sort order unless they are in another one already. */
export function filesWanted(metadata: TableMetadata, fields: readonly Field[], table: IcebergTable, rows: string, withLineage: boolean, isOrdered = false): FilesWanted {
  const spec = specOf(metadata, metadata['default-spec-id']);
  const order = isOrdered ? '' : sortSql(sortTerms(metadata, fields)).join(', ');
  const target = Number(metadata.properties?.['write.target-file-size-bytes']);
  return {
    rows: order ? `SELECT * FROM (${rows}) AS __unsorted ORDER BY ${order}` : rows,
    fields, partitions: transformPartitions(spec, fields, table.name), extra: withLineage ? [ROW_ID, ROW_SEQUENCE].map(({ name, type, id }) => ({ name, type, id: id! })) : [],
    folder: joinPath(table.root, 'data'), withIds: true, targetBytes: target > 0 ? target : TARGET_BYTES,
    // The engine does not promise an order within files that it divides rows into.
    isUnsorted: isOrdered || spec.fields.length > 0,
    keyValues: { 'iceberg.schema': JSON.stringify(schemaJson({ id: metadata['current-schema-id'], fields: [...fields] })) },
  };
}

/** Rows of each file are in the table's order where the plan says no other. */
function planned(wanted: FilesWanted, plan: FilePlan, metadata: TableMetadata, fields: readonly Field[]): FilesWanted {
  const own = sortTerms(metadata, fields);
  return { ...wanted, plan: { ...plan, sort: plan.sort.length > 0 ? plan.sort : own }, isUnsorted: plan.sort.length > 0 || own.length === 0 };
}

/** Of the columns that stand as they are. */
function sortTerms(metadata: TableMetadata, fields: readonly Field[]): SortTerm[] {
  const order = metadata['sort-orders'].find((each) => each['order-id'] === metadata['default-sort-order-id']);
  return (order?.fields ?? []).flatMap((each) => {
    const column = fields.find((one) => one.id === each['source-id']);
    return column && each.transform === 'identity' ? [{ column: column.name, descending: each.direction === 'desc', nullsFirst: each['null-order'] !== 'nulls-last' }] : [];
  });
}

async function replacedWhole({ base, table, name }: IcebergChange, what: 'all' | 'partitions', added: readonly WrittenFile[]): Promise<GoneFile[]> {
  const live = (await base.files.files()).map((file): GoneFile => ({ ...table.entryOf(file), visibleRows: file.rows ?? 0 }));
  if (what === 'all') return live;
  const specId = base.metadata['default-spec-id'];
  const older = live.find((entry) => entry.spec['spec-id'] !== specId);
  if (older) throw new LakeError('unsupported', `${name} has files of an earlier partitioning (${older.file.path}), so it is not clear which belong to the partitions that come in. Nothing was changed.`, { table: name, hint: 'Say which rows go: REPLACE ROWS OF … WHERE … BY ….' });
  const spec = specOf(base.metadata, specId);
  const come = new Set(added.map((file) => groupKey(specId, spec.fields.map((each) => file.partition[each.name] ?? null))));
  return live.filter((entry) => come.has(groupKey(specId, entry.file.partition)));
}

/** Required columns, the condition of rows that replace others, and defaults of version 3. */
function rulesOf({ statement, composed, sqlOf }: IcebergChange, fields: readonly Field[]): RunnableRules {
  const conditions = statement.kind === 'replace' && composed.where ? [{ name: 'the rows that come in must meet the condition of those they replace', sql: sqlOf(composed.where) }] : [];
  return {
    required: requiredNames(fields, ''), conditions, generated: [],
    defaults: new Map(fields.flatMap((each) => (each.writeDefault === undefined ? [] : [[each.name, literal(each.type, each.writeDefault)] as const]))),
  };
}

function requiredNames(fields: readonly Field[], before: string): string[] {
  return fields.flatMap((each) => [...(each.required ? [`${before}${each.name}`] : []), ...(each.type.kind === 'struct' ? requiredNames(each.type.fields, `${before}${each.name}.`) : [])]);
}

/** "There must be at most one vector for a data file", so what was deleted before goes into the new one. */
async function writeVectors(change: IcebergChange, marked: readonly Touched[]): Promise<Pick<ChangedFiles, 'deletes' | 'oldVectors' | 'paths'>> {
  const { table, writing } = change;
  const positions = await positionsIn(writing, marked);
  const vectors = await Promise.all(marked.map(async ({ number, file, entry }) => ({ entry, referencedFile: entry.file.path, rows: unionOf((await file.rowFilter?.load()) ?? new Uint32Array(), positions.get(number)!) })));
  const packed = packVectors(vectors);
  const at = joinPath(table.root, 'data', `vectors-${change.ports.ids.uuid()}.puffin`);
  await table.store.put(at, packed.bytes);
  const deletes = packed.vectors.map((each, index): NewFile => ({
    specId: vectors[index]!.entry.spec['spec-id'],
    file: vectorFile(`${table.store.uri}/${at}`, packed.bytes.length, each, vectors[index]!.entry.file.partition),
  }));
  return { deletes, paths: [at], oldVectors: marked.flatMap(({ entry }) => (entry.deletes.vector ? [{ file: entry.deletes.vector.file, specId: entry.spec['spec-id'] }] : [])) };
}

/** One file for each partition, or for each data file where the table wants it so (`write.delete.granularity`). */
async function writePositionDeletes(change: IcebergChange, marked: readonly Touched[]): Promise<Pick<ChangedFiles, 'deletes' | 'oldVectors' | 'paths'>> {
  const { base, table, writing } = change;
  const byFile = base.metadata.properties?.['write.delete.granularity'] === 'file';
  const groups = new Map<string, Touched[]>();
  for (const each of marked) {
    const key = byFile ? each.entry.file.path : groupKey(each.entry.spec['spec-id'], each.entry.file.partition);
    groups.set(key, [...(groups.get(key) ?? []), each]);
  }
  const deletes: NewFile[] = [];
  const paths: string[] = [];
  for (const group of groups.values()) {
    const names = group.map(({ entry }) => entry.file.path);
    const local = path.join(writing.scratch, `${randomUUID()}.parquet`);
    mkdirSync(writing.scratch, { recursive: true });
    const { rows } = await writing.step(`COPY (SELECT n.file_path, a.${POSITION.row}::BIGINT AS pos FROM ${ACTS} AS a JOIN (SELECT unnest([${group.map(({ number }) => number).join(', ')}])::UBIGINT AS number, unnest(${quoteList(names)}) AS file_path) AS n ON n.number = a.${POSITION.file} ORDER BY 1, 2) TO ${quoteText(local)} (FORMAT parquet, COMPRESSION zstd, RETURN_STATS true, ${fieldIdsOption(DELETE_FIELDS).join(', ')})`);
    const [, count, bytes] = rows[0] as [string, number, number];
    const at = joinPath(table.root, 'data', `deletes-${change.ports.ids.uuid()}.parquet`);
    await writing.store.putFile(at, local);
    paths.push(at);
    const sorted = [...names].sort((a, b) => Buffer.compare(Buffer.from(a), Buffer.from(b)));
    deletes.push({
      specId: group[0]!.entry.spec['spec-id'],
      file: {
        ...deleteFile(`${table.store.uri}/${at}`, 'PARQUET', Number(bytes), Number(count), group[0]!.entry.file.partition),
        lower: new Map([[FILE_PATH, Buffer.from(sorted[0]!)]]), upper: new Map([[FILE_PATH, Buffer.from(sorted.at(-1)!)]]), valueCounts: new Map([[FILE_PATH, Number(count)], [POS, Number(count)]]), nullCounts: new Map([[FILE_PATH, 0], [POS, 0]]),
        ...(names.length === 1 ? { referencedFile: names[0]! } : {}),
      },
    });
  }
  return { deletes, paths, oldVectors: [] };
}

/** Deletes that were for files that go now, or that newer ones take the place of. */
function goneDeletes({ replaced, oldVectors }: ChangedFiles): { file: IcebergDataFile; specId: number }[] {
  const gone = new Map(oldVectors.map((each) => [keyOf(each.file), each]));
  for (const { file, spec, deletes } of replaced) {
    for (const each of [...(deletes.vector ? [deletes.vector] : []), ...deletes.positions]) {
      if (each.file.referencedFile === file.path) gone.set(keyOf(each.file), { file: each.file, specId: spec['spec-id'] });
    }
  }
  return [...gone.values()];
}

/** What the statement looked at, so that files that came first can be judged. */
function rowsRead({ statement, target, others, name }: IcebergChange): { rows?: Predicate } {
  if (others.some((other) => other.source.name === name)) return { rows: TRUE };
  if (statement.kind === 'insert') return {};
  if (statement.kind === 'replace' && statement.what.kind !== 'rows') return { rows: TRUE };
  const bySource = statement.kind === 'merge' && statement.clauses.some((clause) => clause.when === 'not-matched-by-source');
  return { rows: target && !bySource ? target.predicate : TRUE };
}

function outcomeOf({ statement }: IcebergChange, version: number | null, touched: readonly Touched[], { added, replaced, deletes }: ChangedFiles): ChangeOutcome {
  const acted = sum(touched, (each) => each.acted);
  const deleted = sum(touched, (each) => each.deleted);
  const updated = acted - deleted;
  // Rows of rewritten files that only moved.
  const copied = deletes.length > 0 ? 0 : sum(touched, (each) => (each.file.rows ?? 0) - each.acted);
  const whole = statement.kind === 'replace' && statement.what.kind !== 'rows' ? sum(replaced, (entry) => entry.visibleRows) : 0;
  return {
    operation: statement.kind,
    version,
    counts: {
      rowsInserted: sum(added, (file) => file.rows) - copied - updated, rowsUpdated: updated, rowsDeleted: deleted + whole, rowsCopied: copied,
      filesAdded: added.length, filesRemoved: replaced.length, bytesAdded: sum(added, (file) => file.bytes), bytesRemoved: sum(replaced, ({ file }) => file.bytes),
      vectorsAdded: deletes.length, changeFiles: 0,
    },
  };
}

