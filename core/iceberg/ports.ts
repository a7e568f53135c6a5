/** What reading an Iceberg table needs beyond bytes; the server has faster ways than the ones here. */
import { LakeError } from '../errors';
import { readParquetRows } from '../parquet/read';
import type { DataFile, FileFormat } from '../scan/plan';
import type { Field } from '../schema/types';
import type { ObjectStore } from '../storage/object-store';
import type { RowPositions } from '../values/row-positions';
import { decodeEntries, type EntryColumns } from './entry-columns';

/** A column of a Parquet file, with what is inside it. */
export interface FileColumn {
  name: string;
  id?: number;
  children: FileColumn[];
}

/** A file of the table that holds rows. */
export interface RowsFile {
  /** Path in the store. */
  path: string;
  bytes: number;
  /** Parquet where absent. */
  format?: FileFormat;
}

export interface EqualityDelete extends RowsFile {
  rows: number;
  /** Columns by which rows are matched. */
  ids: number[];
}

export interface EqualityRequest {
  /** Data files that the same deletes apply to. */
  files: readonly DataFile[];
  deletes: readonly EqualityDelete[];
  /** Columns that the deletes name, as the data files have them. */
  fields: readonly Field[];
}

export interface IcebergReaders {
  /** A manifest by its path in the store; it never changes. */
  manifest(path: string, bytes: number): Promise<EntryColumns>;
  /** Rows that position delete files list: by the data file's path exactly as it is written in them, ascending. */
  positions(deletes: readonly RowsFile[]): Promise<Map<string, RowPositions>>;
  /** For each data file the rows that an equality delete matches, ascending. */
  matches(request: EqualityRequest): Promise<RowPositions[]>;
  /** The columns of each data file. */
  columns(files: readonly RowsFile[]): Promise<FileColumn[][]>;
}

/** Reads with the core's own means; equality deletes and columns by name need an engine. */
export function plainReaders(store: ObjectStore): IcebergReaders {
  const needsEngine = (what: string): never => {
    throw new LakeError('unsupported', `${what} need the engine, which is not there.`);
  };
  return {
    manifest: async (path) => decodeEntries(await store.read(path), path),
    positions: async (deletes) => {
      const rows = (await Promise.all(deletes.map(({ path }) => readParquetRows(store, path)))).flat();
      const lists = new Map<string, number[]>();
      for (const row of rows) {
        const list = lists.get(String(row.file_path)) ?? [];
        list.push(Number(row.pos));
        lists.set(String(row.file_path), list);
      }
      return new Map([...lists].map(([path, list]) => [path, Uint32Array.from(new Set(list)).sort()]));
    },
    matches: async () => needsEngine('Equality deletes'),
    columns: async () => needsEngine('Files whose columns are found by name'),
  };
}
