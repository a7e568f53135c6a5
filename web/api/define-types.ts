/** What the API answers about defining, loading and scripts. */
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

/** Real files of some rows, in a folder that nothing else knows of. */
export interface TrialOutcome {
  storage: string;
  folder: string;
  rows: number | null;
  bytes: number;
  files: { path: string; rows: number | null; bytes: number }[];
}

/** What came of a write of files, beside what was foreseen. */
export interface WriteOutcome {
  to: string;
  done: string;
  files: { path: string; rows: number; bytes: number }[];
  fileCount: number;
  rows: number;
  bytes: number;
  cleared: { files: number; bytes: number; millis: number } | null;
  millis: { order: number; write: number; put: number };
  foreseen: { rows: number; files: number; bytes: number; millis: number } | null;
  /** Of a table of a database, which has no files. */
  table?: { rowsAtSource: number; rowsBefore: number; rowsAfter: number; difference: number; isMade: boolean };
}
