/** Namespaces, tables and views by name. Names match without regard to case and are kept as written. */
import { LakeError } from '../../core/errors';
import type { TiedFolder } from '../../core/crawl/definition';
import type { FolderDefinition } from '../../core/folder/table';
import type { Field } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import type { TableFormat } from '../../core/table/contract';
import { DatabaseError, FOREIGN_KEY_VIOLATION, manyRows, UNIQUE_VIOLATION, type Database, type Sql } from './database';
import { recordRevision, recordState } from './revisions';

export interface Namespace {
  id: number;
  name: string;
  description: string;
  owner: string;
  properties: Record<string, string>;
  /** The folder that it belongs to: tables found below are put here. */
  storage: string | null;
  folder: string | null;
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
  owner: string;
  tags: string[];
  properties: Record<string, string>;
  vouched: Vouched | null;
  /** As last seen; null before they were. */
  columns: SeenColumn[] | null;
  notes: Record<string, ColumnNote>;
  createdAt: string;
}

/** Somebody says that a table can be relied on. */
export interface Vouched {
  who: string;
  why: string;
  /** ISO times. */
  since: string;
  until: string;
}

export interface SeenColumn {
  name: string;
  type: string;
  comment?: string;
}

export interface ColumnNote {
  description: string;
  tags: string[];
}

export type RelationDefinition =
  | { kind: 'folder'; folder: FolderDefinition }
  | { kind: 'lake'; pointer: 'catalog' | 'files' }
  | ViewDefinition
  /** A table of a connected database; the columns as they were when it was registered. */
  | { kind: 'source'; place: { schema: string; name: string }; fields: Field[] };

export interface ViewDefinition {
  kind: 'view';
  /** In our own words; of a view that cannot be had in them, the text that was given. */
  sql: string;
  iceberg?: ViewState;
  /** Where names without a namespace are looked for first. */
  defaultNamespace?: string;
  /** What an outside engine calls this catalog in names of three parts. */
  defaultCatalog?: string;
  /** The text is in this dialect, and has something that is not taken over. */
  foreign?: { dialect: string; problem: string };
}

/** A view that an outside engine made: its metadata by the Iceberg view specification, and where it was written. */
export interface ViewState {
  metadata: Record<string, unknown>;
  location: string;
}

const COLUMNS = `
  r.id, n.name AS namespace, r.name, r.kind, r.format, s.name AS storage, r.location, r.managed, r.definition, r.description, r.owner, r.tags, r.properties, r.vouched, r.columns, r.notes, r.created_at AS "createdAt"
  FROM relation r JOIN namespace n ON n.id = r.namespace_id LEFT JOIN storage s ON s.id = r.storage_id`;

export async function listNamespaces(sql: Sql): Promise<(Namespace & { tables: number; views: number })[]> {
  return sql.query(`
    SELECT n.id, n.name, n.description, n.owner, n.properties, s.name AS storage, n.folder,
           count(r.id) FILTER (WHERE r.kind = 'table')::int AS tables, count(r.id) FILTER (WHERE r.kind = 'view')::int AS views
    FROM namespace n LEFT JOIN relation r ON r.namespace_id = n.id LEFT JOIN storage s ON s.id = n.storage_id GROUP BY n.id, s.name ORDER BY lower(n.name)`);
}

/** Fails with `not-found`. */
export async function getNamespace(sql: Sql, name: string): Promise<Namespace> {
  const found = (await listNamespaces(sql)).find((each) => each.name.toLowerCase() === name.toLowerCase());
  if (!found) throw new LakeError('not-found', `There is no namespace "${name}" in the catalog.`);
  return found;
}

export interface NamespaceKnowledge {
  description?: string;
  owner?: string;
  properties?: Record<string, string>;
  /** Null unties it. */
  place?: { storageId: number; folder: string } | null;
}

export async function changeNamespace(database: Database, namespace: Namespace, { description, owner, properties, place }: NamespaceKnowledge, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query(
      `UPDATE namespace SET description = coalesce($2, description), owner = coalesce($3, owner), properties = coalesce($4, properties),
         storage_id = CASE WHEN $5 THEN $6::int ELSE storage_id END, folder = CASE WHEN $5 THEN $7::text ELSE folder END WHERE id = $1`,
      [namespace.id, description ?? null, owner ?? null, properties === undefined ? null : JSON.stringify(properties), place !== undefined, place?.storageId ?? null, place?.folder ?? null],
    );
    await recordRevision(sql, who, 'describe namespace', namespace.name);
  });
}

/** Fails with `conflict` while there is something in it. */
export async function deleteNamespace(database: Database, namespace: Namespace, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query('DELETE FROM namespace WHERE id = $1', [namespace.id]).catch((error: unknown) => {
      if (error instanceof DatabaseError && error.code === FOREIGN_KEY_VIOLATION) throw new LakeError('conflict', `There are tables in ${namespace.name}. Take them out of the catalog first.`);
      throw error;
    });
    await recordRevision(sql, who, 'remove namespace', namespace.name);
  });
}

export async function listTiedFolders(sql: Sql): Promise<TiedFolder[]> {
  return sql.query('SELECT n.name AS namespace, s.name AS storage, n.folder FROM namespace n JOIN storage s ON s.id = n.storage_id WHERE n.folder IS NOT NULL');
}

export async function listRelations(sql: Sql, namespace?: string): Promise<Relation[]> {
  return sql.query(`SELECT ${COLUMNS} WHERE $1::text IS NULL OR lower(n.name) = lower($1) ORDER BY lower(n.name), lower(r.name)`, [namespace ?? null]);
}

/** Those whose columns nobody has seen yet. */
export async function unseenRelations(sql: Sql): Promise<Relation[]> {
  return sql.query(`SELECT ${COLUMNS} WHERE r.columns IS NULL`);
}

/** A relation without what only its own page shows: of a large catalog a tenth. */
export type RelationName = Pick<Relation, 'id' | 'namespace' | 'name' | 'kind' | 'format' | 'storage' | 'location' | 'managed' | 'description' | 'owner' | 'tags' | 'vouched' | 'createdAt'> & { viewSql: string | null };

export async function listRelationNames(sql: Sql, namespace?: string): Promise<RelationName[]> {
  const found = await manyRows<RelationName>(sql,
    `SELECT r.id, n.name AS namespace, r.name, r.kind, r.format, s.name AS storage, r.location, r.managed, r.description, r.owner, r.tags, r.vouched, r.created_at AS "createdAt", CASE WHEN r.kind = 'view' THEN r.definition->>'sql' END AS "viewSql"
     FROM relation r JOIN namespace n ON n.id = r.namespace_id LEFT JOIN storage s ON s.id = r.storage_id WHERE $1::text IS NULL OR lower(n.name) = lower($1) ORDER BY lower(n.name), lower(r.name)`, [namespace ?? null]);
  return found.map((each) => ({ ...each, createdAt: new Date(each.createdAt).toISOString() }));
}

export async function findRelation(sql: Sql, namespace: string, name: string): Promise<Relation | undefined> {
  const [found] = await sql.query<Relation>(`SELECT ${COLUMNS} WHERE lower(n.name) = lower($1) AND lower(r.name) = lower($2)`, [namespace, name]);
  return found;
}

export async function getRelation(sql: Sql, namespace: string, name: string): Promise<Relation> {
  const found = await findRelation(sql, namespace, name);
  if (found) return found;
  const some = await sql.query<Pick<Relation, 'namespace' | 'name'>>('SELECT n.name AS namespace, r.name FROM relation r JOIN namespace n ON n.id = r.namespace_id WHERE lower(r.name) = lower($2) OR lower(n.name) = lower($1) ORDER BY lower(r.name) <> lower($2), lower(n.name), lower(r.name) LIMIT 8', [namespace, name]);
  const near = some.map(nameOf);
  throw new LakeError('not-found', `There is no table ${namespace}.${name} in the catalog.`, near.length > 0 ? { hint: `There is ${near.join(', ')}.` } : { hint: 'Crawl a folder to find tables and register them.' });
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
  /** Of an Iceberg table that the catalog owns: its first metadata file. */
  pointer?: string;
}

export async function createRelation(database: Database, relation: NewRelation, who: string): Promise<number> {
  return database.transaction(async (sql) => {
    const namespaceId = await ensureNamespace(sql, relation.namespace, who);
    const fullName = `${relation.namespace}.${relation.name}`;
    try {
      const [made] = await sql.query<{ id: number }>(
        `INSERT INTO relation (namespace_id, name, kind, format, storage_id, location, managed, definition, description, columns, pointer)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) RETURNING id`,
        [namespaceId, relation.name, relation.kind, relation.format ?? null, relation.storageId ?? null, relation.location ?? null, relation.managed ?? false, JSON.stringify(relation.definition), relation.description ?? '', columnsJson(relation.definition), relation.pointer ?? null],
      );
      const revision = await recordRevision(sql, who, `register ${relation.kind}`, fullName, { format: relation.format, location: relation.location });
      await recordState(sql, revision, fullName, relation.kind, columnsOf(relation.definition));
      return made!.id;
    } catch (error) {
      if (error instanceof DatabaseError && error.code === UNIQUE_VIOLATION) throw new LakeError('conflict', `${fullName} exists in the catalog already. Choose another name.`, { table: fullName });
      throw error;
    }
  });
}

/** Relations in one statement. */
const AT_ONCE = 200;

/**
 * Many tables in one transaction: their ids, in the order of what was given; null for a name that is in the catalog
 * already. Each has a revision of its own.
 */
export async function createRelations(database: Database, relations: readonly NewRelation[], who: string, also: (sql: Sql, made: readonly (number | null)[]) => Promise<void>): Promise<(number | null)[]> {
  return database.transaction(async (sql) => {
    const namespaces = new Map<string, number>();
    for (const { namespace } of relations) if (!namespaces.has(namespace.toLowerCase())) namespaces.set(namespace.toLowerCase(), await ensureNamespace(sql, namespace, who));
    const ids: (number | null)[] = [];
    for (let start = 0; start < relations.length; start += AT_ONCE) {
      const some = relations.slice(start, start + AT_ONCE).map((relation) => ({ ...relation, namespaceId: namespaces.get(relation.namespace.toLowerCase())!, columns: columnsOf(relation.definition) ?? null }));
      const made = await sql.query<{ id: number; namespaceId: number; name: string }>(
        `INSERT INTO relation (namespace_id, name, kind, format, storage_id, location, definition, description, columns)
         SELECT x."namespaceId", x.name, x.kind, x.format, x."storageId", x.location, x.definition, '', x.columns FROM jsonb_to_recordset($1) AS x("namespaceId" int, name text, kind text, format text, "storageId" int, location text, definition jsonb, columns jsonb)
         ON CONFLICT DO NOTHING RETURNING id, namespace_id AS "namespaceId", name`,
        [JSON.stringify(some)],
      );
      const found = new Map(made.map((each) => [`${each.namespaceId} ${each.name}`, each.id]));
      // Two of one name in the same lot: the first has it.
      const own = some.map((each) => {
        const key = `${each.namespaceId} ${each.name}`;
        const id = found.get(key) ?? null;
        found.delete(key);
        return id;
      });
      ids.push(...own);
      await recordArrivals(sql, some.filter((_, index) => own[index] !== null).map((each) => ({ ...each, name: `${each.namespace}.${each.name}` })), who);
    }
    await also(sql, ids);
    return ids;
  });
}

async function recordArrivals(sql: Sql, arrivals: readonly (Pick<NewRelation, 'name' | 'kind' | 'format' | 'location'> & { columns: SeenColumn[] | null })[], who: string): Promise<void> {
  if (arrivals.length === 0) return;
  await sql.query(
    `WITH x AS (SELECT * FROM jsonb_to_recordset($1) AS x(name text, kind text, format text, location text, columns jsonb)),
       made AS (INSERT INTO revision (who, action, subject, details) SELECT $2, 'register ' || x.kind, x.name, jsonb_strip_nulls(jsonb_build_object('format', x.format, 'location', x.location)) FROM x RETURNING number, subject)
     INSERT INTO relation_state (revision, name, kind, columns) SELECT made.number, x.name, x.kind, coalesce(x.columns, '[]') FROM x JOIN made ON made.subject = x.name`,
    [JSON.stringify(arrivals), who],
  );
  sql.noteChange?.();
}

export async function redefineRelation(database: Database, relation: Relation, definition: RelationDefinition, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query('UPDATE relation SET definition = $2, columns = coalesce($3, columns), changed_at = now() WHERE id = $1', [relation.id, JSON.stringify(definition), columnsJson(definition)]);
    const revision = await recordRevision(sql, who, 'change columns', nameOf(relation));
    await recordState(sql, revision, nameOf(relation), relation.kind, columnsOf(definition) ?? relation.columns);
  });
}

/** The name means a table of another format from now on, in the same folder; fails with `conflict` where the pointer is no longer `from`. */
export async function changeFormat(database: Database, relation: Relation, from: string | undefined, to: { format: TableFormat; definition: RelationDefinition; pointer?: string | undefined }, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    const changed = await sql.query(
      'UPDATE relation SET format = $2, definition = $3, pointer = $4, changed_at = now() WHERE id = $1 AND format = $5 AND pointer IS NOT DISTINCT FROM $6 RETURNING id',
      [relation.id, to.format, JSON.stringify(to.definition), to.pointer ?? null, relation.format ?? null, from ?? null],
    );
    if (changed.length === 0) throw new LakeError('conflict', `${nameOf(relation)} was changed while it was made a table of another format.`, { table: nameOf(relation), hint: 'Look at it again and repeat.' });
    await recordRevision(sql, who, 'change format', nameOf(relation), { from: relation.format, to: to.format });
  });
}

export interface Knowledge {
  description?: string;
  owner?: string;
  tags?: string[];
  properties?: Record<string, string>;
  /** Null takes it back. */
  vouched?: Vouched | null;
  /** By column name; null forgets one. */
  notes?: Record<string, ColumnNote | null>;
}

/** What is not given stays. */
export async function annotateRelation(database: Database, relation: Relation, knowledge: Knowledge, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    const { description, owner, tags, properties, vouched, notes } = knowledge;
    await sql.query(
      `UPDATE relation SET description = coalesce($2, description), owner = coalesce($3, owner), tags = coalesce($4, tags), properties = coalesce($5, properties),
         vouched = CASE WHEN $6 THEN $7::jsonb ELSE vouched END, notes = jsonb_strip_nulls(notes || coalesce($8::jsonb, '{}')), changed_at = now() WHERE id = $1`,
      [relation.id, description ?? null, owner ?? null, tags ?? null, properties === undefined ? null : JSON.stringify(properties), vouched !== undefined, vouched ? JSON.stringify(vouched) : null, notes === undefined ? null : JSON.stringify(notes)],
    );
    const action = vouched ? 'vouch for' : vouched === null && relation.vouched ? 'stop vouching for' : 'describe';
    await recordRevision(sql, who, action, nameOf(relation), { ...knowledge });
  });
}

/** Keeps the columns as they are seen now. Returns whether they differ from before. */
export async function noteColumns(database: Database, relation: Relation, columns: SeenColumn[], who: string): Promise<boolean> {
  if (JSON.stringify(relation.columns) === JSON.stringify(columns)) return false;
  const [stored] = await database.query<{ columns: SeenColumn[] | null }>('SELECT columns FROM relation WHERE id = $1', [relation.id]);
  if (!stored || sameColumns(stored.columns, columns)) return false;
  await database.transaction(async (sql) => {
    await sql.query('UPDATE relation SET columns = $2, changed_at = now() WHERE id = $1', [relation.id, JSON.stringify(columns)]);
    const revision = await recordRevision(sql, who, stored.columns === null ? 'see columns' : 'see other columns', nameOf(relation));
    await recordState(sql, revision, nameOf(relation), relation.kind, columns);
  });
  return true;
}

/** The database keeps the keys of an object in an order of its own. */
function sameColumns(a: readonly SeenColumn[] | null, b: readonly SeenColumn[]): boolean {
  return a !== null && a.length === b.length && a.every((column, index) => column.name === b[index]!.name && column.type === b[index]!.type && column.comment === b[index]!.comment);
}

/** Another name, in this namespace or another, which must be there. Fails with `conflict` where the name is taken. */
export async function renameRelation(database: Database, relation: Relation, to: { namespace: string; name: string }, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    const { id } = await getNamespace(sql, to.namespace);
    await sql.query('UPDATE relation SET namespace_id = $2, name = $3, changed_at = now() WHERE id = $1', [relation.id, id, to.name]).catch((error: unknown) => {
      if (error instanceof DatabaseError && error.code === UNIQUE_VIOLATION) throw new LakeError('conflict', `${nameOf(to)} exists in the catalog already. Choose another name.`, { table: nameOf(to) });
      throw error;
    });
    const revision = await recordRevision(sql, who, `rename ${relation.kind}`, nameOf(relation), { to: nameOf(to) });
    await recordState(sql, revision, nameOf(relation), relation.kind, null);
    await recordState(sql, revision, nameOf(to), relation.kind, relation.columns);
  });
}

/** Takes the name out of the catalog; files stay where they are. */
export async function dropRelation(database: Database, relation: Relation, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query('DELETE FROM relation WHERE id = $1', [relation.id]);
    const revision = await recordRevision(sql, who, `unregister ${relation.kind}`, nameOf(relation), { location: relation.location });
    await recordState(sql, revision, nameOf(relation), relation.kind, null);
  });
}

export function nameOf(relation: Pick<Relation, 'namespace' | 'name'>): string {
  return `${relation.namespace}.${relation.name}`;
}

/** The columns that a definition itself tells; undefined for those that the table or the view's query tells. */
function columnsOf(definition: RelationDefinition): SeenColumn[] | undefined {
  return definition.kind === 'folder' ? seenColumns(definition.folder.fields) : definition.kind === 'source' ? seenColumns(definition.fields) : undefined;
}

function columnsJson(definition: RelationDefinition): string | null {
  const columns = columnsOf(definition);
  return columns ? JSON.stringify(columns) : null;
}

export function seenColumns(fields: readonly Field[]): SeenColumn[] {
  return fields.map((field) => ({ name: field.name, type: typeName(field.type), ...(field.comment ? { comment: field.comment } : {}) }));
}

export async function readPointer(sql: Sql, relationId: number): Promise<string | undefined> {
  const [row] = await sql.query<{ pointer: string | null }>('SELECT pointer FROM relation WHERE id = $1', [relationId]);
  return row?.pointer ?? undefined;
}

/** Several at once: all of them, or none where one is no longer as expected. */
export async function swapPointers(database: Database, swaps: readonly { relationId: number; expected: string; next: string }[]): Promise<boolean> {
  try {
    await database.transaction(async (sql) => {
      for (const { relationId, expected, next } of swaps) if (!(await swapPointer(sql, relationId, expected, next))) throw new PointerMoved();
    });
    return true;
  } catch (error) {
    if (error instanceof PointerMoved) return false;
    throw error;
  }
}

class PointerMoved extends Error {}

/** The compare-and-swap on which every Iceberg commit rests. */
export async function swapPointer(sql: Sql, relationId: number, expected: string | undefined, next: string): Promise<boolean> {
  const rows = await sql.query('UPDATE relation SET pointer = $3 WHERE id = $1 AND pointer IS NOT DISTINCT FROM $2 RETURNING id', [relationId, expected ?? null, next]);
  return rows.length === 1;
}
