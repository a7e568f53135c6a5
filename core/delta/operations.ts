/** What can be done to a Delta table: each function makes one version. Data files are written before, by the caller. */
import { LakeError } from '../errors';
import { findField, type Field, type TableSchema } from '../schema/types';
import { below } from '../storage/paths';
import type { AsOf } from '../table/contract';
import type { WrittenFile } from '../table/written-file';
import { formatValue } from '../values/text';
import type { Add, Metadata, Remove } from './actions';
import { commitChange, type Change, type CommitPorts } from './commit';
import { encodeFilePath, type LogState } from './log';
import { parseSchema, schemaString } from './schema';
import { statsText } from './stats';
import type { DeltaTable } from './table';

export interface NewTable {
  schema: TableSchema;
  partitionColumns?: string[];
  description?: string;
  properties?: Record<string, string>;
}

/** Version 0: columns and properties, no data. Fails with `conflict` when a table stands there already. */
export async function createDeltaTable(table: DeltaTable, options: NewTable, ports: CommitPorts): Promise<number> {
  for (const name of options.partitionColumns ?? []) {
    if (!findField(options.schema.fields, name)) throw new LakeError('bad-request', `${table.name} has no column "${name}" to partition by.`);
  }
  const configuration = { ...options.properties };
  const inCommit = configuration['delta.enableInCommitTimestamps'] === 'true';
  const ntz = JSON.stringify(options.schema).includes('"timestamp"');
  const metadata: Metadata = {
    id: ports.ids.uuid(),
    ...(options.description ? { description: options.description } : {}),
    format: { provider: 'parquet', options: {} },
    schemaString: schemaString(options.schema),
    partitionColumns: options.partitionColumns ?? [],
    createdTime: ports.clock.now(),
    configuration,
  };
  const listed = await table.store.listFolder(`${table.root}/_delta_log`);
  if (listed.files.length > 0) throw new LakeError('conflict', `${table.name}: a Delta table stands at ${table.root} already.`, { table: table.name, path: table.root });
  return commitChange(table, undefined, {
    operation: 'CREATE TABLE',
    parameters: { partitionBy: JSON.stringify(metadata.partitionColumns), properties: JSON.stringify(configuration) },
    metrics: {},
    protocol: {
      minReaderVersion: ntz ? 3 : 1,
      minWriterVersion: ntz || inCommit ? 7 : 2,
      ...(ntz ? { readerFeatures: ['timestampNtz'] } : {}),
      ...(ntz || inCommit ? { writerFeatures: ['appendOnly', 'invariants', ...(inCommit ? ['inCommitTimestamp'] : []), ...(ntz ? ['timestampNtz'] : [])] } : {}),
    },
    metadata,
    adds: [],
    removes: [],
    read: 'nothing',
  }, ports);
}

export async function append(table: DeltaTable, files: WrittenFile[], ports: CommitPorts): Promise<number> {
  const base = await latestState(table);
  return commitChange(table, base, {
    operation: 'WRITE',
    parameters: { mode: 'Append' },
    metrics: outputMetrics(files),
    adds: addsFor(table, base, files, ports, true),
    removes: [],
    read: 'nothing',
  }, ports);
}

/** Replaces every row by the given files' rows. */
export async function overwrite(table: DeltaTable, files: WrittenFile[], ports: CommitPorts): Promise<number> {
  const base = await latestState(table);
  return commitChange(table, base, {
    operation: 'WRITE',
    parameters: { mode: 'Overwrite' },
    metrics: outputMetrics(files),
    adds: addsFor(table, base, files, ports, true),
    removes: removesFor(table, base, [...base.files.keys()], ports, true),
    read: 'whole-table',
  }, ports);
}

export interface Replacement {
  /** The version that the new rows were made from. */
  base: LogState;
  /** Paths, as the base state keys them, of the files that go. */
  replaced: string[];
  files: WrittenFile[];
  operation: 'UPDATE' | 'DELETE' | 'MERGE' | 'OPTIMIZE';
  parameters: Record<string, unknown>;
  metrics: Record<string, number>;
}

/** Swaps some files for others: update, delete and merge by copy-on-write, and compaction (which changes no data). */
export async function replaceFiles(table: DeltaTable, replacement: Replacement, ports: CommitPorts): Promise<number> {
  const { base, replaced, files, operation } = replacement;
  const dataChange = operation !== 'OPTIMIZE';
  return commitChange(table, base, {
    operation,
    parameters: replacement.parameters,
    metrics: replacement.metrics,
    adds: addsFor(table, base, files, ports, dataChange),
    removes: removesFor(table, base, replaced, ports, dataChange),
    read: dataChange ? 'whole-table' : 'nothing',
  }, ports);
}

/** Adds columns at the end; older rows read null there. */
export async function addColumns(table: DeltaTable, columns: Field[], ports: CommitPorts): Promise<number> {
  const base = await latestState(table);
  const schema = parseSchema(base.metadata.schemaString, table.name);
  for (const column of columns) {
    if (findField(schema.fields, column.name)) throw new LakeError('bad-request', `${table.name} has a column "${column.name}" already.`, { table: table.name });
    if (column.required) throw new LakeError('bad-request', `A new column must allow nulls, since older rows of ${table.name} have none for "${column.name}".`);
  }
  return commitChange(table, base, {
    operation: 'ADD COLUMNS',
    parameters: { columns: JSON.stringify(columns.map(({ name }) => name)) },
    metrics: {},
    metadata: { ...base.metadata, schemaString: schemaString({ fields: [...schema.fields, ...columns] }) },
    adds: [],
    removes: [],
    read: 'nothing',
  }, ports);
}

/** Makes the table read as it did at an earlier version. Fails naming a data file that is no longer in storage. */
export async function restore(table: DeltaTable, asOf: AsOf, ports: CommitPorts): Promise<number> {
  const base = await latestState(table);
  const wanted = (await table.snapshot(asOf)).version;
  const target = await table.state(wanted, await table.log());
  const back = [...target.files].filter(([path]) => !base.files.has(path));
  const gone = [...base.files.keys()].filter((path) => !target.files.has(path));
  for (const [path] of back) {
    if (!(await table.store.head(`${table.root}/${path}`))) {
      throw new LakeError('not-found', `${table.name} cannot be restored to version ${wanted}: its data file ${path} is no longer in storage.`, { table: table.name, version: wanted, path });
    }
  }
  const changesColumns = target.metadata.schemaString !== base.metadata.schemaString;
  const change: Change = {
    operation: 'RESTORE',
    parameters: { version: wanted },
    metrics: { numRestoredFiles: back.length, numRemovedFiles: gone.length, numOfFilesAfterRestore: target.files.size },
    ...(changesColumns ? { metadata: target.metadata } : {}),
    adds: back.map(([, add]) => ({ ...add, dataChange: true })),
    removes: removesFor(table, base, gone, ports, true),
    read: 'whole-table',
  };
  return commitChange(table, base, change, ports);
}

/** The state that a change is made against. */
export async function latestState(table: DeltaTable): Promise<LogState> {
  const log = await table.log();
  return table.state(log.latest, log);
}

function outputMetrics(files: WrittenFile[]): Record<string, number> {
  const sum = (pick: (file: WrittenFile) => number) => files.reduce((total, file) => total + pick(file), 0);
  return { numFiles: files.length, numOutputRows: sum((file) => file.rows), numOutputBytes: sum((file) => file.bytes) };
}

function addsFor(table: DeltaTable, state: LogState, files: WrittenFile[], ports: CommitPorts, dataChange: boolean): Add[] {
  const { fields } = parseSchema(state.metadata.schemaString, table.name);
  return files.map((file) => ({
    path: encodeFilePath(below(table.root, file.path) ?? file.path),
    partitionValues: Object.fromEntries(state.metadata.partitionColumns.map((name) => {
      const value = file.partition[name] ?? null;
      return [name, value === null ? null : formatValue(findField(fields, name)!.type, value)];
    })),
    size: file.bytes,
    modificationTime: ports.clock.now(),
    dataChange,
    stats: statsText(file, fields),
  }));
}

function removesFor(table: DeltaTable, state: LogState, paths: string[], ports: CommitPorts, dataChange: boolean): Remove[] {
  return paths.map((path) => {
    const add = state.files.get(path);
    if (!add) throw new LakeError('bad-request', `${table.name} has no live file ${path}.`, { table: table.name, path });
    const { size, partitionValues } = add;
    return { path: add.path, deletionTimestamp: ports.clock.now(), dataChange, extendedFileMetadata: true, partitionValues, size };
  });
}
