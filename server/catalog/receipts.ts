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

export async function storeReceipt(sql: Sql, receipt: Receipt): Promise<void> {
  await sql.query(
    `INSERT INTO receipt (id, at, who, kind, outcome, sql, tables, written, row_count, plan_ms, engine_ms, total_ms, problem)
     VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)`,
    [receipt.id, receipt.at, receipt.who, receipt.kind, receipt.outcome, receipt.sql, JSON.stringify(receipt.tables), receipt.written && JSON.stringify(receipt.written),
      receipt.rowCount, receipt.planMs, receipt.engineMs, receipt.totalMs, receipt.problem],
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
