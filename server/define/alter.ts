/** ALTER TABLE: each change is one commit of the table, or of the catalog. No data file is rewritten. */
import { addColumns as addDeltaColumns, changeColumn, describeTable, dropColumn, renameColumn, setProperties as setDeltaProperties } from '../../core/delta/operations';
import { typeJson } from '../../core/delta/schema';
import { withChangedColumn as withChangedDeltaColumn, withMovedColumn as withMovedDeltaColumn, withWidenedColumn as withWidenedDeltaColumn } from '../../core/delta/schema-edit';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { currentSnapshot, versionOf, type TableMetadata } from '../../core/iceberg/metadata';
import { addColumns, changePartitioning, changeSchema, changeSortOrder, setProperties } from '../../core/iceberg/operations';
import { checkProperty } from '../../core/iceberg/properties';
import { withAddedColumns, withChangedColumn, withKey, withMovedColumn, withoutColumn, withRenamedColumn, withWidenedColumn, type EditedSchema } from '../../core/iceberg/schema-edit';
import { IcebergTable } from '../../core/iceberg/table';
import { findField, type Field } from '../../core/schema/types';
import type { ColumnChange, TableChange } from '../../core/sql/define';
import { LATEST } from '../../core/table/contract';
import { demand, nameOfIdentity, type Identity } from '../access/access';
import { annotateRelation, nameOf, renameRelation, type Relation } from '../catalog/relations';
import { OFFERED } from '../lake/delta-faces';
import { randomIds, systemClock } from '../lake/lake';
import type { DefineServices, Done } from './definitions';

export async function alterTable(services: DefineServices, relation: Relation, change: TableChange, as: Identity): Promise<Done> {
  const { database, lake, upkeep, events } = services;
  const name = nameOf(relation);
  const who = nameOfIdentity(as);
  demand(as, 'manage', relation);
  if (change.kind === 'rename') {
    demand(as, 'manage', change.to);
    await renameRelation(database, relation, change.to, who);
    events.tell({ topic: 'catalog' });
    return { done: `${name} is called ${nameOf(change.to)} now; its files stay where they are.`, table: nameOf(change.to) };
  }
  const table = lake.table(relation);
  const ports = { clock: systemClock, ids: randomIds, who };
  let version: number | undefined;
  if (table instanceof DeltaTable) {
    version = await alterDelta(services, table, relation, change, ports);
    if (version !== undefined) await upkeep.afterCommit(table, lake.storageOf(relation));
  } else if (table instanceof IcebergTable) {
    const metadata = await alterIceberg(table, change, ports);
    const current = metadata && currentSnapshot(metadata);
    version = metadata && (current ? versionOf(metadata, current) : 0);
  } else throw new LakeError('unsupported', `${name} is ${relation.format ?? relation.kind}; Delta and Iceberg tables are altered.`, { table: name });
  if (change.kind === 'comment') await annotateRelation(database, relation, { description: change.comment }, who);
  events.tell({ topic: 'table', name });
  if (change.kind === 'comment') events.tell({ topic: 'catalog' });
  return { done: `${name}: ${changeWords(change)}.`, table: name, ...(version === undefined ? {} : { version }) };
}

type Ports = Parameters<typeof addColumns>[2];

async function hasColumn(table: DeltaTable | IcebergTable, column: string): Promise<boolean> {
  let { fields }: { fields: readonly Field[] } = (await table.snapshot(LATEST)).schema;
  for (const step of column.split('.')) {
    const found = findField(fields, step);
    if (!found) return false;
    fields = found.type.kind === 'struct' ? found.type.fields : [];
  }
  return true;
}

/** Undefined where nothing had to be done. */
async function alterDelta({ database }: DefineServices, table: DeltaTable, relation: Relation, change: TableChange, ports: Ports): Promise<number | undefined> {
  switch (change.kind) {
    case 'column':
      return alterDeltaColumn(table, change.change, ports);
    case 'comment':
      return describeTable(table, change.comment, ports);
    case 'properties':
      return changeDeltaProperties(database, relation, table, change.properties, ports);
    case 'key': {
      const { fields } = (await table.snapshot(LATEST)).schema;
      const missing = change.columns.find((each) => !findField(fields, each));
      if (missing !== undefined) throw new LakeError('bad-request', `${table.name} has no column "${missing}".`, { table: table.name });
      await annotateRelation(database, relation, { properties: { ...relation.properties, key: change.columns.join(', ') } }, ports.who!);
      return undefined;
    }
    default:
      throw new LakeError('unsupported', `A Delta table ${change.kind === 'order' ? 'keeps no order of rows' : 'stays partitioned as it was made'}. Nothing was changed.`, { table: table.name, hint: change.kind === 'order' ? 'Lay rows out by upkeep.' : 'Make another table with AS, or an Iceberg table.' });
  }
}

/** Whether engines of the catalog protocol are shown the table is the catalog's own to say; all else is the table's. */
async function changeDeltaProperties(database: DefineServices['database'], relation: Relation, table: DeltaTable, { [OFFERED]: offered, ...properties }: Readonly<Record<string, string | null>>, ports: Ports): Promise<number | undefined> {
  if (offered !== undefined) {
    if (offered !== null && offered !== 'true' && offered !== 'false') throw new LakeError('bad-request', `${OFFERED} is true or false, not '${offered}'. Nothing was changed.`, { table: table.name });
    const others = Object.entries(relation.properties).filter(([name]) => name !== OFFERED);
    await annotateRelation(database, relation, { properties: { ...Object.fromEntries(others), ...(offered === 'true' ? { [OFFERED]: offered } : {}) } }, ports.who!);
  }
  return Object.keys(properties).length === 0 ? undefined : setDeltaProperties(table, properties, ports);
}

async function alterDeltaColumn(table: DeltaTable, change: ColumnChange, ports: Ports): Promise<number | undefined> {
  switch (change.kind) {
    case 'add': {
      const full = change.within === undefined ? change.column.name : `${change.within}.${change.column.name}`;
      if (change.ifNotExists && (await hasColumn(table, full))) return undefined;
      const { place, within } = change;
      return addDeltaColumns(table, [change.column], ports, { ...(within === undefined ? {} : { within }), ...(place ? { place: (metadata) => withMovedDeltaColumn(metadata, table.name, full, place.after) } : {}) });
    }
    case 'drop':
      return change.ifExists && !(await hasColumn(table, change.column)) ? undefined : dropColumn(table, change.column, ports);
    case 'rename':
      return renameColumn(table, change.column, change.to, ports);
    case 'move':
      return changeColumn(table, (metadata) => withMovedDeltaColumn(metadata, table.name, change.column, change.place.after), change.column, ports);
    case 'widen':
      return changeColumn(table, (metadata) => withWidenedDeltaColumn(metadata, table.name, change.column, typeJson(change.type)), change.column, ports);
    case 'comment':
      return changeColumn(table, (metadata) => withChangedDeltaColumn(metadata, table.name, change.column, { comment: change.comment }), change.column, ports);
    case 'optional':
      return changeColumn(table, (metadata) => withChangedDeltaColumn(metadata, table.name, change.column, { optional: true }), change.column, ports);
  }
}

async function alterIceberg(table: IcebergTable, change: TableChange, ports: Ports): Promise<TableMetadata | undefined> {
  switch (change.kind) {
    case 'column':
      return alterIcebergColumn(table, change.change, ports);
    case 'comment':
      return setProperties(table, { comment: change.comment }, ports);
    case 'properties':
      for (const [key, value] of Object.entries(change.properties)) if (value !== null) checkProperty(key, value, table.name);
      return setProperties(table, change.properties, ports);
    case 'partitioning': {
      const { metadata } = await table.current();
      const spec = metadata['partition-specs'].find((each) => each['spec-id'] === metadata['default-spec-id'])!;
      const { fields } = (await table.snapshot(LATEST)).schema;
      const remove = change.remove.map(({ source, transform }) => {
        const found = spec.fields.find((each) => each.transform === transform && each['source-id'] === findField(fields, source)?.id);
        if (!found) throw new LakeError('bad-request', `${table.name} is not partitioned by ${transform} of ${source}.`, { table: table.name });
        return found.name;
      });
      return changePartitioning(table, { ...(change.add.length > 0 ? { add: change.add } : {}), ...(remove.length > 0 ? { remove } : {}) }, ports);
    }
    case 'order':
      return changeSortOrder(table, change.by.map((column) => ({ column })), ports);
    case 'key':
      return changeSchema(table, (metadata) => withKey(metadata, table.name, change.columns), ports);
    case 'rename':
      return undefined;
  }
}

async function alterIcebergColumn(table: IcebergTable, change: ColumnChange, ports: Ports): Promise<TableMetadata | undefined> {
  const edit = (make: (metadata: TableMetadata) => EditedSchema) => changeSchema(table, make, ports);
  switch (change.kind) {
    case 'add': {
      const full = change.within === undefined ? change.column.name : `${change.within}.${change.column.name}`;
      if (change.ifNotExists && (await hasColumn(table, full))) return undefined;
      const { place } = change;
      if (!place) return addColumns(table, [change.column], ports, change.within);
      return edit((metadata) => withMovedColumn(afterEdit(metadata, withAddedColumns(metadata, table.name, [change.column], change.within)), table.name, full, place.after));
    }
    case 'drop':
      return change.ifExists && !(await hasColumn(table, change.column)) ? undefined : edit((metadata) => withoutColumn(metadata, table.name, change.column));
    case 'rename':
      return edit((metadata) => withRenamedColumn(metadata, table.name, change.column, change.to));
    case 'move':
      return edit((metadata) => withMovedColumn(metadata, table.name, change.column, change.place.after));
    case 'widen':
      return edit((metadata) => withWidenedColumn(metadata, table.name, change.column, change.type));
    case 'comment':
      return edit((metadata) => withChangedColumn(metadata, table.name, change.column, { comment: change.comment }));
    case 'optional':
      return edit((metadata) => withChangedColumn(metadata, table.name, change.column, { optional: true }));
  }
}

/** So that another edit of the same commit builds on it. */
function afterEdit(metadata: TableMetadata, { schema, lastId }: EditedSchema): TableMetadata {
  return { ...metadata, schemas: [schema], 'current-schema-id': schema['schema-id'] ?? 0, 'last-column-id': lastId };
}

/** "column depth_m is added". */
export function changeWords(change: TableChange): string {
  switch (change.kind) {
    case 'column': {
      const { change: column } = change;
      if (column.kind === 'add') return `column ${column.within === undefined ? '' : `${column.within}.`}${column.column.name} is added; older rows have null there`;
      const words = { drop: 'is dropped; its values stay in older files and versions', rename: column.kind === 'rename' ? `is called ${column.to}` : '', widen: 'has a wider type', comment: 'has another comment', optional: 'may be null', move: 'has another place' };
      return `column ${column.column} ${words[column.kind]}`;
    }
    case 'rename':
      return `it is called ${nameOf(change.to)}`;
    case 'comment':
      return 'it has another description';
    case 'properties':
      return `${Object.entries(change.properties).map(([name, value]) => (value === null ? `${name} is as the format has it` : `${name} is ${value}`)).join(', ')}`;
    case 'partitioning':
      return 'files from now on are divided otherwise; those that are there stay as they are';
    case 'order':
      return 'rows of files from now on are sorted otherwise';
    case 'key':
      return change.columns.length > 0 ? `its key is ${change.columns.join(', ')}` : 'it has no key';
  }
}
