/** Queries that somebody gave a name; names are told apart without regard to case. */
import { LakeError } from '../../core/errors';
import type { Sql } from './database';

export interface SavedQuery {
  name: string;
  sql: string;
  who: string;
  changedAt: string;
}

const COLUMNS = 'name, sql, who, changed_at AS "changedAt"';

export async function listSavedQueries(sql: Sql): Promise<SavedQuery[]> {
  return sql.query<SavedQuery>(`SELECT ${COLUMNS} FROM saved_query ORDER BY lower(name)`);
}

/** One of the name gets another text. */
export async function saveQuery(sql: Sql, name: string, text: string, who: string): Promise<SavedQuery> {
  const [saved] = await sql.query<SavedQuery>(
    `INSERT INTO saved_query (name, sql, who) VALUES ($1, $2, $3) ON CONFLICT (lower(name)) DO UPDATE SET name = EXCLUDED.name, sql = EXCLUDED.sql, who = EXCLUDED.who, changed_at = now() RETURNING ${COLUMNS}`,
    [name, text, who],
  );
  return saved!;
}

export async function deleteSavedQuery(sql: Sql, name: string): Promise<void> {
  const gone = await sql.query('DELETE FROM saved_query WHERE lower(name) = lower($1) RETURNING id', [name]);
  if (gone.length === 0) throw new LakeError('not-found', `There is no saved query "${name}".`);
}
