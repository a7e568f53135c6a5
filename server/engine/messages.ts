/** What the API process and an engine process say to each other. Both sides are ours; nothing else may connect. */

export interface ResultColumn {
  name: string;
  /** SQL type name in lower case, as shown. */
  type: string;
}

export interface QueryLimits {
  rows: number;
  /** Of the result, as JSON text. */
  resultBytes: number;
  millis: number;
}

export interface QueryRequest {
  /** Chosen by the caller, for cancelling. */
  id: string;
  /** Trusted statements that make the relations the query reads. */
  setup: string[];
  /** The user's query, with references put in place. Runs sealed. */
  sql: string;
  /** What the sealed instance may open: exact files, or whole folders. */
  allow: { files: string[] } | { folders: string[] };
  limits: QueryLimits;
  /** Where to keep the rows in pages, when the caller wants to page through them. */
  keepIn?: string;
}

export interface QueryReply {
  columns: ResultColumn[];
  /** The rows, or the first page when they are kept. */
  rows: unknown[][];
  rowCount: number;
  /** There were more rows than the limit let through. */
  truncated: boolean;
  /** Byte offset of each page in the kept file, and its end. */
  pages: number[];
  millis: number;
}

export const PAGE_ROWS = 500;

export interface PlanTable {
  name: string;
  columns: { name: string; type: string }[];
  rows: number;
}

export interface Calls {
  /** The engine's JSON syntax tree of the text. */
  parse: { ask: { sql: string }; answer: unknown };
  /** The optimized plan of a query over stand-in tables. */
  plan: { ask: { sql: string; tables: PlanTable[] }; answer: unknown };
  query: { ask: QueryRequest; answer: QueryReply };
  cancel: { ask: { id: string }; answer: boolean };
  /** Trusted SQL in the process's own instance; rows as JSON values. */
  run: { ask: { sql: string }; answer: { columns: string[]; rows: unknown[][] } };
}

export type CallName = keyof Calls;

export interface Ask {
  id: number;
  call: CallName;
  ask: unknown;
}

/** An engine error as data; `position` is a byte offset in the SQL that was sent. */
export interface EngineFailure {
  kind: string;
  message: string;
  position?: number;
}

export type Answer = { id: number; answer: unknown } | { id: number; failure: EngineFailure };
