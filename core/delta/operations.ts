/** What can be done to a Delta table: each function makes one version. Data files are written before, by the caller. */
import { AlreadyLoaded, LakeError } from '../errors';
import type { DataFile } from '../scan/plan';
import { findField, physicalName, type Field, type TableSchema } from '../schema/types';
import { below, joinPath } from '../storage/paths';
import type { AsOf } from '../table/contract';
import type { WrittenFile } from '../table/written-file';
import type { Value } from '../values/value';
import type { Add, ChangeFile, Metadata, Remove, Txn } from './actions';
import { commitChange, type Change, type CommitPorts } from './commit';
import { BLIND, WHOLE_TABLE, type ReadSet } from './conflicts';
import { unionOf } from '../values/row-positions';
import { packVectors, vectorPath, type VectorDescriptor } from './deletion-vector';
import { encodeFilePath, filePath, LOG_FOLDER } from './log';
import { partitionText } from './partition-text';
import { protocolFor } from './protocol';
import { checkProperty } from './properties';
import { schemaOf, schemaString } from './schema';
import { withMapping, withNewColumns, withoutColumn, withRenamedColumn } from './schema-edit';
import { allFiles } from './live-files';
import type { LogState } from './state';
import { looseStats, statsText } from './stats';
import type { DeltaTable } from './table';

export interface NewTable {
  schema: TableSchema;
  partitionColumns?: string[];
  description?: string;
  properties?: Record<string, string>;
}

/** Version 0: columns and properties, no data. Fails with `conflict` when a table stands there already. */
export async function createDeltaTable(table: DeltaTable, options: NewTable, ports: CommitPorts): Promise<number> {
  return createWith(table, options, [], ports);
}

/** A table over Parquet files that stand in its folder already, as the folder's own definition has them. Nothing is rewritten. */
export async function adoptFolder(table: DeltaTable, options: Omit<NewTable, 'properties'>, files: readonly DataFile[], ports: CommitPorts): Promise<number> {
  const { fields } = options.schema;
  const adds = files.map((file): Add => {
    const inside = below(table.root, file.path);
    if (inside === undefined) throw new LakeError('bad-request', `${file.path} lies outside the folder that is to become a table, ${table.root}.`, { path: file.path });
    const values = (options.partitionColumns ?? []).map((name) => {
      const value = file.constants[name] ?? null;
      return [name, value === null ? null : partitionText(findField(fields, name)!.type, value, name)];
    });
    return {
      path: encodeFilePath(inside), partitionValues: Object.fromEntries(values) as Add['partitionValues'], size: file.bytes, modificationTime: file.modified ?? ports.clock.now(), dataChange: true,
      ...(file.rows === undefined ? {} : { stats: JSON.stringify({ numRecords: file.rows }) }),
    };
  });
  return createWith(table, options, adds, ports);
}

/**
 * A second table over the files of a version, which are shared and not copied. Changes of either are not seen by the
 * other; clearing the first one's files takes those that the copy reads, which nobody can see from there.
 */
export async function shallowCopy(source: DeltaTable, asOf: AsOf, copy: DeltaTable, ports: CommitPorts): Promise<number> {
  if (source.store.uri !== copy.store.uri) throw new LakeError('unsupported', `A copy that shares files must lie in the storage of ${source.name}.`, { table: source.name });
  const { version } = await source.snapshot(asOf);
  const state = await source.state(version, await source.log());
  const absolute = (path: string) => `${source.store.uri}/${source.storePath(path)}`;
  const adds = [...(await allFiles(state.files)).values()].map((add): Add => {
    const { deletionVector } = add;
    const vector = deletionVector && vectorPath(deletionVector);
    return {
      ...add, path: encodeFilePath(absolute(filePath(add.path))), dataChange: true,
      // "p": a vector by its absolute path.
      ...(deletionVector && vector ? { deletionVector: { ...deletionVector, storageType: 'p' as const, pathOrInlineDv: absolute(vector) } } : {}),
    };
  });
  const listed = await copy.store.listFolder(joinPath(copy.root, LOG_FOLDER));
  if (listed.files.length > 0) throw new LakeError('conflict', `${copy.name}: a Delta table stands at ${copy.root} already.`, { table: copy.name, path: copy.root });
  return commitChange(copy, undefined, {
    operation: 'CLONE', parameters: { source: `${source.store.uri}/${source.root}`, sourceVersion: version, isShallow: true }, metrics: { numCopiedFiles: 0, sourceNumOfFiles: adds.length, sourceTableSize: state.files.bytes },
    protocol: state.protocol, metadata: { ...state.metadata, id: ports.ids.uuid(), createdTime: ports.clock.now() }, adds, removes: [], domains: [...state.domains.values()], read: BLIND, rowsChecked: true,
  }, ports);
}

async function createWith(table: DeltaTable, options: NewTable, adds: Add[], ports: CommitPorts): Promise<number> {
  for (const name of options.partitionColumns ?? []) {
    if (!findField(options.schema.fields, name)) throw new LakeError('bad-request', `${table.name} has no column "${name}" to partition by.`);
  }
  const { 'delta.columnMapping.mode': mode, ...configuration } = { ...options.properties };
  for (const [name, value] of Object.entries(options.properties ?? {})) checkProperty(table.name, name, value);
  const plain: Metadata = {
    id: ports.ids.uuid(),
    ...(options.description ? { description: options.description } : {}),
    format: { provider: 'parquet', options: {} },
    schemaString: schemaString(options.schema),
    partitionColumns: options.partitionColumns ?? [],
    createdTime: ports.clock.now(),
    configuration,
  };
  const metadata = withTracking(mode === 'name' || mode === 'id' ? withMapping(plain, table.name, mode, adds.length > 0, ports.ids) : plain, ports);
  return firstVersion(table, metadata, adds, { partitionBy: JSON.stringify(metadata.partitionColumns), properties: JSON.stringify(metadata.configuration) }, ports);
}

/** A table over files that were written before, by another format's rules; its columns and properties are given as the log has them. */
export async function createOverFiles(table: DeltaTable, described: Pick<Metadata, 'schemaString' | 'partitionColumns' | 'configuration' | 'description'>, adds: Add[], parameters: Record<string, unknown>, ports: CommitPorts): Promise<number> {
  return firstVersion(table, { ...described, id: ports.ids.uuid(), format: { provider: 'parquet', options: {} }, createdTime: ports.clock.now() }, adds, parameters, ports);
}

async function firstVersion(table: DeltaTable, metadata: Metadata, adds: Add[], parameters: Record<string, unknown>, ports: CommitPorts): Promise<number> {
  const listed = await table.store.listFolder(joinPath(table.root, LOG_FOLDER));
  if (listed.files.length > 0) throw new LakeError('conflict', `${table.name}: a Delta table stands at ${table.root} already.`, { table: table.name, path: table.root });
  return commitChange(table, undefined, {
    operation: adds.length > 0 ? 'CONVERT' : 'CREATE TABLE',
    parameters,
    metrics: adds.length > 0 ? { numConvertedFiles: adds.length } : {},
    protocol: protocolFor(metadata),
    metadata,
    adds,
    removes: [],
    read: BLIND,
    rowsChecked: true,
  }, ports);
}

/** Names for the columns that keep row ids where rows are moved ("Row Tracking", materialized columns). */
function withTracking(metadata: Metadata, { ids }: CommitPorts): Metadata {
  if (metadata.configuration['delta.enableRowTracking'] !== 'true') return metadata;
  return {
    ...metadata,
    configuration: {
      'delta.rowTracking.materializedRowIdColumnName': `_row-id-col-${ids.uuid()}`,
      'delta.rowTracking.materializedRowCommitVersionColumnName': `_row-commit-version-col-${ids.uuid()}`,
      ...metadata.configuration,
    },
  };
}

export interface WriteOptions {
  /** Rows were held against the table's rules. */
  rowsChecked?: boolean;
  /** The writer's own mark: a version of an application that is written once ("Transaction Identifiers"). */
  txn?: Pick<Txn, 'appId' | 'version'>;
}

function mustBeNew(table: DeltaTable, base: LogState, txn: WriteOptions['txn']): void {
  const done = txn && base.txns.get(txn.appId);
  if (done && Number(done.version) >= txn.version) throw new AlreadyLoaded(table.name, undefined);
}

/** Fails when the transaction is in the table already, so that nothing is written twice. */
export async function append(table: DeltaTable, files: WrittenFile[], ports: CommitPorts, options: WriteOptions = {}): Promise<number> {
  const base = await latestState(table);
  mustBeNew(table, base, options.txn);
  return commitChange(table, base, {
    operation: 'WRITE',
    parameters: { mode: 'Append', partitionBy: JSON.stringify(base.metadata.partitionColumns) },
    metrics: outputMetrics(files),
    adds: addsFor(table, base, files, ports, true),
    removes: [],
    ...(options.txn ? { txns: [{ ...options.txn, lastUpdated: ports.clock.now() }] } : {}),
    read: BLIND,
    ...(options.rowsChecked ? { rowsChecked: true } : {}),
  }, ports);
}

/** Replaces every row by the given files' rows. */
export async function overwrite(table: DeltaTable, files: WrittenFile[], ports: CommitPorts): Promise<number> {
  const base = await latestState(table);
  return commitChange(table, base, {
    operation: 'WRITE',
    parameters: { mode: 'Overwrite', partitionBy: JSON.stringify(base.metadata.partitionColumns) },
    metrics: { ...outputMetrics(files), numRemovedFiles: base.files.count },
    adds: addsFor(table, base, files, ports, true),
    removes: removesOf([...(await allFiles(base.files)).values()], ports, true),
    read: WHOLE_TABLE,
  }, ports);
}

export interface RowChange {
  /** The version that the change was made from. */
  base: LogState;
  /** Keys, as the base state has them, of the files that go. */
  replaced: string[];
  /** Rows, by file key, that are deleted and stay in their file; the file's new vector holds them and the old ones. */
  deleted?: ReadonlyMap<string, Uint32Array>;
  files: WrittenFile[];
  changeFiles?: WrittenFile[];
  operation: 'WRITE' | 'UPDATE' | 'DELETE' | 'MERGE' | 'OPTIMIZE';
  parameters: Record<string, unknown>;
  metrics: Record<string, number>;
  /** What the change looked at; the whole table where absent. */
  read?: ReadSet;
  rowsChecked?: boolean;
  /** As in `append`. */
  txn?: WriteOptions['txn'];
}

/** Swaps some files for others and deletes rows of others by vectors: update, delete, merge, replacing rows, and compaction. */
export async function changeRows(table: DeltaTable, change: RowChange, ports: CommitPorts): Promise<number> {
  const { base, replaced, files, operation, deleted } = change;
  const dataChange = operation !== 'OPTIMIZE';
  mustBeNew(table, base, change.txn);
  const vectors = deleted && deleted.size > 0 ? await writeVectors(table, base, deleted, ports) : { adds: [], keys: [] };
  return commitChange(table, base, {
    operation,
    parameters: change.parameters,
    metrics: change.metrics,
    adds: [...vectors.adds, ...addsFor(table, base, files, ports, dataChange)],
    removes: removesOf([...(await liveFiles(table, base, [...replaced, ...vectors.keys])).values()], ports, dataChange),
    ...(change.changeFiles?.length ? { changeFiles: change.changeFiles.map((file) => changeFile(table, base, file)) } : {}),
    ...(change.txn ? { txns: [{ ...change.txn, lastUpdated: ports.clock.now() }] } : {}),
    read: dataChange ? (change.read ?? WHOLE_TABLE) : { kind: 'files' },
    ...(change.rowsChecked ? { rowsChecked: true } : {}),
  }, ports);
}

/** One new file of vectors for all the files that lose rows, and their entries anew. */
async function writeVectors(table: DeltaTable, base: LogState, deleted: ReadonlyMap<string, Uint32Array>, ports: CommitPorts): Promise<{ adds: Add[]; keys: string[] }> {
  const keys = [...deleted.keys()];
  const live = await liveFiles(table, base, keys);
  const lists = await Promise.all(keys.map(async (key) => {
    const { deletionVector } = live.get(key)!;
    return deletionVector ? unionOf(await table.vector(deletionVector), deleted.get(key)!) : deleted.get(key)!;
  }));
  const { bytes, name, vectors } = packVectors(lists, ports.ids.uuid());
  await table.store.put(joinPath(table.root, name), bytes);
  const adds = keys.map((key, index): Add => {
    const add = live.get(key)!;
    const stats = looseStats(add.stats);
    return { ...add, dataChange: true, ...(stats === undefined ? {} : { stats }), deletionVector: vectors[index]! };
  });
  return { adds, keys };
}

function changeFile(table: DeltaTable, base: LogState, file: WrittenFile): ChangeFile {
  return { path: encodeFilePath(below(table.root, file.path) ?? file.path), partitionValues: partitionValuesOf(table, base, file), size: file.bytes, dataChange: false };
}

/** Adds columns at the end, or where `place` then moves them; older rows read null there. */
export async function addColumns(table: DeltaTable, columns: Field[], ports: CommitPorts, { within, place = (metadata) => metadata }: { within?: string; place?: (metadata: Metadata) => Metadata } = {}): Promise<number> {
  const base = await latestState(table);
  return changeMetadata(table, base, place(withNewColumns(base.metadata, table.name, columns, ports.ids, within)), 'ADD COLUMNS', { columns: JSON.stringify(columns.map(({ name }) => name)) }, ports);
}

/** No file is rewritten; needs column mapping. */
export async function renameColumn(table: DeltaTable, from: string, to: string, ports: CommitPorts): Promise<number> {
  const base = await latestState(table);
  return changeMetadata(table, base, withRenamedColumn(base.metadata, table.name, from, to), 'RENAME COLUMN', { oldColumnPath: from, newColumnPath: to }, ports);
}

/** No file is rewritten; needs column mapping. */
export async function dropColumn(table: DeltaTable, name: string, ports: CommitPorts): Promise<number> {
  const base = await latestState(table);
  return changeMetadata(table, base, withoutColumn(base.metadata, table.name, name), 'DROP COLUMNS', { columns: JSON.stringify([name]) }, ports);
}

/** One version that says something else of a column; no file is rewritten. */
export async function changeColumn(table: DeltaTable, edit: (metadata: Metadata) => Metadata, column: string, ports: CommitPorts): Promise<number> {
  const base = await latestState(table);
  return changeMetadata(table, base, edit(base.metadata), 'CHANGE COLUMN', { column }, ports);
}

/** The table's own description. */
export async function describeTable(table: DeltaTable, description: string, ports: CommitPorts): Promise<number> {
  const base = await latestState(table);
  return changeMetadata(table, base, { ...base.metadata, description }, 'SET TBLPROPERTIES', { properties: JSON.stringify({ comment: description }) }, ports);
}

/** Sets properties, or takes away those given as null; the protocol follows what they ask for. */
export async function setProperties(table: DeltaTable, properties: Readonly<Record<string, string | null>>, ports: CommitPorts): Promise<number> {
  const base = await latestState(table);
  const isUnset = Object.values(properties).every((value) => value === null);
  const configuration = { ...base.metadata.configuration };
  for (const [name, value] of Object.entries(properties)) {
    if (value === null) delete configuration[name];
    else configuration[name] = checkProperty(table.name, name, value, base);
  }
  let metadata: Metadata = { ...base.metadata, configuration };
  const mode = properties['delta.columnMapping.mode'];
  if (mode === 'name' || mode === 'id') metadata = withMapping({ ...metadata, configuration: { ...configuration, 'delta.columnMapping.mode': base.metadata.configuration['delta.columnMapping.mode'] ?? 'none' } }, table.name, mode, base.files.count > 0, ports.ids);
  // "When in-commit timestamps are enabled later, the version and time of that are kept."
  if (properties['delta.enableInCommitTimestamps'] === 'true' && base.metadata.configuration['delta.enableInCommitTimestamps'] !== 'true') {
    metadata = { ...metadata, configuration: { ...metadata.configuration, 'delta.inCommitTimestampEnablementVersion': String(base.version + 1), 'delta.inCommitTimestampEnablementTimestamp': String(ports.clock.now()) } };
  }
  return changeMetadata(table, base, withTracking(metadata, ports), isUnset ? 'UNSET TBLPROPERTIES' : 'SET TBLPROPERTIES', { properties: JSON.stringify(properties) }, ports);
}

async function changeMetadata(table: DeltaTable, base: LogState, metadata: Metadata, operation: string, parameters: Record<string, unknown>, ports: CommitPorts): Promise<number> {
  const protocol = protocolFor(metadata, base.protocol);
  return commitChange(table, base, {
    operation, parameters, metrics: {}, metadata, adds: [], removes: [], read: BLIND,
    ...(protocol === base.protocol ? {} : { protocol }),
  }, ports);
}

/** Makes the table read as it did at an earlier version. Fails naming a data file that is no longer in storage. */
export async function restore(table: DeltaTable, asOf: AsOf, ports: CommitPorts): Promise<number> {
  const base = await latestState(table);
  const wanted = (await table.snapshot(asOf)).version;
  const target = await table.state(wanted, await table.log());
  const [then, now] = await Promise.all([allFiles(target.files), allFiles(base.files)]);
  const back = [...then].filter(([key]) => !now.has(key)).map(([, add]) => add);
  const gone = [...now].filter(([key]) => !then.has(key)).map(([, add]) => add);
  for (const add of back) await checkThere(table, wanted, add);
  const columns = columnsToRestore(table, base, target, ports);
  const change: Change = {
    operation: 'RESTORE',
    parameters: { version: wanted },
    metrics: {
      numRestoredFiles: back.length, numRemovedFiles: gone.length, numOfFilesAfterRestore: target.files.count,
      restoredFilesSize: sizeOf(back), removedFilesSize: sizeOf(gone), tableSizeAfterRestore: target.files.bytes,
    },
    ...(columns ? { metadata: columns } : {}),
    adds: back.map((add) => ({ ...add, dataChange: true })),
    removes: removesOf(gone, ports, true),
    read: WHOLE_TABLE,
    rowsChecked: true,
  };
  return commitChange(table, base, change, ports);
}

/** The older columns and properties, but for what can never be taken back; undefined where nothing differs. */
function columnsToRestore(table: DeltaTable, base: LogState, target: LogState, { ids }: CommitPorts): Metadata | undefined {
  if (target.metadata.schemaString === base.metadata.schemaString) return undefined;
  const { configuration } = base.metadata;
  const mode = configuration['delta.columnMapping.mode'];
  // Files written since know columns by ids, so older columns get ids too: new ones, since none is ever given twice.
  const mapped = mode === 'name' || mode === 'id' ? withMapping(target.metadata, table.name, mode, true, ids, Number(configuration['delta.columnMapping.maxColumnId'] ?? 0)) : target.metadata;
  const kept = ['delta.columnMapping.mode', 'delta.enableInCommitTimestamps', 'delta.inCommitTimestampEnablementVersion', 'delta.inCommitTimestampEnablementTimestamp'];
  const maxId = Math.max(...[configuration, mapped.configuration].map((each) => Number(each['delta.columnMapping.maxColumnId'] ?? 0)));
  return {
    ...mapped,
    configuration: {
      ...mapped.configuration, ...Object.fromEntries(kept.flatMap((key) => (configuration[key] === undefined ? [] : [[key, configuration[key]]]))),
      ...(maxId > 0 ? { 'delta.columnMapping.maxColumnId': String(maxId) } : {}),
    },
  };
}

async function checkThere(table: DeltaTable, version: number, add: Add): Promise<void> {
  const vector = add.deletionVector && vectorPath(add.deletionVector);
  for (const path of [filePath(add.path), ...(vector ? [vector] : [])]) {
    if (await table.store.head(table.storePath(path))) continue;
    throw new LakeError('not-found', `${table.name} cannot be restored to version ${version}: its data file ${path} is no longer in storage.`, { table: table.name, version, path });
  }
}

/** The state that a change is made against. */
export async function latestState(table: DeltaTable): Promise<LogState> {
  const log = await table.newest();
  return table.state(log.latest, log);
}

export function outputMetrics(files: readonly WrittenFile[]): Record<string, number> {
  const sum = (pick: (file: WrittenFile) => number) => files.reduce((total, file) => total + pick(file), 0);
  return { numFiles: files.length, numOutputRows: sum((file) => file.rows), numOutputBytes: sum((file) => file.bytes) };
}

function sizeOf(files: readonly { size: number }[]): number {
  return files.reduce((sum, each) => sum + Number(each.size), 0);
}

function addsFor(table: DeltaTable, state: LogState, files: WrittenFile[], ports: CommitPorts, dataChange: boolean): Add[] {
  const { fields } = schemaOf(state.metadata, table.name);
  return files.map((file) => ({
    path: encodeFilePath(below(table.root, file.path) ?? file.path),
    partitionValues: partitionValuesOf(table, state, file),
    size: file.bytes,
    modificationTime: ports.clock.now(),
    dataChange,
    stats: statsText(file, fields),
  }));
}

/** As the log has them: texts by physical names. */
function partitionValuesOf(table: DeltaTable, { metadata }: LogState, { partition }: { partition: Record<string, Value | null> }): Record<string, string | null> {
  const { fields } = schemaOf(metadata, table.name);
  return Object.fromEntries(metadata.partitionColumns.map((name) => {
    const column = findField(fields, name)!;
    const value = partition[name] ?? null;
    return [physicalName(column), value === null ? null : partitionText(column.type, value, name)];
  }));
}

async function liveFiles(table: DeltaTable, state: LogState, keys: readonly string[]): Promise<Map<string, Add>> {
  const live = await state.files.get(keys);
  const missing = keys.find((key) => !live.has(key));
  if (missing !== undefined) throw new LakeError('bad-request', `${table.name} has no live file ${missing}.`, { table: table.name, path: missing });
  return live;
}

function removesOf(files: readonly Add[], ports: CommitPorts, dataChange: boolean): Remove[] {
  return files.map(({ path, size, partitionValues, deletionVector, baseRowId, defaultRowCommitVersion }) => {
    return {
      path, deletionTimestamp: ports.clock.now(), dataChange, extendedFileMetadata: true, partitionValues, size,
      ...(deletionVector ? { deletionVector: descriptorOf(deletionVector) } : {}),
      ...(baseRowId === undefined ? {} : { baseRowId }),
      ...(defaultRowCommitVersion === undefined ? {} : { defaultRowCommitVersion }),
    };
  });
}

function descriptorOf({ storageType, pathOrInlineDv, offset, sizeInBytes, cardinality }: VectorDescriptor): VectorDescriptor {
  return { storageType, pathOrInlineDv, ...(offset === undefined ? {} : { offset }), sizeInBytes, cardinality };
}
