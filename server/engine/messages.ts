/** What the API process and an engine process say to each other. Both sides are ours; nothing else may connect. */
import type { JsonLayout } from '../../core/json/json-layout';
import type { logLayout } from '../../core/text/log-lines';
import type { ColumnGuess } from '../../core/text/column-forms';
import type { Delimited, DelimitedInput } from '../../core/text/delimited';
import type { ContainerRequest, Unpacked } from './containers';
import type { Field } from '../../core/schema/types';
import type { Compression, ReadOptions } from '../../core/folder/read-options';

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

/** What a sealed instance may open, by absolute path; folders with everything below them. */
export interface Allow {
  files?: string[];
  folders?: string[];
}

export interface QueryRequest {
  /** Chosen by the caller, for cancelling. */
  id: string;
  /** Trusted statements that make the relations the query reads. */
  setup: string[];
  /** The user's query, with references put in place. Runs sealed. */
  sql: string;
  /** What the sealed instance may open: exact files, or whole folders. */
  allow: Allow;
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

/** One step of a statement that makes new rows; `setup` runs before. Both run sealed. */
export interface ChangeStep {
  id: string;
  setup: string[];
  sql: string;
}

export interface RunReply {
  columns: string[];
  /** As JSON values. */
  rows: unknown[][];
}

export interface Calls {
  /** The engine's JSON syntax tree of the text. */
  parse: { ask: { sql: string }; answer: unknown };
  /** The plan of a query over stand-in tables, optimized where it is not said otherwise. */
  plan: { ask: { sql: string; tables: PlanTable[]; optimize?: boolean }; answer: unknown };
  query: { ask: QueryRequest; answer: QueryReply };
  cancel: { ask: { id: string }; answer: boolean };
  /** Trusted SQL in the process's own instance; rows as JSON values. */
  run: { ask: { sql: string }; answer: RunReply };
  /** A sealed instance for the steps of the statement `sql` that makes new rows; it may lay rows that its memory does not hold in `spill`. */
  beginChange: { ask: { id: string; sql: string; allow: Allow; millis: number; spill: string }; answer: boolean };
  changeStep: { ask: ChangeStep; answer: RunReply };
  /** Rows that the step at hand has gone through; null when nothing of the name runs. */
  progress: { ask: { id: string }; answer: { rows: number; of: number } | null };
  endChange: { ask: { id: string }; answer: boolean };
  /** A copy of a file that the engine cannot read itself; `name` is what errors call it. */
  convert: { ask: { options: ReadOptions; source: string; target: string; name: string; mostBytes: number }; answer: boolean };
  /** A copy of a packed file, unpacked. Fails with `limit` where it is of more than `mostBytes`. */
  unpack: { ask: { source: string; target: string; compression: Compression; name: string; mostBytes: number }; answer: boolean };
  /** What is in an archive, a spreadsheet or a database file, each member as a file. */
  container: { ask: ContainerRequest; answer: Unpacked };
  /** The columns of an Arrow file. */
  arrowFields: { ask: { source: string }; answer: Field[] };
  /** The records at the beginning of an XML file; the element that is most likely a row where none is named. */
  xmlRecords: { ask: { head: string; record?: string }; answer: { record: string | undefined; objects: Record<string, unknown>[] } };
  /** How a delimited text is laid out and what its columns are; undefined where it is none. */
  delimited: { ask: DelimitedInput; answer: Delimited | undefined };
  /** Where in a text of JSON or YAML its rows are. */
  jsonLayout: { ask: { text: string; isCut: boolean; isLines: boolean; syntax: 'json' | 'yaml' }; answer: JsonLayout };
  /** The form of log that lines are of. */
  logLayout: { ask: { lines: string[] }; answer: ReturnType<typeof logLayout> };
  /** The types of columns by their texts. */
  guess: { ask: { name: string; texts: (string | null)[] }[]; answer: ColumnGuess[] };
  /** Rows in a file of JSON lines, as the engine writes it, as an Avro file. Columns by name and type as SQL has it. */
  writeAvro: { ask: AvroRequest; answer: boolean };
}

export interface AvroRequest {
  from: string;
  to: string;
  columns: ResultColumn[];
  codec: 'deflate' | 'null';
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
