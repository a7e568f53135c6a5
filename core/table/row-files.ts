import type { TableSchema } from '../schema/types';
import type { Value } from '../values/value';
import type { WrittenFile } from './written-file';

/** The port that writes rows to Parquet files. */
export interface RowFiles {
  /** Writes the rows of a trusted query to one file, in the query's order, and tells what it wrote. */
  write(request: RowFileRequest): Promise<WrittenFile>;
}

export interface RowFileRequest {
  sql: string;
  /** Path in the store. */
  path: string;
  /** Columns of the file, in order; field ids are written where fields have them. */
  schema: TableSchema;
  partition?: Record<string, Value | null>;
  /** Entries for the file's key-value metadata. */
  keyValues?: Record<string, string>;
}
