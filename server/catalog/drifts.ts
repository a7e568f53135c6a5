/** Every change of columns or types that crawls saw in registered tables, with when, in which files, and what was done. */
import type { Drift } from '../../core/crawl/drift';
import type { Sql } from './database';

export interface DriftEntry {
  id: number;
  table: string;
  runId: number;
  at: string;
  kind: string;
  column: string;
  before: string | null;
  after: string | null;
  files: string[];
  done: 'open' | 'taken over' | 'left as it was';
  doneBy: string | null;
  doneAt: string | null;
}

/** The same change of a table that is still open is not told twice. */
export async function recordDrift(sql: Sql, relation: { id: number; name: string }, runId: number, drifts: readonly (Drift & { files: readonly string[] })[]): Promise<void> {
  for (const each of drifts) {
    await sql.query(
      `INSERT INTO drift (relation_id, table_name, run_id, kind, column_name, before, after, files)
       SELECT $1, $2, $3, $4, $5, $6, $7, $8 WHERE NOT EXISTS (
         SELECT 1 FROM drift WHERE relation_id = $1 AND kind = $4 AND column_name = $5 AND before IS NOT DISTINCT FROM $6 AND after IS NOT DISTINCT FROM $7 AND done = 'open')`,
      [relation.id, relation.name, runId, each.kind, each.column, each.before, each.after, JSON.stringify(each.files)],
    );
  }
}

export async function closeDrift(sql: Sql, relationId: number, done: 'taken over' | 'left as it was', who: string): Promise<void> {
  await sql.query("UPDATE drift SET done = $2, done_by = $3, done_at = now() WHERE relation_id = $1 AND done = 'open'", [relationId, done, who]);
}

/** Newest first; of one table by its full name, or of all. */
export async function listDrift(sql: Sql, table: string | undefined, limit: number): Promise<DriftEntry[]> {
  return sql.query(`SELECT id, table_name AS "table", run_id AS "runId", at, kind, column_name AS "column", before, after, files, done, done_by AS "doneBy", done_at AS "doneAt" FROM drift
    WHERE $1::text IS NULL OR lower(table_name) = lower($1) ORDER BY at DESC, id DESC LIMIT $2`, [table ?? null, limit]);
}
