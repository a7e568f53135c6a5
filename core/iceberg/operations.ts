/** What can be done to an Iceberg table: each function is one commit. Data files are written before, by the caller. */
import { LakeError } from '../errors';
import type { DataFile } from '../scan/plan';
import { findField, type Field, type TableSchema } from '../schema/types';
import type { WrittenFile } from '../table/written-file';
import type { Value } from '../values/value';
import { commitMetadata, type CommitPorts } from './commit';
import { NAME_MAPPING, nameMappingOf } from './column-match';
import { withIdsOfFiles } from './ids-in-files';
import { newDataFile } from './data-files';
import { type PartitionSpecJson, refsOf, snapshotById, type SnapshotJson, type SortFieldJson, type TableMetadata } from './metadata';
import { assignIds, parseSchema, schemaJson } from './schema';
import { withAddedColumns, withKey } from './schema-edit';
import { commitSnapshot } from './snapshot-commit';
import type { IcebergTable } from './table';
import { parseTransform } from './transforms';

export interface NewTable {
  schema: TableSchema;
  /** Each is a source column and a transform: `{ source: 'taken_at', transform: 'day' }`. */
  partitionBy?: { source: string; transform: string; name?: string }[];
  sortBy?: string[];
  /** Columns that tell rows apart. */
  key?: string[];
  properties?: Record<string, string>;
  /** 2 where absent. */
  formatVersion?: 2 | 3;
  /** The columns have ids, which files hold already; the highest that was ever given. Ids are given afresh where absent. */
  lastId?: number;
}

/** Given ids begin here, by common practice, so that none is a column's. */
const FIRST_PARTITION_ID = 1000;

/** The first metadata of a table without snapshots; ids of columns are given afresh. */
export async function createIcebergTable(table: IcebergTable, options: NewTable, ports: CommitPorts): Promise<TableMetadata> {
  if (await table.pointer.current()) throw new LakeError('conflict', `${table.name}: an Iceberg table stands at ${table.root} already.`, { table: table.name });
  const metadata = withKeyOf(newMetadata(table, options, ports), table.name, options.key);
  const path = await table.pointer.replace(undefined, metadata, 1);
  if (path === undefined) throw new LakeError('conflict', `${table.name}: somebody else created a table at ${table.root} meanwhile.`, { table: table.name });
  table.adopt(path, metadata);
  return metadata;
}

function withKeyOf(metadata: TableMetadata, table: string, key: readonly string[] = []): TableMetadata {
  return key.length === 0 ? metadata : { ...metadata, schemas: [withKey(metadata, table, key).schema] };
}

export function newMetadata(table: IcebergTable, options: NewTable, ports: CommitPorts): TableMetadata {
  const { fields, lastId } = options.lastId === undefined ? assignIds(options.schema.fields, 0) : { fields: options.schema.fields, lastId: options.lastId };
  const specFields = specFieldsOf(fields, options.partitionBy ?? [], table.name);
  const sortFields = (options.sortBy ?? []).map((name): SortFieldJson => ({ transform: 'identity', 'source-id': sourceOf(fields, name, table.name).id!, direction: 'asc', 'null-order': 'nulls-first' }));
  const formatVersion = options.formatVersion ?? 2;
  return {
    'format-version': formatVersion,
    'table-uuid': ports.ids.uuid(),
    location: `${table.store.uri}/${table.root}`,
    'last-sequence-number': 0,
    'last-updated-ms': ports.clock.now(),
    'last-column-id': lastId,
    'current-schema-id': 0,
    schemas: [schemaJson({ id: 0, fields })],
    'default-spec-id': 0,
    'partition-specs': [{ 'spec-id': 0, fields: specFields }],
    'last-partition-id': FIRST_PARTITION_ID - 1 + specFields.length,
    'default-sort-order-id': sortFields.length > 0 ? 1 : 0,
    'sort-orders': sortFields.length > 0 ? [{ 'order-id': 0, fields: [] }, { 'order-id': 1, fields: sortFields }] : [{ 'order-id': 0, fields: [] }],
    properties: options.properties ?? {},
    'current-snapshot-id': null,
    refs: {},
    snapshots: [],
    'snapshot-log': [],
    'metadata-log': [],
    ...(formatVersion >= 3 ? { 'next-row-id': 0 } : {}),
  };
}

/** The fields of a table's first partition spec. */
export function specFieldsOf(fields: readonly Field[], partitionBy: NonNullable<NewTable['partitionBy']>, table: string): PartitionSpecJson['fields'] {
  return partitionBy.map((each, index) => ({ 'source-id': sourceOf(fields, each.source, table).id!, 'field-id': FIRST_PARTITION_ID + index, name: each.name ?? partitionName(each.source, each.transform), transform: each.transform }));
}

function sourceOf(fields: readonly Field[], name: string, table: string): Field {
  const found = findField(fields, name);
  if (!found) throw new LakeError('bad-request', `${table} has no column "${name}" to partition or sort by.`);
  return found;
}

/** `taken_at_day`, `id_bucket_16`; the column's own name for its values as they are (common practice). */
export function partitionName(source: string, transform: string): string {
  const parsed = parseTransform(transform);
  if (parsed.kind === 'identity') return source;
  return 'width' in parsed ? `${source}_${parsed.kind === 'truncate' ? 'trunc' : parsed.kind}${parsed.kind === 'bucket' ? `_${parsed.width}` : ''}` : `${source}_${parsed.kind}`;
}

/** A table over Parquet files that stand in its folder already, as the folder's own definition has them. Nothing is rewritten: columns are found by the ids that files have, and by name in files without. */
export async function adoptFolder(table: IcebergTable, { schema, partitionColumns = [] }: { schema: TableSchema; partitionColumns?: readonly string[] }, files: readonly DataFile[], ports: CommitPorts): Promise<SnapshotJson> {
  const uncounted = files.find((file) => file.rows === undefined);
  if (uncounted) throw new LakeError('bad-request', `It is not known how many rows ${uncounted.path} has.`, { path: uncounted.path });
  const given = withIdsOfFiles(schema.fields, await table.columnsOf(files));
  if (given && given.conflicts.length > 0) throw new LakeError('unsupported', `${table.name} cannot be made over these files: ${given.conflicts.map(({ column, why }) => `column ${column}: ${why}`).join('; ')}.`, { table: table.name });
  const { schemas } = await createIcebergTable(table, { ...(given ? { schema: { fields: given.fields }, lastId: given.lastId } : { schema }), partitionBy: partitionColumns.map((source) => ({ source, transform: 'identity' })) }, ports);
  await setProperties(table, { [NAME_MAPPING]: nameMappingOf(parseSchema(schemas[0]!, table.name).fields) }, ports);
  const written = files.map((file): WrittenFile => ({ path: file.path, bytes: file.bytes, rows: file.rows!, columns: [], partition: Object.fromEntries(partitionColumns.map((name) => [name, file.constants[name] ?? null])), isUnsorted: true }));
  return append(table, written, ports);
}

export interface AppendOptions {
  branch?: string;
  summary?: Record<string, string>;
}

/**
 * Adds files as one snapshot. The manifest is written once; after a lost race only the manifest list and the metadata
 * are made again, since added entries inherit their sequence number. Returns the snapshot.
 */
export async function append(table: IcebergTable, files: readonly WrittenFile[], ports: CommitPorts, options: AppendOptions = {}): Promise<SnapshotJson> {
  const { metadata } = await table.current();
  const parent = refsOf(metadata)[options.branch ?? 'main'];
  const { snapshot } = await commitSnapshot(table, {
    ...options,
    added: files.map((file) => ({ file: newDataFile(table.store.uri, file, metadata, table.name), specId: metadata['default-spec-id'] })),
    read: { snapshotId: parent?.['snapshot-id'], files: new Set(), schemaId: metadata['current-schema-id'] },
  }, ports);
  return snapshot;
}

/** Adds columns at the end with new ids; older rows read null there, or the default that the column is given. `within`: the struct that they are added to. */
export async function addColumns(table: IcebergTable, columns: readonly Field[], ports: CommitPorts, within?: string): Promise<TableMetadata> {
  return changeSchema(table, (metadata) => withAddedColumns(metadata, table.name, columns, within), ports);
}

/** One commit that makes other columns current. */
export async function changeSchema(table: IcebergTable, edit: (metadata: TableMetadata) => { schema: TableMetadata['schemas'][number]; lastId: number }, ports: CommitPorts): Promise<TableMetadata> {
  const { metadata } = await commitMetadata(table, async (base) => {
    const { schema, lastId } = edit(base);
    return [{ action: 'add-schema', schema, 'last-column-id': lastId }, { action: 'set-current-schema', 'schema-id': -1 }];
  }, ports);
  return metadata;
}

/** Adds and takes away partition fields; files that are there keep theirs. */
export async function changePartitioning(table: IcebergTable, change: { add?: readonly { source: string; transform: string; name?: string }[]; remove?: readonly string[] }, ports: CommitPorts): Promise<TableMetadata> {
  const { metadata } = await commitMetadata(table, async (base) => {
    const { fields } = base.schemas.find((each) => (each['schema-id'] ?? 0) === base['current-schema-id'])!;
    const spec = base['partition-specs'].find((each) => each['spec-id'] === base['default-spec-id'])!;
    const missing = (change.remove ?? []).find((name) => !spec.fields.some((each) => each.name === name));
    if (missing) throw new LakeError('bad-request', `${table.name} has no partition field "${missing}".`, { table: table.name, hint: `It has ${spec.fields.map((each) => each.name).join(', ') || 'none'}.` });
    const added = (change.add ?? []).map((each) => {
      const column = fields.find((field) => field.name.toLowerCase() === each.source.toLowerCase());
      if (!column) throw new LakeError('bad-request', `${table.name} has no column "${each.source}" to partition by.`, { table: table.name });
      return { 'source-id': column.id, name: each.name ?? partitionName(column.name, each.transform), transform: each.transform };
    });
    const kept: (PartitionSpecJson['fields'][number] | (typeof added)[number])[] = spec.fields.filter((each) => !change.remove?.includes(each.name));
    return [{ action: 'add-spec', spec: { fields: [...kept, ...added] } }, { action: 'set-default-spec', 'spec-id': -1 }];
  }, ports);
  return metadata;
}

export async function changeSortOrder(table: IcebergTable, by: readonly { column: string; transform?: string; descending?: boolean; nullsLast?: boolean }[], ports: CommitPorts): Promise<TableMetadata> {
  const { metadata } = await commitMetadata(table, async (base) => {
    const { fields } = base.schemas.find((each) => (each['schema-id'] ?? 0) === base['current-schema-id'])!;
    const order = by.map((each): SortFieldJson => {
      const column = fields.find((field) => field.name.toLowerCase() === each.column.toLowerCase());
      if (!column) throw new LakeError('bad-request', `${table.name} has no column "${each.column}" to sort by.`, { table: table.name });
      return { transform: each.transform ?? 'identity', 'source-id': column.id, direction: each.descending ? 'desc' : 'asc', 'null-order': each.nullsLast ? 'nulls-last' : 'nulls-first' };
    });
    return [{ action: 'add-sort-order', 'sort-order': { 'order-id': -1, fields: order } }, { action: 'set-default-sort-order', 'sort-order-id': -1 }];
  }, ports);
  return metadata;
}

/** Null takes a property away. */
export async function setProperties(table: IcebergTable, properties: Readonly<Record<string, string | null>>, ports: CommitPorts): Promise<TableMetadata> {
  const updates = Object.fromEntries(Object.entries(properties).filter((each): each is [string, string] => each[1] !== null));
  const removals = Object.keys(properties).filter((key) => properties[key] === null);
  const { metadata } = await commitMetadata(table, async () => [
    ...(Object.keys(updates).length > 0 ? [{ action: 'set-properties' as const, updates }] : []),
    ...(removals.length > 0 ? [{ action: 'remove-properties' as const, removals }] : []),
  ], ports);
  return metadata;
}

export async function upgrade(table: IcebergTable, formatVersion: number, ports: CommitPorts): Promise<TableMetadata> {
  const { metadata } = await commitMetadata(table, async () => [{ action: 'upgrade-format-version', 'format-version': formatVersion }], ports);
  return metadata;
}

/** Typed partition values by field name, of a written file. */
export type PartitionValues = Record<string, Value | null>;

export function headOf(metadata: TableMetadata, branch: string): SnapshotJson | undefined {
  return snapshotById(metadata, refsOf(metadata)[branch]?.['snapshot-id']);
}
