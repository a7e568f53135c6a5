import type { ScanCounts } from '../../core/scan/plan';
import type { Sql } from './database';

export interface ReceiptTable {
  /** As the catalog knows it, or `storage:path` for files read without a table. */
  name: string;
  format: string;
  version: number;
  snapshotId?: string;
  /** Milliseconds since the epoch at which that version was committed. */
  committedAt: number;
  /** Whether a newer version existed when it was read. */
  past: boolean;
  files: ScanCounts;
  bytes: { total: number; read: number };
  /** Why every file was read, where no plan of the query could be had. */
  unplanned?: string;
  /** What a connected database was asked. */
  asked?: string;
}

export interface Receipt {
  id: string;
  at: string;
  who: string;
  kind: 'query' | 'write';
  outcome: 'done' | 'failed' | 'cancelled';
  sql: string;
  tables: ReceiptTable[];
  written: Record<string, unknown> | null;
  rowCount: number | null;
  planMs: number | null;
  engineMs: number | null;
  totalMs: number | null;
  problem: string | null;
}

const COLUMNS = `id, at, who, kind, outcome, sql, tables, written, row_count::float8 AS "rowCount", plan_ms AS "planMs", engine_ms AS "engineMs", total_ms AS "totalMs", problem`;

/** Together in one statement: a row by itself costs the catalog as much as many. */
export async function storeReceipts(sql: Sql, receipts: readonly Receipt[]): Promise<void> {
  const rows = receipts.map(({ rowCount, planMs, engineMs, totalMs, ...rest }) => ({ ...rest, row_count: rowCount, plan_ms: planMs, engine_ms: engineMs, total_ms: totalMs }));
  await sql.query(
    `INSERT INTO receipt (id, at, who, kind, outcome, sql, tables, written, row_count, plan_ms, engine_ms, total_ms, problem)
     SELECT id, at, who, kind, outcome, sql, tables, nullif(written, 'null'::jsonb), row_count, plan_ms, engine_ms, total_ms, problem
     FROM jsonb_to_recordset($1::jsonb) AS r(id uuid, at timestamptz, who text, kind text, outcome text, sql text, tables jsonb, written jsonb, row_count bigint, plan_ms float8, engine_ms float8, total_ms float8, problem text)`,
    [JSON.stringify(rows)],
  );
}

/** Newest first; `kind` narrows to queries or writes. */
export async function listReceipts(sql: Sql, limit: number, kind?: 'query' | 'write'): Promise<Receipt[]> {
  return sql.query<Receipt>(`SELECT ${COLUMNS} FROM receipt WHERE $2::text IS NULL OR kind = $2 ORDER BY at DESC LIMIT $1`, [limit, kind ?? null]);
}

export async function findReceipt(sql: Sql, id: string): Promise<Receipt | undefined> {
  const [found] = await sql.query<Receipt>(`SELECT ${COLUMNS} FROM receipt WHERE id = $1`, [id]);
  return found;
}
