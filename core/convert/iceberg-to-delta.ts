/** A Delta table over the files of an Iceberg table's newest snapshot. No data file is rewritten. */
import type { Add } from '../delta/actions';
import type { CommitPorts } from '../delta/commit';
import { packVectors, type VectorDescriptor } from '../delta/deletion-vector';
import { encodeFilePath } from '../delta/log';
import { createOverFiles } from '../delta/operations';
import { structJson, type FieldJson, type TypeJson as DeltaTypeJson } from '../delta/schema';
import { looseStats, statsText } from '../delta/stats';
import type { DeltaTable } from '../delta/table';
import { currentSnapshot, refsOf, type TableMetadata } from '../iceberg/metadata';
import { fieldById, parseSchema } from '../iceberg/schema';
import type { FileEntry } from '../iceberg/snapshot-files';
import type { DataFile } from '../scan/plan';
import { physicalName, type Field, type LogicalType, type TableSchema } from '../schema/types';
import { joinPath, below } from '../storage/paths';
import { partitionText } from '../delta/partition-text';
import { parseTransform } from '../iceberg/transforms';
import { allFields, columnsOf, insideOf, mustBePossible, physicalRows, type ConversionPlan, type LeftBehind } from './conversion';

export interface IcebergSource {
  name: string;
  metadata: TableMetadata;
  schema: TableSchema;
  files: readonly DataFile[];
  entryOf(file: DataFile): FileEntry;
}

export function planToDelta(source: IcebergSource): ConversionPlan {
  const { files } = source;
  return { files: files.length, rows: files.reduce((sum, file) => sum + (file.rows ?? 0), 0), bytes: files.reduce((sum, file) => sum + file.bytes, 0), leftBehind: leftBehind(source), obstacles: obstacles(source) };
}

function leftBehind({ metadata, schema, files, entryOf, name }: IcebergSource): LeftBehind[] {
  const left: LeftBehind[] = [];
  const snapshots = metadata.snapshots?.length ?? 0;
  if (snapshots > 0) left.push({ what: `${snapshots} ${snapshots === 1 ? 'snapshot' : 'snapshots'}`, why: 'they stay in the Iceberg metadata; the new table begins with the newest of main' });
  const refs = Object.keys(refsOf(metadata)).filter((each) => each !== 'main');
  if (refs.length > 0) left.push({ what: `the branches and tags ${refs.join(', ')}`, why: 'a Delta table has one line of versions' });
  const spec = defaultSpec(metadata);
  const hidden = spec.fields.filter((each) => parseTransform(each.transform).kind !== 'identity' && parseTransform(each.transform).kind !== 'void');
  if (hidden.length > 0) left.push({ what: `the partitioning by ${hidden.map((each) => `${each.transform} of ${fieldById(schema.fields, each['source-id'])?.name ?? each.name}`).join(', ')}`, why: 'Delta partitions by columns as they are; files are still ruled out by their statistics' });
  const identity = spec.fields.filter((each) => parseTransform(each.transform).kind === 'identity');
  if (identity.length > 0 && partitionFieldsOf({ metadata, schema, files, entryOf, name }).length === 0) left.push({ what: `the partitioning by ${identity.map((each) => each.name).join(', ')}`, why: 'older files were written by another one' });
  if ((metadata['sort-orders'].find((each) => each['order-id'] === metadata['default-sort-order-id'])?.fields.length ?? 0) > 0) left.push({ what: 'the sort order', why: 'Delta has none' });
  if ((metadata.schemas.find((each) => each['schema-id'] === metadata['current-schema-id'])?.['identifier-field-ids']?.length ?? 0) > 0) left.push({ what: 'the key', why: 'Delta has none' });
  if (allFields(schema.fields).some(({ field }) => field.writeDefault !== undefined)) left.push({ what: 'defaults of new rows', why: 'they are given in another form in Delta' });
  if (metadata['format-version'] >= 3) left.push({ what: 'ids of rows', why: 'they are counted in another way in Delta' });
  const properties = Object.keys(metadata.properties ?? {}).filter(isOfFormat);
  if (properties.length > 0) left.push({ what: `the properties ${properties.join(', ')}`, why: 'they are of the Iceberg format' });
  return left;
}

function isOfFormat(key: string): boolean {
  return /^(?:write|read|commit|history|schema|format|gc|engine)\./.test(key) || key === 'format-version';
}

/** Types without a like in Delta. */
const WITHOUT_LIKE = new Set(['uuid', 'time', 'fixed', 'timestamp_ns']);

function obstacles(source: IcebergSource): LeftBehind[] {
  const { metadata, schema, name, files } = source;
  const found: LeftBehind[] = [];
  const all = allFields(schema.fields);
  for (const { name: column, field } of all) {
    if (WITHOUT_LIKE.has(field.type.kind)) found.push({ what: `column ${column}`, why: `Delta has no type for ${field.type.kind}` });
    if (field.initialDefault !== undefined) found.push({ what: `column ${column}`, why: 'rows that were written before it came have a default, which Delta would read as null' });
  }
  const past = pastOf(metadata, name);
  const insideLists = new Set(all.filter(({ field }) => field.type.kind === 'list' || field.type.kind === 'map').flatMap(({ name: column, field }) => allFields(insideOf(field.type), `${column}.`).map((each) => each.field.id)));
  for (const { name: column, field } of all) {
    const moved = past.get(field.id!);
    if (insideLists.has(field.id) && moved && (moved.types.size > 1 || moved.names.size > 1)) found.push({ what: `column ${column}`, why: 'it is inside a list or map and was renamed or widened' });
  }
  const identity = new Set(defaultSpec(metadata).fields.filter((each) => parseTransform(each.transform).kind === 'identity').map((each) => each.name));
  if (partitionFieldsOf(source).length === 0) {
    const without = files.find((file) => Object.keys(file.constants).length > 0);
    if (without && identity.size > 0) found.push({ what: without.path, why: `it has no column ${Object.keys(without.constants).join(', ')} in it, and the table is partitioned in several ways` });
  }
  return found;
}

interface Past {
  names: Set<string>;
  types: Set<string>;
}

/** Every name and type that a field ever had, oldest first. */
function pastOf(metadata: TableMetadata, table: string): Map<number, Past> {
  const past = new Map<number, Past>();
  for (const json of metadata.schemas) {
    for (const { field } of allFields(parseSchema(json, table).fields)) {
      const known = past.get(field.id!) ?? { names: new Set(), types: new Set() };
      known.names.add(field.name);
      if (insideOf(field.type).length === 0) known.types.add(deltaType(field.type));
      past.set(field.id!, known);
    }
  }
  return past;
}

function deltaType(type: LogicalType): string {
  return type.kind === 'decimal' ? `decimal(${type.precision},${type.scale})` : type.kind === 'int' ? 'integer' : type.kind === 'timestamp' ? 'timestamp_ntz' : type.kind;
}

function defaultSpec(metadata: TableMetadata) {
  return metadata['partition-specs'].find((each) => each['spec-id'] === metadata['default-spec-id'])!;
}

/** Columns that every live file is of one value of; none where some files are partitioned in another way. */
function partitionFieldsOf({ metadata, schema, files, entryOf }: IcebergSource): Field[] {
  const wanted = defaultSpec(metadata).fields.filter((each) => parseTransform(each.transform).kind === 'identity');
  const columns = wanted.map((each) => schema.fields.find((field) => field.id === each['source-id']));
  if (columns.some((each) => each === undefined)) return [];
  const everywhere = files.every((file) => wanted.every((each) => entryOf(file).spec.fields.some((own) => own['source-id'] === each['source-id'] && parseTransform(own.transform).kind === 'identity')));
  return everywhere ? (columns as Field[]) : [];
}

/** The table must not exist. Returns its version. Fails with `unsupported` where the plan has obstacles. */
export async function convertToDelta(source: IcebergSource, target: DeltaTable, ports: CommitPorts): Promise<number> {
  mustBePossible(source.name, planToDelta(source));
  const { metadata, name } = source;
  const past = pastOf(metadata, name);
  const isMapped = wasMoved(source.schema.fields, metadata, past, name);
  const fields = isMapped ? withPhysical(source.schema.fields, past) : source.schema.fields.map(withoutIds);
  const partition = partitionFieldsOf(source).map(({ id }) => source.schema.fields.findIndex((field) => field.id === id)).map((index) => fields[index]!);
  const widened = [...past].some(([id, { types }]) => types.size > 1 && allFields(source.schema.fields).some(({ field }) => field.id === id));
  const kept = Object.fromEntries(Object.entries(metadata.properties ?? {}).filter(([key]) => !isOfFormat(key) && key !== 'comment'));
  const adds = await addsOf(source, target, fields, partition, ports);
  return createOverFiles(target, {
    schemaString: JSON.stringify({ ...structJson(fields), fields: withTypeChanges(structJson(fields).fields, source.schema.fields, past) }), partitionColumns: partition.map((each) => each.name),
    ...(metadata.properties?.comment ? { description: metadata.properties.comment } : {}),
    configuration: {
      ...kept,
      ...(isMapped ? { 'delta.columnMapping.mode': 'id', 'delta.columnMapping.maxColumnId': String(metadata['last-column-id']) } : {}),
      ...(widened ? { 'delta.enableTypeWidening': 'true' } : {}),
      ...(adds.some((add) => add.deletionVector) ? { 'delta.enableDeletionVectors': 'true' } : {}),
    },
  }, adds, { convertedFrom: 'iceberg', snapshot: String(currentSnapshot(metadata)?.['snapshot-id'] ?? '') }, ports);
}

/** Whether names alone would find a column in older files wrongly, or not at all. */
function wasMoved(fields: readonly Field[], metadata: TableMetadata, past: ReadonlyMap<number, Past>, table: string): boolean {
  const now = new Map(allFields(fields).map(({ name, field }) => [name, field.id!]));
  if ([...now.values()].some((id) => (past.get(id)?.names.size ?? 0) > 1)) return true;
  return metadata.schemas.some((json) => allFields(parseSchema(json, table).fields).some(({ name, field }) => now.has(name) && now.get(name) !== field.id));
}

function withoutIds({ id: _, ...rest }: Field): Field {
  return rest;
}

/** The oldest name, which most files have; with the id where two columns would share one. */
function withPhysical(fields: readonly Field[], past: ReadonlyMap<number, Past>): Field[] {
  const oldest = (each: Field) => [...(past.get(each.id!)?.names ?? [each.name])][0]!;
  const counts = new Map<string, number>();
  for (const each of fields) counts.set(oldest(each), (counts.get(oldest(each)) ?? 0) + 1);
  return fields.map((each) => ({
    ...each, physical: counts.get(oldest(each)) === 1 ? oldest(each) : `${oldest(each)}-${each.id}`,
    type: each.type.kind === 'struct' ? { ...each.type, fields: withPhysical(each.type.fields, past) } : each.type,
  }));
}

/** "Type Widening": files hold columns as they were; `delta.typeChanges` says so. */
function withTypeChanges(json: readonly FieldJson[], fields: readonly Field[], past: ReadonlyMap<number, Past>): FieldJson[] {
  return json.map((each, index): FieldJson => {
    const { id, type } = fields[index]!;
    const types = [...(past.get(id!)?.types ?? [])];
    const inner: DeltaTypeJson = type.kind === 'struct' && typeof each.type === 'object' && each.type.type === 'struct' ? { ...each.type, fields: withTypeChanges(each.type.fields, type.fields, past) } : each.type;
    if (types.length < 2) return { ...each, type: inner };
    return { ...each, type: inner, metadata: { ...each.metadata, 'delta.typeChanges': types.slice(1).map((to, at) => ({ fromType: types[at]!, toType: to })) } };
  });
}

async function addsOf({ files, schema }: IcebergSource, target: DeltaTable, fields: readonly Field[], partition: readonly Field[], ports: CommitPorts): Promise<Add[]> {
  const vectors = await vectorsOf(files, target, ports);
  return files.map((file): Add => {
    const inside = below(target.root, file.path);
    const values = partition.map((column) => {
      const value = file.constants[column.name] ?? file.partitionStats([column.name])?.lower ?? null;
      return [physicalName(column), value === null ? null : partitionText(column.type, value, column.name)];
    });
    const inPartition = new Set(partition.map((each) => each.name));
    const own = schema.fields.filter((each) => !inPartition.has(each.name));
    const stats = statsText({ path: file.path, bytes: file.bytes, rows: physicalRows(file), partition: {}, columns: columnsOf(file, own, (path) => physicalPath(fields, path)) }, fields);
    const vector = vectors.get(file);
    return {
      path: encodeFilePath(inside ?? `${target.store.uri}/${file.path}`), partitionValues: Object.fromEntries(values) as Add['partitionValues'], size: file.bytes, modificationTime: file.modified ?? ports.clock.now(), dataChange: true,
      stats: vector ? looseStats(stats)! : stats, ...(vector ? { deletionVector: vector } : {}),
    };
  });
}

function physicalPath(fields: readonly Field[], [first, ...rest]: readonly string[]): string[] {
  const found = fields.find((each) => each.name === first)!;
  return [physicalName(found), ...(rest.length > 0 && found.type.kind === 'struct' ? physicalPath(found.type.fields, rest) : rest)];
}

/** Rows that deletes of any kind take away, as vectors of the new table. */
async function vectorsOf(files: readonly DataFile[], target: DeltaTable, ports: CommitPorts): Promise<Map<DataFile, VectorDescriptor>> {
  const concerned = files.filter((file) => file.rowFilter);
  if (concerned.length === 0) return new Map();
  const lists = await Promise.all(concerned.map((file) => file.rowFilter!.load()));
  const { bytes, name, vectors } = packVectors(lists, ports.ids.uuid());
  await target.store.put(joinPath(target.root, name), bytes);
  return new Map(concerned.map((file, index) => [file, vectors[index]!]));
}
