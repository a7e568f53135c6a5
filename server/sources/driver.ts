/** What the product needs of a connected database; one adapter for each kind that there is. */
import type { Predicate } from '../../core/scan/predicate';
import type { Field } from '../../core/schema/types';

export type ObjectKind = 'table' | 'view' | 'materialized view' | 'foreign table' | 'partitioned table';

/** A table or something that is read like one. */
export interface SourceObject {
  schema: string;
  name: string;
  kind: ObjectKind;
  /** As the database itself estimates them; null where it does not. */
  rows: number | null;
  bytes: number | null;
}

export interface SourceRead {
  schema: string;
  name: string;
  /** The columns that are wanted. */
  fields: readonly Field[];
  /** What the rows must at least fulfil; what the database cannot be asked is left to whoever reads the rows. */
  predicate: Predicate;
  /** At most so many rows, any of them. */
  limit?: number;
}

export interface SourceWrite {
  schema: string;
  name: string;
  /** Of the rows, as the database's table has them or is to have them. */
  fields: readonly Field[];
  /** Rows as texts of JSON objects, as `rowsForDatabase` selects them. */
  rows: AsyncIterable<string>;
  existing: 'refuse' | 'add' | 'clear';
  onRows?: (rows: number) => void;
  signal?: AbortSignal;
}

export interface SourceWritten {
  rowsBefore: number;
  rowsAfter: number;
  isMade: boolean;
}

export interface SourceDriver {
  /** The same for another database of the server. */
  inDatabase(database: string): SourceDriver;
  /** Every object that may be read, by schema and name. Fails with `refused` or `limit` when the database cannot be reached. */
  objects(): Promise<SourceObject[]>;
  /** Columns of all objects, keyed by `schema/name`. */
  columns(): Promise<Map<string, Field[]>>;
  /** The statement that a reading would send, for people to see. */
  statementOf(read: SourceRead): string;
  /** Rows of an object, counted by the database. */
  count(place: { schema: string; name: string }): Promise<number>;
  /** Puts rows into a table, all or none; one that is not there is made. Fails with `conflict` where it holds rows and `refuse` is said. */
  write(write: SourceWrite): Promise<SourceWritten>;
  /** Rows as JSON values that the engine casts to the fields' types, a batch at a time. */
  rows(read: SourceRead): AsyncIterable<Record<string, unknown>[]>;
}
