/** An Iceberg table over the files of a Delta table's newest version. No data file is rewritten. */
import { schemaJson, type FieldJson, type TypeJson } from '../delta/schema';
import type { LogState } from '../delta/state';
import { nameMappingOf, NAME_MAPPING } from '../iceberg/column-match';
import type { CommitPorts } from '../iceberg/commit';
import { newDataFile, vectorFile } from '../iceberg/data-files';
import type { SnapshotJson } from '../iceberg/metadata';
import { createIcebergTable, setProperties } from '../iceberg/operations';
import { packVectors } from '../iceberg/puffin';
import { withIdsOfFiles, type FieldsWithIds } from '../iceberg/ids-in-files';
import type { FileColumn } from '../iceberg/ports';
import { children, icebergType, parseSchema, withChildren } from '../iceberg/schema';
import { commitSnapshot, type NewFile } from '../iceberg/snapshot-commit';
import type { IcebergTable } from '../iceberg/table';
import { rulesOf } from '../delta/rules';
import type { DataFile } from '../scan/plan';
import { isNested, physicalName, type Field, type LogicalType, type TableSchema } from '../schema/types';
import { joinPath } from '../storage/paths';
import type { WrittenFile } from '../table/written-file';
import { columnsOf, mustBePossible, physicalRows, type ConversionPlan, type LeftBehind } from './conversion';

export interface DeltaSource {
  name: string;
  state: LogState;
  schema: TableSchema;
  /** Of the newest version, each with its number of rows. */
  files: readonly DataFile[];
  /** Of each file. */
  columns: readonly (readonly FileColumn[])[];
}

export function planToIceberg(source: DeltaSource): ConversionPlan {
  const { name, state, files } = source;
  return { files: files.length, rows: files.reduce((sum, file) => sum + (file.rows ?? 0), 0), bytes: files.reduce((sum, file) => sum + file.bytes, 0), leftBehind: leftBehind(name, state), obstacles: obstacles(source) };
}

function leftBehind(name: string, state: LogState): LeftBehind[] {
  const { metadata, txns, domains, version } = state;
  const { configuration } = metadata;
  const rules = rulesOf(metadata, name);
  const left: LeftBehind[] = [{ what: version === 0 ? 'version 0 as such' : `versions 0 to ${version}`, why: 'they stay in the Delta log; the new table begins with the newest of them' }];
  if (rules.conditions.length > 0) left.push({ what: `the conditions ${rules.conditions.map((each) => each.name).join(', ')}`, why: 'Iceberg has no constraints; writers would no longer hold rows to them' });
  if (rules.generated.length > 0) left.push({ what: 'generated columns', why: 'they keep their values, and new rows must give them' });
  if (rules.defaults.length > 0) left.push({ what: `defaults of ${rules.defaults.map((each) => each.column).join(', ')}`, why: 'they are expressions of the Delta log' });
  if (configuration['delta.enableChangeDataFeed'] === 'true') left.push({ what: 'the feed of changed rows', why: 'Iceberg has no files of changes' });
  if (configuration['delta.enableRowTracking'] === 'true') left.push({ what: 'ids of rows', why: 'rows get new ones in version 3, or none' });
  if (domains.has('delta.clustering')) left.push({ what: 'clustering', why: 'Iceberg knows a sort order in its place' });
  if (txns.size > 0) left.push({ what: `what the applications ${[...txns.keys()].join(', ')} loaded last`, why: 'Iceberg keeps no such numbers, so a load that is repeated loads twice' });
  const properties = Object.keys(configuration).filter((key) => key.startsWith('delta.') && !key.startsWith('delta.columnMapping.') && !key.startsWith('delta.constraints.'));
  if (properties.length > 0) left.push({ what: `the properties ${properties.join(', ')}`, why: 'they are of the Delta format' });
  return left;
}

function obstacles(source: DeltaSource): LeftBehind[] {
  const { name, state } = source;
  const found: LeftBehind[] = (idsOf(source)?.conflicts ?? []).map(({ column, why }) => ({ what: `column ${column}`, why }));
  for (const { column, from, to } of wideningsOf(schemaJson(state.metadata.schemaString, name).fields)) {
    if (!isPromotion(from, to)) found.push({ what: `column ${column}`, why: `it was widened from ${from} to ${to}, and Iceberg does not read the older files so; compact the table first` });
  }
  return found;
}

/** Columns as Iceberg has them, with the ids that files hold; undefined where any will do. */
function idsOf({ schema, columns }: DeltaSource): FieldsWithIds | undefined {
  return withIdsOfFiles(schema.fields.map(icebergField), columns);
}

/** "delta.typeChanges", at every depth. */
function wideningsOf(fields: readonly FieldJson[], before = ''): { column: string; from: string; to: string }[] {
  return fields.flatMap(({ name, type, metadata }) => {
    const changes = (metadata?.['delta.typeChanges'] ?? []) as { fromType: string; toType: string }[];
    return [...changes.map((each) => ({ column: `${before}${name}`, from: each.fromType, to: each.toType })), ...wideningsOf(structsIn(type), `${before}${name}.`)];
  });
}

function structsIn(type: TypeJson): FieldJson[] {
  if (typeof type === 'string') return [];
  return type.type === 'struct' ? type.fields : type.type === 'array' ? structsIn(type.elementType) : [...structsIn(type.keyType), ...structsIn(type.valueType)];
}

/** Iceberg specification, "Schema Evolution": what readers of older files must do; small integers are all int there. */
function isPromotion(from: string, to: string): boolean {
  const ints = ['byte', 'short', 'integer'];
  if (ints.includes(from)) return [...ints, 'long'].includes(to);
  if (from === 'float') return to === 'double';
  const [a, b] = [from, to].map((text) => /^decimal\((\d+),\s*(\d+)\)$/.exec(text));
  return !!a && !!b && a[2] === b[2];
}

/** The table must not exist. Returns its first snapshot. Fails with `unsupported` where the plan has obstacles. */
export async function convertToIceberg(source: DeltaSource, target: IcebergTable, ports: CommitPorts): Promise<SnapshotJson> {
  mustBePossible(source.name, planToIceberg(source));
  const { metadata: log } = source.state;
  const given = idsOf(source);
  const hasVectors = source.files.some((file) => file.rowFilter);
  const kept = Object.fromEntries(Object.entries(log.configuration).filter(([key]) => !key.startsWith('delta.')));
  const made = await createIcebergTable(target, {
    schema: { fields: (given?.fields ?? source.schema.fields.map(icebergField)).map(logical) }, ...(given ? { lastId: given.lastId } : {}), partitionBy: log.partitionColumns.map((each) => ({ source: each, transform: 'identity' })),
    properties: { ...kept, ...(log.description ? { comment: log.description } : {}) }, formatVersion: hasVectors ? 3 : 2,
  }, ports);
  const { fields } = parseSchema(made.schemas[0]!, target.name);
  const metadata = await setProperties(target, { [NAME_MAPPING]: nameMappingOf(withNamesInFiles(fields, source.schema.fields)) }, ports);
  const written = source.files.map((file): WrittenFile => ({ path: file.path, bytes: file.bytes, rows: physicalRows(file), columns: columnsOf(file, fields, (path) => path), partition: file.constants, isUnsorted: true }));
  const added = written.map((file): NewFile => ({ file: newDataFile(target.store.uri, file, metadata, target.name), specId: metadata['default-spec-id'] }));
  const { snapshot } = await commitSnapshot(target, { added, addedDeletes: await vectorsOf(source, added, target, ports), operation: 'append', summary: { 'converted-from': 'delta', 'converted-version': String(source.state.version) } }, ports);
  return snapshot;
}

/** What rows Delta's vectors delete, as vectors of the new table. */
async function vectorsOf({ files }: DeltaSource, added: readonly NewFile[], target: IcebergTable, ports: CommitPorts): Promise<NewFile[]> {
  const lists = await Promise.all(files.flatMap((file, index) => (file.rowFilter ? [file.rowFilter.load().then((rows) => ({ referencedFile: added[index]!.file.path, rows, of: added[index]! }))] : [])));
  if (lists.length === 0) return [];
  const { bytes, vectors } = packVectors(lists);
  const path = joinPath(target.root, 'metadata', `vectors-${ports.ids.uuid()}.puffin`);
  await target.store.put(path, bytes);
  return vectors.map((vector, index): NewFile => ({ specId: lists[index]!.of.specId, file: vectorFile(`${target.store.uri}/${path}`, bytes.length, vector, lists[index]!.of.file.partition) }));
}

function icebergField(field: Field): Field {
  return { ...field, type: icebergType(field.type) };
}

/** Without the name that it has in files. */
function logical(field: Field): Field {
  const { physical: _, type, ...rest } = field;
  return { ...rest, type: isNested(type) ? withChildren(type, children(type).map(logical)) : type };
}

/** The new table's fields, named as the old one's are in files. */
function withNamesInFiles(fields: readonly Field[], before: readonly Field[]): Field[] {
  return fields.map((field, index) => ({ ...field, name: physicalName(before[index]!), type: namesInFiles(field.type, before[index]!.type) }));
}

function namesInFiles(type: LogicalType, before: LogicalType): LogicalType {
  if (type.kind === 'struct' && before.kind === 'struct') return { ...type, fields: withNamesInFiles(type.fields, before.fields) };
  if (type.kind === 'list' && before.kind === 'list') return { ...type, element: withNamesInFiles([type.element], [before.element])[0]! };
  if (type.kind === 'map' && before.kind === 'map') return { ...type, key: withNamesInFiles([type.key], [before.key])[0]!, value: withNamesInFiles([type.value], [before.value])[0]! };
  return type;
}
