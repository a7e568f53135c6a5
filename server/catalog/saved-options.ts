/** Read options saved under a name, and the tables that follow them. */
import { LakeError } from '../../core/errors';
import type { ReadOptions } from '../../core/folder/read-options';
import { checkOptions } from '../lake/read-options-schema';
import { DatabaseError, UNIQUE_VIOLATION, type Database, type Sql } from './database';
import type { RelationDefinition } from './relations';
import { recordRevision } from './revisions';

export interface SavedOptions {
  id: number;
  name: string;
  options: ReadOptions;
  who: string;
  at: string;
  /** Full names of the tables that follow. */
  tables: string[];
}

const FOLLOWERS = `SELECT n.name || '.' || r.name FROM relation r JOIN namespace n ON n.id = r.namespace_id WHERE lower(r.definition->'folder'->>'readWith') = lower(o.name)`;

export async function listSavedOptions(sql: Sql): Promise<SavedOptions[]> {
  return sql.query(`SELECT o.id, o.name, o.options, o.who, o.at, ARRAY(${FOLLOWERS} ORDER BY 1) AS tables FROM read_option o ORDER BY lower(o.name)`);
}

export async function getSavedOptions(sql: Sql, name: string): Promise<SavedOptions> {
  const all = await listSavedOptions(sql);
  const found = all.find((each) => each.name.toLowerCase() === name.toLowerCase());
  if (!found) throw new LakeError('not-found', `There are no saved read options "${name}".`, all.length > 0 ? { hint: `Saved: ${all.map((each) => each.name).join(', ')}.` } : {});
  return found;
}

/** What a request body says of reading: options, or the name of saved ones; undefined for neither. */
export async function givenOptions(sql: Sql, body: Record<string, unknown>): Promise<ReadOptions | undefined> {
  if (body.readWith) return (await getSavedOptions(sql, body.readWith as string)).options;
  return body.options ? checkOptions(body.options as Record<string, unknown>) : undefined;
}

export async function saveOptions(database: Database, name: string, options: ReadOptions, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query('INSERT INTO read_option (name, options, who) VALUES ($1, $2, $3)', [name, JSON.stringify(options), who]).catch((error: unknown) => {
      if (error instanceof DatabaseError && error.code === UNIQUE_VIOLATION) throw new LakeError('conflict', `There are read options named "${name}" already.`);
      throw error;
    });
    await recordRevision(sql, who, 'save read options', name);
  });
}

/** Changes the options and, with them, how every table that follows is read. */
export async function changeOptions(database: Database, saved: SavedOptions, options: ReadOptions, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query('UPDATE read_option SET options = $2, who = $3, at = now() WHERE id = $1', [saved.id, JSON.stringify(options), who]);
    await sql.query(`UPDATE relation SET definition = jsonb_set(definition, '{folder,options}', $2) WHERE lower(definition->'folder'->>'readWith') = lower($1)`, [saved.name, JSON.stringify(options)]);
    await recordRevision(sql, who, 'change read options', saved.name, { tables: saved.tables });
  });
}

/** Tables that followed keep the options as they are. */
export async function forgetOptions(database: Database, saved: SavedOptions, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query(`UPDATE relation SET definition = definition #- '{folder,readWith}' WHERE lower(definition->'folder'->>'readWith') = lower($1)`, [saved.name]);
    await sql.query('DELETE FROM read_option WHERE id = $1', [saved.id]);
    await recordRevision(sql, who, 'forget read options', saved.name, { tables: saved.tables });
  });
}

/** The folder definition of each table that follows, by full name. */
export async function followersOf(sql: Sql, name: string): Promise<{ name: string; storage: string; location: string; definition: RelationDefinition }[]> {
  return sql.query(`SELECT n.name || '.' || r.name AS name, s.name AS storage, r.location, r.definition FROM relation r JOIN namespace n ON n.id = r.namespace_id JOIN storage s ON s.id = r.storage_id
    WHERE lower(r.definition->'folder'->>'readWith') = lower($1) ORDER BY 1`, [name]);
}
