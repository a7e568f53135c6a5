/** Managed tables that wait in the trash. */
import { LakeError } from '../../core/errors';
import { DatabaseError, UNIQUE_VIOLATION, type Database, type Sql } from './database';
import { nameOf, type Relation } from './relations';
import { recordRevision } from './revisions';

export interface Dropped {
  id: number;
  namespace: string;
  name: string;
  storage: string;
  location: string;
  /** The folder in which the files wait. */
  trash: string;
  format: string | null;
  files: number;
  bytes: number;
  who: string;
  droppedAt: string;
  keepUntil: string;
}

const COLUMNS = `d.id, d.namespace, d.name, s.name AS storage, d.location, d.trash, d.relation ->> 'format' AS format, d.files, d.bytes::float8 AS bytes, d.who, d.dropped_at AS "droppedAt", d.keep_until AS "keepUntil"
  FROM dropped d JOIN storage s ON s.id = d.storage_id`;

/** Newest first. */
export async function listDropped(sql: Sql, namespace?: string): Promise<Dropped[]> {
  return sql.query<Dropped>(`SELECT ${COLUMNS} WHERE $1::text IS NULL OR lower(d.namespace) = lower($1) ORDER BY d.dropped_at DESC, d.id DESC`, [namespace ?? null]);
}

export async function listOverdue(sql: Sql): Promise<Dropped[]> {
  return sql.query<Dropped>(`SELECT ${COLUMNS} WHERE d.keep_until < now()`);
}

/** The table leaves the catalog and is remembered. */
export async function moveToDropped(database: Database, relation: Relation, place: { trash: string; files: number; bytes: number; keepUntil: Date }, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query(
      `INSERT INTO dropped (namespace, name, storage_id, location, trash, relation, files, bytes, who, keep_until)
       SELECT $2, $3, r.storage_id, r.location, $4, to_jsonb(r), $5, $6, $7, $8 FROM relation r WHERE r.id = $1`,
      [relation.id, relation.namespace, relation.name, place.trash, place.files, place.bytes, who, place.keepUntil.toISOString()],
    );
    await sql.query('DELETE FROM relation WHERE id = $1', [relation.id]);
    await recordRevision(sql, who, 'drop table', nameOf(relation), { location: relation.location, trash: place.trash });
  });
}

/** The table is in the catalog again, with all that was known of it. Fails with `conflict` where its name is taken, `not-found` where its namespace is gone. */
export async function takeBack(database: Database, dropped: Dropped, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    const restored = await sql.query(
      `INSERT INTO relation (namespace_id, name, kind, format, storage_id, location, managed, definition, description, owner, tags, properties, vouched, columns, notes, pointer)
       SELECT n.id, $2, r.kind, r.format, r.storage_id, r.location, r.managed, r.definition, r.description, r.owner, r.tags, r.properties, r.vouched, r.columns, r.notes, r.pointer
       FROM dropped d CROSS JOIN LATERAL jsonb_populate_record(NULL::relation, d.relation) AS r JOIN namespace n ON lower(n.name) = lower(d.namespace) WHERE d.id = $1 RETURNING id`,
      [dropped.id, dropped.name],
    ).catch((error: unknown) => {
      if (error instanceof DatabaseError && error.code === UNIQUE_VIOLATION) throw new LakeError('conflict', `${nameOf(dropped)} exists in the catalog already, so the dropped one cannot come back. Rename the other first.`, { table: nameOf(dropped) });
      throw error;
    });
    if (restored.length === 0) throw new LakeError('not-found', `The namespace ${dropped.namespace} is gone, so ${nameOf(dropped)} cannot come back. Make the namespace first.`);
    await sql.query('DELETE FROM dropped WHERE id = $1', [dropped.id]);
    await recordRevision(sql, who, 'undrop table', nameOf(dropped), { location: dropped.location });
  });
}

export async function forgetDropped(sql: Sql, id: number): Promise<void> {
  await sql.query('DELETE FROM dropped WHERE id = $1', [id]);
}
