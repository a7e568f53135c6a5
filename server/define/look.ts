/** SHOW and DESCRIBE: what the catalog and the tables tell, as rows. */
import { LakeError, placingErrors } from '../../core/errors';
import { IcebergTable } from '../../core/iceberg/table';
import { typeName } from '../../core/schema/type-names';
import type { DefineStatement, QualifiedName, TableDefinition } from '../../core/sql/define';
import { createTableSql, termSql } from '../../core/sql/table-sql';
import { nameAsSql, quoteText } from '../../core/sql/tokens';
import { LATEST, type LakeTable, type Snapshot } from '../../core/table/contract';
import { demand, mayDo, maySeeNamespace, type Identity } from '../access/access';
import { listDropped } from '../catalog/dropped';
import { getNamespace, getRelation, listNamespaces, nameOf, type Relation, type RelationName } from '../catalog/relations';
import type { ResultColumn } from '../engine/messages';
import type { DefineServices } from './definitions';
import { keyOf } from './table-key';

export interface Look {
  columns: ResultColumn[];
  rows: unknown[][];
}

const ABOUT = { about: 'varchar', name: 'varchar', value: 'varchar', comment: 'varchar' };

type Show = Extract<DefineStatement, { kind: 'show' }>;

export async function look(services: DefineServices, show: Show, as: Identity): Promise<Look> {
  const { database } = services;
  switch (show.what) {
    case 'namespaces': {
      const all = (await listNamespaces(database)).filter((each) => maySeeNamespace(as, each.name));
      return rowsOf({ namespace: 'varchar', tables: 'integer', views: 'integer', folder: 'varchar', description: 'varchar' }, all.map((each) => [each.name, each.tables, each.views, each.storage === null ? null : `${each.storage}:${each.folder ?? ''}`, each.description]));
    }
    case 'tables':
    case 'views': {
      const kind = show.what === 'tables' ? 'table' : 'view';
      const all = (await inNamespace(services, show.namespace, as)).filter((each) => each.kind === kind);
      if (kind === 'view') return rowsOf({ namespace: 'varchar', name: 'varchar', description: 'varchar' }, all.map((each) => [each.namespace, each.name, each.description]));
      return rowsOf({ namespace: 'varchar', name: 'varchar', format: 'varchar', kept: 'varchar', location: 'varchar', description: 'varchar' }, all.map((each) => [each.namespace, each.name, each.format, keptAs(each), placeOf(each), each.description]));
    }
    case 'dropped': {
      const all = (await listDropped(database, show.namespace)).filter((each) => mayDo(as, 'manage', each));
      return rowsOf({ namespace: 'varchar', name: 'varchar', format: 'varchar', files: 'integer', bytes: 'bigint', dropped_at: 'timestamp with time zone', dropped_by: 'varchar', kept_until: 'timestamp with time zone' }, all.map((each) => [each.namespace, each.name, each.format, each.files, each.bytes, each.droppedAt, each.who, each.keepUntil]));
    }
    default:
      return ofOne(services, show.what, await seen(services, show.of, as), as);
  }
}

/** The table or view of the name, for who may see it; errors are placed at the name. */
export function seen({ database }: DefineServices, name: QualifiedName, as: Identity): Promise<Relation> {
  return placingErrors(() => name.start, async () => {
    demand(as, 'see', name);
    return getRelation(database, name.namespace, name.name);
  });
}

async function inNamespace({ database, queries }: DefineServices, namespace: string | undefined, as: Identity): Promise<RelationName[]> {
  if (namespace !== undefined) await getNamespace(database, namespace);
  const all = await queries.names.all();
  return all.filter((each) => (namespace === undefined || each.namespace.toLowerCase() === namespace.toLowerCase()) && mayDo(as, 'see', each));
}

async function ofOne(services: DefineServices, what: Extract<Show, { of: unknown }>['what'], relation: Relation, as: Identity): Promise<Look> {
  if (relation.kind === 'view') return ofView(services, what, relation, as);
  const table = services.lake.table(relation);
  if (what === 'history') return history(table);
  const snapshot = await table.snapshot(LATEST);
  if (what === 'columns') return columns(relation, snapshot, await keyOf(table, relation));
  if (what === 'create') return rowsOf({ statement: 'varchar' }, [[createTableSql(sqlName(relation), await definitionOf(table, relation))]]);
  if (what === 'describe') return describe(table, relation, snapshot);
  demand(as, 'read', relation);
  return what === 'files' ? files(snapshot) : partitions(snapshot);
}

async function ofView({ queries }: DefineServices, what: Show['what'], relation: Relation, as: Identity): Promise<Look> {
  const { sql } = relation.definition as { sql: string };
  // What a view is made of tells of tables that not everybody may see who sees the view.
  const mayRead = mayDo(as, 'read', relation);
  if (what === 'create') demand(as, 'read', relation);
  if (what === 'create') return rowsOf({ statement: 'varchar' }, [[`CREATE OR REPLACE VIEW ${sqlName(relation)}${relation.description ? ` COMMENT ${quoteText(relation.description)}` : ''} AS\n${sql}`]]);
  const found = relation.columns ?? (await queries.columnsOf(sql, as));
  if (what === 'columns') return rowsOf({ column: 'varchar', type: 'varchar' }, found.map((each) => [each.name, each.type]));
  if (what !== 'describe') throw new LakeError('bad-request', `${nameOf(relation)} is a view; it has no ${what} of its own.`, { table: nameOf(relation) });
  return rowsOf(ABOUT, [...found.map((each) => ['column', each.name, each.type, null]), ['view', 'query', mayRead ? sql : null, relation.description || null]]);
}

function columns(relation: Relation, { schema }: Snapshot, key: readonly string[]): Look {
  return rowsOf({ column: 'varchar', type: 'varchar', required: 'boolean', key: 'boolean', description: 'varchar' }, schema.fields.map((each) => [each.name, typeName(each.type), each.required, key.includes(each.name), each.comment ?? relation.notes?.[each.name]?.description ?? null]));
}

async function describe(table: LakeTable, relation: Relation, snapshot: Snapshot): Promise<Look> {
  const key = await keyOf(table, relation);
  const totals = await snapshot.totals();
  const about: [string, string, string | null, string | null][] = [
    ...snapshot.schema.fields.map((each): [string, string, string, string | null] => ['column', each.name, `${typeName(each.type)}${each.required ? ' NOT NULL' : ''}`, each.comment ?? null]),
    ...snapshot.partitioning.map((each): [string, string, string, null] => ['partitioned by', each.name, termSql(each), null]),
    ...snapshot.sortedBy.map((each): [string, string, null, null] => ['sorted by', each, null, null]),
    ...key.map((each): [string, string, null, null] => ['key', each, null, null]),
    ['table', 'format', table.format, null], ['table', 'kept', keptAs(relation), null], ['table', 'location', placeOf(relation), null], ['table', 'description', relation.description || null, null],
    ['table', 'version', String(snapshot.version), null], ['table', 'rows', totals.rows === undefined ? null : String(totals.rows), null], ['table', 'files', String(totals.files), null], ['table', 'bytes', String(totals.bytes), null],
    ...Object.entries(snapshot.properties).map(([name, value]): [string, string, string, null] => ['property', name, value, null]),
  ];
  return rowsOf(ABOUT, about);
}

async function history(table: LakeTable): Promise<Look> {
  const entries = await table.history();
  return rowsOf(
    { version: 'bigint', at: 'timestamp with time zone', operation: 'varchar', who: 'varchar', rows_added: 'bigint', rows_removed: 'bigint', files_added: 'integer', files_removed: 'integer', snapshot_id: 'varchar' },
    entries.reverse().map((each) => [each.version ?? null, new Date(each.at).toISOString(), each.operation, each.who ?? null, each.rowsAdded ?? null, each.rowsRemoved ?? null, each.filesAdded, each.filesRemoved, each.snapshotId ?? null]),
  );
}

async function files(snapshot: Snapshot): Promise<Look> {
  const all = await snapshot.files();
  return rowsOf({ path: 'varchar', rows: 'bigint', bytes: 'bigint', partition: 'varchar' }, all.map((each) => [each.path, each.rows ?? null, each.bytes, partitionText(each.partition)]));
}

async function partitions(snapshot: Snapshot): Promise<Look> {
  const groups = new Map<string, { values: Record<string, string | null>; files: number; rows: number | null; bytes: number }>();
  for (const each of await snapshot.files()) {
    const key = JSON.stringify(Object.entries(each.partition).sort());
    const group = groups.get(key) ?? { values: each.partition, files: 0, rows: 0, bytes: 0 };
    groups.set(key, { values: each.partition, files: group.files + 1, bytes: group.bytes + each.bytes, rows: group.rows === null || each.rows === undefined ? null : group.rows + each.rows });
  }
  const names = [...new Set([...groups.values()].flatMap(({ values }) => Object.keys(values)))];
  const sorted = [...groups.entries()].sort(([a], [b]) => (a < b ? -1 : 1)).map(([, group]) => group);
  return rowsOf({ ...Object.fromEntries(names.map((name) => [name, 'varchar'])), files: 'integer', rows: 'bigint', bytes: 'bigint' }, sorted.map(({ values, files: count, rows, bytes }) => [...names.map((name) => values[name] ?? null), count, rows, bytes]));
}

function partitionText(partition: Record<string, string | null>): string | null {
  const entries = Object.entries(partition);
  return entries.length === 0 ? null : entries.map(([name, value]) => `${name}=${value ?? 'null'}`).join(', ');
}

/** What a table is, as its statement says it. */
export async function definitionOf(table: LakeTable, relation: Relation): Promise<TableDefinition> {
  const snapshot = await table.snapshot(LATEST);
  const location: Record<string, string> = relation.managed ? {} : { location: placeOf(relation) };
  return {
    columns: snapshot.schema.fields.map((each) => (each.comment === undefined && relation.notes?.[each.name]?.description ? { ...each, comment: relation.notes[each.name]!.description } : each)),
    key: await keyOf(table, relation), partitionBy: snapshot.partitioning.map(({ source, transform }) => ({ source, transform })), orderBy: snapshot.sortedBy,
    ...(relation.description ? { comment: relation.description } : {}), options: { format: table.format, ...location, ...(await formatVersion(table)), ...snapshot.properties },
  };
}

/** 2 is what a table is made with. */
async function formatVersion(table: LakeTable): Promise<Record<string, string>> {
  const version = table instanceof IcebergTable ? (await table.current()).metadata['format-version'] : 2;
  return version === 2 ? {} : { 'format-version': String(version) };
}

function keptAs({ managed }: Pick<Relation, 'managed'>): string {
  return managed ? 'managed' : 'external';
}

function placeOf({ storage, location }: Pick<Relation, 'storage' | 'location'>): string {
  return `${storage}:${location ?? ''}`;
}

function sqlName({ namespace, name }: Relation): string {
  return [...namespace.split('.'), name].map(nameAsSql).join('.');
}

function rowsOf(columns: Record<string, string>, rows: unknown[][]): Look {
  return { columns: Object.entries(columns).map(([name, type]) => ({ name, type })), rows };
}
