/** What the API answers about defining, loading and scripts. */
import type { WriteOutcome } from '../../core/write/outcome';
import type { QueryResult, ResultColumn } from './types';

export interface LoadPlan {
  columns: { name: string; type: string; required: boolean; from: string | null; fromType: string | null; fit: 'same' | 'fits' | 'narrow' | 'cast' | 'absent'; misfits: number }[];
  extra: { name: string; type: string }[];
  rows: number;
  misfits: { columns: ResultColumn[]; rows: unknown[][] };
  misfitRows: number;
  doubles: number;
  problems: string[];
  loadId: string;
  /** The version in which the same came before. */
  loadedIn: number | null;
  sql: string;
}

export interface LoadOutcome {
  version: number | null;
  receiptId: string | null;
  rowsAtSource: number;
  rowsLeftOut: number;
  rowsInserted: number;
  rowsUpdated: number;
  rowsDeleted: number;
  rowsBefore: number | null;
  rowsAfter: number | null;
  difference: number | null;
  columnsAdded: string[];
  loadedIn: number | null;
}

/** A table of a database after it was copied to the lake. */
export interface LandedTable {
  table: string;
  path: string;
  rowsAtSource: number | null;
  rowsInLake: number | null;
  difference: number | null;
  bytes: number;
  millis: number;
  isNew: boolean;
  newColumns: string[];
  problem: string | null;
}

/** A managed table whose files wait in the trash. */
export interface DroppedTable {
  id: number;
  namespace: string;
  name: string;
  format: string | null;
  files: number;
  bytes: number;
  who: string;
  droppedAt: string;
  keepUntil: string;
}

export interface ScriptOutcome {
  steps: { sql: string; start: number; result?: QueryResult; problem?: { kind: string; message: string; hint?: string; position: number } }[];
  /** Statements that were not run, after one that failed. */
  left: number;
}

/** The result of a write as a job, which holds the first of many files. */
export type WriteJobResult = WriteOutcome & { done: string; fileCount: number };

/** A query that somebody gave a name. */
export interface SavedQuery {
  name: string;
  sql: string;
  who: string;
  changedAt: string;
}
