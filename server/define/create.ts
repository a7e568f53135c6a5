/** CREATE of namespaces, tables and views. */
import { createDeltaTable } from '../../core/delta/operations';
import { LOG_FOLDER } from '../../core/delta/log';
import { DeltaTable } from '../../core/delta/table';
import { LakeError, placingErrors } from '../../core/errors';
import { checkProperty } from '../../core/iceberg/properties';
import { FolderTable } from '../../core/folder/table';
import { createIcebergTable, specFieldsOf } from '../../core/iceberg/operations';
import { CatalogPointer, memoryCell } from '../../core/iceberg/pointer';
import { assignIds, icebergType } from '../../core/iceberg/schema';
import { IcebergTable } from '../../core/iceberg/table';
import { parseTypeName } from '../../core/schema/type-names';
import { field, findField, twiceNamed, type Field } from '../../core/schema/types';
import type { Range } from '../../core/sql/cursor';
import type { DefineStatement, PartitionTerm, QualifiedName, TableDefinition } from '../../core/sql/define';
import { joinPath, normalPath } from '../../core/storage/paths';
import { LATEST } from '../../core/table/contract';
import { FILE_PLAN_OPTIONS, readFilePlan, type FilePlan } from '../../core/write/plan';
import { demand, demandEverywhere, mayDo, nameOfIdentity, type Identity } from '../access/access';
import { annotateRelation, changeNamespace, createRelation, ensureNamespace, findByLocation, findRelation, getNamespace, getRelation, nameOf, noteColumns, redefineRelation, type Namespace, type RelationDefinition } from '../catalog/relations';
import type { ChangeResult } from '../change/changes';
import { TARGET_BYTES } from '../change/iceberg-change';
import { transformPartitions } from '../change/transform-partitions';
import { columnPartitions, type TableFiles } from '../change/write-files';
import { removeUnder } from '../lake/account';
import { randomIds, systemClock } from '../lake/lake';
import { tableAround } from '../lake/belonging';
import { placeForNew, type Place } from '../lake/places';
import type { DefineServices, Done } from './definitions';

type Create<K extends DefineStatement['kind']> = Extract<DefineStatement, { kind: K }>;

/** The formats that tables are made of; the first where none is asked for. */
export const TABLE_FORMATS = ['iceberg', 'delta', 'parquet'] as const;
/** Options of ours; all others are properties of the table. */
const OWN_OPTIONS: readonly string[] = ['format', 'location', 'format-version', ...FILE_PLAN_OPTIONS];

export async function createNamespace({ database, lake, events }: DefineServices, statement: Create<'create-namespace'>, as: Identity): Promise<Done> {
  const { namespace: name, comment, options, ifNotExists } = statement;
  const who = nameOfIdentity(as);
  demand(as, 'manage', { namespace: name });
  const { location, ...properties } = options;
  if (location !== undefined) demandEverywhere(as, 'manage', 'tie a namespace to a folder');
  const place = location === undefined ? undefined : folderOf(lake, location);
  const known = await getNamespace(database, name).catch(() => undefined);
  if (known && !ifNotExists) throw new LakeError('conflict', `The namespace ${known.name} exists already.`);
  if (known) return { done: `The namespace ${known.name} was there already.` };
  await database.transaction((sql) => ensureNamespace(sql, name, who));
  await changeNamespace(database, await getNamespace(database, name), {
    ...(comment === undefined ? {} : { description: comment }), ...(Object.keys(properties).length > 0 ? { properties } : {}), ...(place ? { place: { storageId: place.storage.storage.id, folder: place.path } } : {}),
  }, who);
  events.tell({ topic: 'catalog' });
  return { done: `The namespace ${name} was made${place ? `; its tables lie below ${place.storage.storage.name}:${place.path}` : ''}.` };
}

export async function createView({ database, queries, events }: DefineServices, { view, source, comment, orReplace, ifNotExists }: Create<'create-view'>, text: string, as: Identity): Promise<Done> {
  const who = nameOfIdentity(as);
  demand(as, 'manage', view);
  await getNamespace(database, view.namespace);
  const known = await findRelation(database, view.namespace, view.name);
  if (known && ifNotExists) return { done: `${nameOf(known)} was there already.` };
  if (known && !orReplace) throw new LakeError('conflict', `${nameOf(known)} exists in the catalog already. Choose another name, or CREATE OR REPLACE VIEW.`, { table: nameOf(known), position: view.start });
  if (known && known.kind !== 'view') throw new LakeError('conflict', `${nameOf(known)} is a table; a view cannot take its place.`, { table: nameOf(known), position: view.start });
  const sql = text.slice(source.start, source.end);
  const columns = (await inQuery(source, () => queries.columnsOf(sql, as))).map(({ name, type }) => ({ name, type }));
  if (known) await redefineRelation(database, known, { kind: 'view', sql }, who);
  else await createRelation(database, { namespace: view.namespace, name: view.name, kind: 'view', definition: { kind: 'view', sql }, ...(comment === undefined ? {} : { description: comment }) }, who);
  const made = await getRelation(database, view.namespace, view.name);
  if (known && comment !== undefined) await annotateRelation(database, made, { description: comment }, who);
  await noteColumns(database, made, columns, who);
  events.tell({ topic: 'catalog' });
  return { done: `The view ${nameOf(made)} ${known ? 'has another query' : 'was made'}, with ${columns.length} ${columns.length === 1 ? 'column' : 'columns'}.`, table: nameOf(made) };
}

export async function createTable(services: DefineServices, statement: Create<'create-table'>, text: string, as: Identity, id: string): Promise<Done> {
  const { database, lake, events } = services;
  const { table, definition, source } = statement;
  demand(as, 'manage', table);
  const namespace = await namespaceOf(database, table);
  const name = { namespace: namespace.name, name: table.name };
  const fullName = nameOf(name);
  const known = await findRelation(database, name.namespace, name.name);
  if (known && statement.ifNotExists) return { done: `${nameOf(known)} was there already.`, table: nameOf(known) };
  if (known) throw new LakeError('conflict', `${nameOf(known)} exists in the catalog already. Choose another name.`, { table: nameOf(known), position: table.start });
  const { location } = definition.options;
  const isManaged = location === undefined;
  const place = await placeOf(lake, namespace, name.name, location, as);
  if (definition.columns.length === 0 && !source) return register(services, name, place, definition, as);
  await mustBeFree(services, place, fullName, as);
  if (!source && formatOf(definition, table) === 'parquet') throw new LakeError('bad-request', 'A Parquet table is its files, so it is made AS a query that fills it. Delta and Iceberg tables can be made empty.', { position: table.start });
  const toPlan = FILE_PLAN_OPTIONS.find((option) => definition.options[option] !== undefined);
  if (!source && toPlan) throw new LakeError('bad-request', `"${toPlan}" says how rows go into files, and this statement brings none.`, { position: table.start, hint: 'Fill the table AS a query; for later writes set a property of the table, such as write.target-file-size-bytes.' });
  const columns = source ? await columnsOfQuery(services, text, source, formatOf(definition, table), as) : definition.columns;
  const whole = { ...definition, columns };
  filePlanOf(whole);
  try {
    const made = await makeTable(services, fullName, place, whole, table, as);
    let filled: ChangeResult | undefined;
    if (source) {
      filled = await services.changes.run({ id, sql: text, as, files: definition.options, into: { name: fullName, table: made.table, storage: place.storage, source } });
    }
    const kept = formatOf(definition, table) === 'parquet' ? await asPlainFiles(services, place) : await asLakeTable(made.table);
    await createRelation(database, { ...name, kind: 'table', storageId: place.storage.storage.id, location: place.path, managed: isManaged, ...(definition.comment === undefined ? {} : { description: definition.comment }), ...kept }, nameOfIdentity(as));
    if (!(made.table instanceof IcebergTable) && definition.key.length > 0) await annotateRelation(database, await getRelation(database, name.namespace, name.name), { properties: { key: definition.key.join(', ') } }, nameOfIdentity(as));
    events.tell({ topic: 'catalog' });
    const where = `${place.storage.storage.name}:${place.path}`;
    return { done: `${fullName} was made at ${where}, ${isManaged ? 'managed' : 'external'}, as ${WORDS[kept.format]} table.`, table: fullName, ...(filled ? { filled } : {}) };
  } catch (error) {
    // Nothing lay there before.
    await removeUnder(place.storage, [place.path], await place.storage.store.list(place.path)).catch(() => undefined);
    throw error;
  }
}

async function namespaceOf(database: DefineServices['database'], table: QualifiedName): Promise<Namespace> {
  return getNamespace(database, table.namespace).catch((error: unknown) => {
    if (error instanceof LakeError && error.kind === 'not-found') throw new LakeError('not-found', error.message, { position: table.start, hint: `CREATE NAMESPACE ${table.namespace} makes it.` });
    throw error;
  });
}

/** Of a managed table a place that the product chooses; only who may manage everything says another. */
async function placeOf(lake: DefineServices['lake'], namespace: Namespace, name: string, location: string | undefined, as: Identity): Promise<Place> {
  if (location === undefined) return placeForNew(lake, namespace, name, undefined);
  demandEverywhere(as, 'manage', 'say where a table lies');
  return folderOf(lake, location);
}

/** A table that is made AS a query, as far as its files go. */
export interface TableToFill {
  name: string;
  format: (typeof TABLE_FORMATS)[number];
  /** With the columns of the query. */
  definition: TableDefinition;
  place: Place;
  table: QualifiedName;
  source: Range;
}

/** What `createTable` would fill, and where, before it is done; asks for the same rights. Whether the name and the place are free is not looked at. */
export async function tableToFill(services: DefineServices, statement: Create<'create-table'>, text: string, as: Identity): Promise<TableToFill> {
  const { table, definition, source } = statement;
  demand(as, 'manage', table);
  if (!source) throw new LakeError('bad-request', 'This statement makes an empty table, so there are no files to foresee.', { position: table.start });
  const namespace = await namespaceOf(services.database, table);
  const format = formatOf(definition, table);
  const place = await placeOf(services.lake, namespace, table.name, definition.options.location, as);
  const whole = { ...definition, columns: await columnsOfQuery(services, text, source, format, as) };
  mustBeDistinct(whole.columns, nameOf(table));
  filePlanOf(whole);
  return { name: nameOf({ namespace: namespace.name, name: table.name }), format, definition: whole, place, table, source };
}

/** Makes and fills the table in a folder of its own, in no catalog; some of the rows, as `text` with `source` has them. */
export async function tryTable(services: DefineServices, { name, definition, table }: TableToFill, folder: Place, { text, source, as, id }: { text: string; source: Range; as: Identity; id: string }): Promise<ChangeResult> {
  try {
    const made = await makeTable(services, name, folder, definition, table, as);
    return await services.changes.run({ id, sql: text, as, files: definition.options, into: { name, table: made.table, storage: folder.storage, source } });
  } catch (error) {
    await removeUnder(folder.storage, [folder.path], await folder.storage.store.list(folder.path)).catch(() => undefined);
    throw error;
  }
}

function filePlanOf({ options, columns }: TableDefinition): FilePlan | undefined {
  return readFilePlan(options, (column) => findField(columns, column)?.name);
}

/** How its rows go into files, where nothing else is said one a partition. The rows themselves are left open. */
export function filesOfTable({ name, format, definition, place }: TableToFill): TableFiles & { plan: FilePlan } {
  const { columns, partitionBy, orderBy } = definition;
  const { fields } = format === 'iceberg' ? assignIds(columns, 0) : { fields: columns };
  const named = (path: string): string => columnPath(columns, path, name);
  const terms = partitionBy.map((each) => ({ ...each, source: named(each.source) }));
  const partitions = format === 'iceberg' ? transformPartitions({ 'spec-id': 0, fields: specFieldsOf(fields, terms, name) }, fields, name) : columnPartitions(fields, terms.map(({ source }) => source));
  const plan = filePlanOf(definition) ?? { goal: partitions.length > 0 ? { kind: 'one' as const } : { kind: 'size' as const, bytes: TARGET_BYTES }, by: [], mechanism: 'even' as const, sort: [] };
  const sort = plan.sort.length > 0 ? plan.sort : orderBy.map((path) => ({ column: named(path), descending: false, nullsFirst: true }));
  return { fields, partitions, extra: [], folder: place.path, withIds: format === 'iceberg', targetBytes: TARGET_BYTES, plan: { ...plan, sort } };
}

/** What stands in a folder already is in the catalog again, with all its versions. */
async function register({ database, files, events }: DefineServices, name: { namespace: string; name: string }, place: Place, definition: TableDefinition, as: Identity): Promise<Done> {
  const where = `${place.storage.storage.name}:${place.path}`;
  const known = await findByLocation(database, place.storage.storage.id, place.path);
  if (known) throw new LakeError('conflict', `The table at ${where} is in the catalog as ${nameOf(known)} already.`, { table: nameOf(known) });
  const { table } = await files.open(where);
  if (!(table instanceof DeltaTable) && !(table instanceof IcebergTable)) throw new LakeError('bad-request', `${where} holds no Delta or Iceberg table; give the columns of the new one, or crawl the folder to register its files.`, { path: place.path });
  if (definition.options.format !== undefined && definition.options.format !== table.format) throw new LakeError('bad-request', `${where} holds a table of the format ${table.format}, not ${definition.options.format}.`, { path: place.path });
  const { version } = await table.snapshot(LATEST);
  await createRelation(database, { ...name, kind: 'table', format: table.format, storageId: place.storage.storage.id, location: table.root, definition: { kind: 'lake', pointer: 'files' }, ...(definition.comment === undefined ? {} : { description: definition.comment }) }, nameOfIdentity(as));
  events.tell({ topic: 'catalog' });
  return { done: `${nameOf(name)} is registered at ${where}, at version ${version}; its files stay external.`, table: nameOf(name) };
}

const WORDS = { delta: 'a Delta', iceberg: 'an Iceberg', parquet: 'a Parquet' };

async function asLakeTable(table: DeltaTable | IcebergTable): Promise<{ format: 'delta' | 'iceberg'; definition: RelationDefinition; pointer?: string }> {
  if (table instanceof DeltaTable) return { format: 'delta', definition: { kind: 'lake', pointer: 'files' } };
  return { format: 'iceberg', definition: { kind: 'lake', pointer: 'catalog' }, pointer: (await table.current()).path };
}

/** The files without the log that they were written with; partitions go by the names of their folders. */
async function asPlainFiles({ files }: DefineServices, { storage, path }: Place): Promise<{ format: 'parquet'; definition: RelationDefinition }> {
  const log = joinPath(path, LOG_FOLDER);
  await removeUnder(storage, [log], await storage.store.list(log));
  if ((await storage.store.list(path)).length === 0) throw new LakeError('bad-request', 'The query gives no rows, so there is no file that a Parquet table could be of. Nothing was changed.', { path });
  const { table } = await files.open(`${storage.storage.name}:${path}`);
  if (!(table instanceof FolderTable)) throw new LakeError('conflict', `Something else was written to ${path} meanwhile.`, { path });
  return { format: 'parquet', definition: { kind: 'folder', folder: table.definition } };
}

function formatOf({ options }: TableDefinition, table: QualifiedName): (typeof TABLE_FORMATS)[number] {
  const wanted = (options.format ?? TABLE_FORMATS[0]).toLowerCase();
  const found = TABLE_FORMATS.find((format) => format === wanted);
  if (!found) throw new LakeError('bad-request', `Tables of the format "${options.format}" are not made here; ${TABLE_FORMATS.join(' and ')} are.`, { position: table.start });
  return found;
}

async function makeTable({ lake }: DefineServices, fullName: string, place: Place, definition: TableDefinition, table: QualifiedName, as: Identity): Promise<{ table: DeltaTable | IcebergTable }> {
  const ports = { clock: systemClock, ids: randomIds, who: nameOfIdentity(as) };
  const { columns, partitionBy, orderBy, key, options } = definition;
  mustBeDistinct(columns, fullName);
  const named = (path: string): string => columnPath(columns, path, fullName);
  const properties = Object.fromEntries(Object.entries(options).filter(([option]) => !OWN_OPTIONS.includes(option)));
  const format = formatOf(definition, table);
  if (format === 'parquet' && Object.keys(properties).length > 0) throw new LakeError('bad-request', `Plain Parquet files have no properties, so ${Object.keys(properties).join(', ')} cannot be set.`, { table: fullName });
  if (format !== 'iceberg') {
    const other = partitionBy.find((each) => each.transform !== 'identity');
    if (other) throw new LakeError('bad-request', `${format === 'delta' ? 'Delta' : 'Parquet'} tables are partitioned by columns as they are, not by ${other.transform} of ${other.source}.`, { table: fullName, hint: 'Add a column that holds the value, or make an Iceberg table.' });
    if (orderBy.length > 0) throw new LakeError('bad-request', `A ${format === 'delta' ? 'Delta' : 'Parquet'} table keeps no order of rows. Nothing was changed.`, { table: fullName, hint: 'Order the query that it is made from, or lay rows out by upkeep.' });
    const made = new DeltaTable(place.storage.store, place.path, fullName, lake.indexes);
    await createDeltaTable(made, { schema: { fields: columns }, partitionColumns: partitionBy.map((each) => named(each.source)), properties, ...(definition.comment === undefined ? {} : { description: definition.comment }) }, ports);
    return { table: made };
  }
  const version = options['format-version'] ?? '2';
  if (version !== '2' && version !== '3') throw new LakeError('bad-request', `format-version is 2 or 3, not ${version}.`, { table: fullName });
  for (const [property, value] of Object.entries(properties)) checkProperty(property, value, fullName);
  const made = lake.icebergTable(place.storage, place.path, fullName, new CatalogPointer(place.storage.store, place.path, memoryCell(), randomIds));
  await createIcebergTable(made, {
    schema: { fields: columns }, key, partitionBy: partitionBy.map((each: PartitionTerm) => ({ ...each, source: named(each.source) })), sortBy: orderBy.map(named), properties, formatVersion: version === '3' ? 3 : 2,
  }, ports);
  return { table: made };
}

/** The columns of a query, as types that the format has. */
async function columnsOfQuery({ queries }: DefineServices, text: string, source: Range, format: string, as: Identity): Promise<Field[]> {
  const columns = await inQuery(source, () => queries.columnsOf(text.slice(source.start, source.end), as));
  return columns.map(({ name, type }) => field(name, format === 'iceberg' ? icebergType(parseTypeName(type)) : parseTypeName(type)));
}

/** Positions of what is wrong in a query that is part of the statement. */
function inQuery<T>({ start }: Range, work: () => Promise<T>): Promise<T> {
  return placingErrors((before) => (before === undefined ? undefined : before + start), work);
}

/** `storage:folder`. */
function folderOf(lake: DefineServices['lake'], location: string): Place {
  const cut = location.indexOf(':');
  if (cut <= 0) throw new LakeError('bad-request', `The location "${location}" names no storage; write it as storage:folder.`, { hint: `Connected: ${lake.storages().map(({ storage }) => storage.name).join(', ')}.` });
  const storage = lake.storage(location.slice(0, cut));
  if (storage.storage.kind === 'postgres') throw new LakeError('bad-request', `${storage.storage.name} is a database; tables lie in folders.`);
  const path = normalPath(location.slice(cut + 1));
  if (path === '') throw new LakeError('bad-request', 'A table cannot lie at the root of a storage.', { path });
  return { storage, path };
}

/** In no folder of another table, with none in it, and with nothing else there. */
async function mustBeFree({ database, lake }: DefineServices, place: Place, table: string, as: Identity): Promise<void> {
  const { storage, path } = place;
  const near = await tableAround(database, lake, place);
  if (near) throw new LakeError('conflict', `${mayDo(as, 'see', near) ? nameOf(near) : 'Another table'} lies there or in it, so ${table} cannot lie at ${path}. Nothing was changed.`, { path, hint: 'Choose a folder of its own.' });
  const { files, folders } = await storage.store.listFolder(path);
  if (files.length + folders.length === 0) return;
  throw new LakeError('conflict', `Something lies at ${storage.storage.name}:${path} already, so ${table} cannot be made there. Nothing was changed.`, { path, hint: 'Choose an empty folder; a table that stands there is registered by CREATE TABLE without columns.' });
}

function mustBeDistinct(columns: readonly Field[], table: string): void {
  const twice = twiceNamed(columns.map(({ name }) => name));
  if (twice !== undefined) throw new LakeError('bad-request', `${table} would have two columns "${twice}"; names are told apart without regard to case.`, { table, hint: 'Name the columns of the query with AS.' });
}

/** The path as the columns spell it. */
function columnPath(columns: readonly Field[], path: string, table: string): string {
  let [fields, spelled]: [readonly Field[], string[]] = [columns, []];
  for (const step of path.split('.')) {
    const found = findField(fields, step);
    if (!found) throw new LakeError('bad-request', `${table} has no column "${path}".`, { table, hint: `Its columns are ${columns.map(({ name }) => name).join(', ')}.` });
    spelled = [...spelled, found.name];
    fields = found.type.kind === 'struct' ? found.type.fields : [];
  }
  return spelled.join('.');
}
