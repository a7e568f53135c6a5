/** What came of a write. */

export interface DatabaseOutcome {
  rowsAtSource: number;
  rowsBefore: number;
  rowsAfter: number;
  /** Rows that are in the table beyond those that should be; 0 when all is well. */
  difference: number;
  isMade: boolean;
}

export interface WrittenPath {
  /** Below the folder. */
  path: string;
  rows: number;
  bytes: number;
}

/** Real files, in a folder that nothing else knows of. */
export interface TrialOutcome {
  storage: string;
  folder: string;
  /** Null where the files tell none, as those of a table's log. */
  rows: number | null;
  bytes: number;
  files: { path: string; rows: number | null; bytes: number }[];
}

/** What came of a write, beside what was foreseen of it. */
export interface WriteOutcome {
  /** `storage:folder`. */
  to: string;
  files: WrittenPath[];
  rows: number;
  bytes: number;
  /** Files that stood there before and were removed, as a step of its own. */
  cleared: { files: number; bytes: number; millis: number } | null;
  millis: { order: number; write: number; put: number };
  foreseen: { rows: number; files: number; bytes: number; millis: number } | null;
  /** Of a table of a database, which has no files. */
  table?: DatabaseOutcome;
}
