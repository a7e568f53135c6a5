/** Namespaces, tables and views by name. Names match without regard to case and are kept as written. */
import { LakeError } from '../../core/errors';
import type { TiedFolder } from '../../core/crawl/definition';
import type { FolderDefinition } from '../../core/folder/table';
import type { TableFormat } from '../../core/table/contract';
import { DatabaseError, UNIQUE_VIOLATION, type Database, type Sql } from './database';
import { recordRevision } from './revisions';

export interface Namespace {
  id: number;
  name: string;
  description: string;
}

export interface Relation {
  id: number;
  namespace: string;
  name: string;
  kind: 'table' | 'view';
  format: TableFormat | null;
  storage: string | null;
  location: string | null;
  managed: boolean;
  definition: RelationDefinition;
  description: string;
  createdAt: string;
}

export type RelationDefinition =
  | { kind: 'folder'; folder: FolderDefinition }
  | { kind: 'lake'; pointer: 'catalog' | 'files' }
  | { kind: 'view'; sql: string };

const COLUMNS = `
  r.id, n.name AS namespace, r.name, r.kind, r.format, s.name AS storage, r.location, r.managed, r.definition, r.description, r.created_at AS "createdAt"
  FROM relation r JOIN namespace n ON n.id = r.namespace_id LEFT JOIN storage s ON s.id = r.storage_id`;

export async function listNamespaces(sql: Sql): Promise<(Namespace & { tables: number; views: number })[]> {
  return sql.query(`
    SELECT n.id, n.name, n.description,
           count(r.id) FILTER (WHERE r.kind = 'table')::int AS tables, count(r.id) FILTER (WHERE r.kind = 'view')::int AS views
    FROM namespace n LEFT JOIN relation r ON r.namespace_id = n.id GROUP BY n.id ORDER BY lower(n.name)`);
}

export async function listTiedFolders(sql: Sql): Promise<TiedFolder[]> {
  return sql.query('SELECT n.name AS namespace, s.name AS storage, n.folder FROM namespace n JOIN storage s ON s.id = n.storage_id WHERE n.folder IS NOT NULL');
}

export async function listRelations(sql: Sql, namespace?: string): Promise<Relation[]> {
  return sql.query(`SELECT ${COLUMNS} WHERE $1::text IS NULL OR lower(n.name) = lower($1) ORDER BY lower(n.name), lower(r.name)`, [namespace ?? null]);
}

export async function findRelation(sql: Sql, namespace: string, name: string): Promise<Relation | undefined> {
  const [found] = await sql.query<Relation>(`SELECT ${COLUMNS} WHERE lower(n.name) = lower($1) AND lower(r.name) = lower($2)`, [namespace, name]);
  return found;
}

export async function getRelation(sql: Sql, namespace: string, name: string): Promise<Relation> {
  const found = await findRelation(sql, namespace, name);
  if (found) return found;
  const all = await listRelations(sql);
  const near = all.filter((each) => each.name.toLowerCase() === name.toLowerCase() || each.namespace.toLowerCase() === namespace.toLowerCase()).map((each) => `${each.namespace}.${each.name}`);
  throw new LakeError('not-found', `There is no table ${namespace}.${name} in the catalog.`, near.length > 0 ? { hint: `There is ${near.slice(0, 8).join(', ')}.` } : { hint: 'Crawl a folder to find tables and register them.' });
}

/** Every relation of that name, in whatever namespace. */
export async function findByBareName(sql: Sql, name: string): Promise<Relation[]> {
  return sql.query(`SELECT ${COLUMNS} WHERE lower(r.name) = lower($1)`, [name]);
}

export async function findByLocation(sql: Sql, storageId: number, location: string): Promise<Relation | undefined> {
  const [found] = await sql.query<Relation>(`SELECT ${COLUMNS} WHERE r.storage_id = $1 AND r.location = $2`, [storageId, location]);
  return found;
}

export async function ensureNamespace(sql: Sql, name: string, who: string, description = ''): Promise<number> {
  const [found] = await sql.query<{ id: number }>('SELECT id FROM namespace WHERE lower(name) = lower($1)', [name]);
  if (found) return found.id;
  const [made] = await sql.query<{ id: number }>('INSERT INTO namespace (name, description) VALUES ($1, $2) RETURNING id', [name, description]);
  await recordRevision(sql, who, 'create namespace', name);
  return made!.id;
}

export interface NewRelation {
  namespace: string;
  name: string;
  kind: 'table' | 'view';
  format?: TableFormat;
  storageId?: number;
  location?: string;
  managed?: boolean;
  definition: RelationDefinition;
  description?: string;
}

export async function createRelation(database: Database, relation: NewRelation, who: string): Promise<number> {
  return database.transaction(async (sql) => {
    const namespaceId = await ensureNamespace(sql, relation.namespace, who);
    const fullName = `${relation.namespace}.${relation.name}`;
    try {
      const [made] = await sql.query<{ id: number }>(
        `INSERT INTO relation (namespace_id, name, kind, format, storage_id, location, managed, definition, description)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) RETURNING id`,
        [namespaceId, relation.name, relation.kind, relation.format ?? null, relation.storageId ?? null, relation.location ?? null, relation.managed ?? false, JSON.stringify(relation.definition), relation.description ?? ''],
      );
      await recordRevision(sql, who, `register ${relation.kind}`, fullName, { format: relation.format, location: relation.location });
      return made!.id;
    } catch (error) {
      if (error instanceof DatabaseError && error.code === UNIQUE_VIOLATION) throw new LakeError('conflict', `${fullName} exists in the catalog already. Choose another name.`, { table: fullName });
      throw error;
    }
  });
}

export async function redefineRelation(database: Database, relation: Relation, definition: RelationDefinition, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query('UPDATE relation SET definition = $2 WHERE id = $1', [relation.id, JSON.stringify(definition)]);
    await recordRevision(sql, who, 'change columns', `${relation.namespace}.${relation.name}`);
  });
}

export async function describeRelation(database: Database, relation: Relation, description: string, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query('UPDATE relation SET description = $2 WHERE id = $1', [relation.id, description]);
    await recordRevision(sql, who, 'describe', `${relation.namespace}.${relation.name}`, { description });
  });
}

/** Takes the name out of the catalog; files stay where they are. */
export async function dropRelation(database: Database, relation: Relation, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query('DELETE FROM relation WHERE id = $1', [relation.id]);
    await recordRevision(sql, who, `unregister ${relation.kind}`, `${relation.namespace}.${relation.name}`, { location: relation.location });
  });
}

export async function readPointer(sql: Sql, relationId: number): Promise<string | undefined> {
  const [row] = await sql.query<{ pointer: string | null }>('SELECT pointer FROM relation WHERE id = $1', [relationId]);
  return row?.pointer ?? undefined;
}

/** The compare-and-swap on which every Iceberg commit rests. */
export async function swapPointer(sql: Sql, relationId: number, expected: string | undefined, next: string): Promise<boolean> {
  const rows = await sql.query('UPDATE relation SET pointer = $3 WHERE id = $1 AND pointer IS NOT DISTINCT FROM $2 RETURNING id', [relationId, expected ?? null, next]);
  return rows.length === 1;
}
