import type { Sql } from './database';

export interface Revision {
  number: number;
  at: string;
  who: string;
  action: string;
  subject: string;
  details: Record<string, unknown>;
}

/** Notes a change of the catalog; called in the transaction that makes the change. */
export async function recordRevision(sql: Sql, who: string, action: string, subject: string, details: Record<string, unknown> = {}): Promise<void> {
  await sql.query('INSERT INTO revision (who, action, subject, details) VALUES ($1, $2, $3, $4)', [who, action, subject, JSON.stringify(details)]);
}

/** Newest first. */
export async function listRevisions(sql: Sql, limit: number): Promise<Revision[]> {
  return sql.query<Revision>('SELECT number, at, who, action, subject, details FROM revision ORDER BY number DESC LIMIT $1', [limit]);
}
