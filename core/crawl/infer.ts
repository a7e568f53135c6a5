/** From what each file says of itself to one table: columns, clashes, and types of the path's columns. */
import { sameType, type Field, type LogicalType } from '../schema/types';
import { typeName } from '../schema/type-names';
import { widen } from '../schema/widen';
import { parseDate, parseTimestamp } from '../values/text';

export interface FileFacts {
  path: string;
  rows?: number;
  /** `inFile`: its name in the file, where another column has that already, but for case. */
  columns: { name: string; type: LogicalType; required?: boolean; inFile?: string }[];
}

export interface Clash {
  column: string;
  /** Type name to the number of files that have it, and one of them. */
  types: { type: string; files: number; example: string }[];
}

export interface Inference {
  fields: Field[];
  clashes: Clash[];
  /** Columns that some of the looked-at files lack, with the first file (in path order) that has them. */
  partial: { column: string; presentIn: number; of: number; firstIn: string }[];
}

interface Seen {
  name: string;
  inFile: string | undefined;
  type: LogicalType;
  clashes: boolean;
  files: { path: string; type: LogicalType }[];
}

/** Merges files' columns by name, widening types where that loses nothing. */
export function inferColumns(facts: readonly FileFacts[]): Inference {
  const columns = new Map<string, Seen>();
  const ordered = [...facts].sort((a, b) => (a.path < b.path ? -1 : 1));
  for (const file of ordered) {
    for (const column of file.columns) {
      const key = column.name.toLowerCase();
      const seen = columns.get(key);
      if (!seen) columns.set(key, { name: column.name, inFile: column.inFile, type: column.type, clashes: false, files: [{ path: file.path, type: column.type }] });
      else {
        const type = sameType(seen.type, column.type) ? seen.type : widen(seen.type, column.type);
        seen.clashes ||= type === undefined;
        // What fits nothing else is read as text, and said so.
        seen.type = type ?? { kind: 'string' };
        seen.files.push({ path: file.path, type: column.type });
      }
    }
  }
  const all = [...columns.values()];
  return {
    fields: all.map(({ name, inFile, type }) => ({ name, type, required: false, ...(inFile === undefined ? {} : { physical: inFile }) })),
    clashes: all.filter((each) => each.clashes).map((each) => ({ column: each.name, types: countTypes(each.files) })),
    partial: all.filter((each) => each.files.length < ordered.length).map((each) => ({ column: each.name, presentIn: each.files.length, of: ordered.length, firstIn: each.files[0]!.path })),
  };
}

function countTypes(files: Seen['files']): Clash['types'] {
  const counts = new Map<string, { type: string; files: number; example: string }>();
  for (const file of files) {
    const type = typeName(file.type);
    const known = counts.get(type) ?? { type, files: 0, example: file.path };
    known.files++;
    counts.set(type, known);
  }
  return [...counts.values()].sort((a, b) => b.files - a.files);
}

/** The narrowest of integer, bigint, date, timestamp and text that reads all of a path step's values. */
export function inferPartitionType(texts: readonly (string | null)[]): LogicalType {
  const present = texts.filter((text): text is string => text !== null);
  if (present.length === 0) return { kind: 'string' };
  // A leading zero is kept only in numbers of a fixed width, like months; elsewhere it marks a code.
  if (present.every((text) => /^-?\d{1,9}$/.test(text)) && (present.every((text) => !/^-?0\d/.test(text)) || present.every((text) => text.length === 2))) return { kind: 'int' };
  if (present.every((text) => /^-?[1-9]\d{0,17}$/.test(text))) return { kind: 'long' };
  if (present.every((text) => parseDate(text) !== undefined)) return { kind: 'date' };
  if (present.every((text) => parseTimestamp(text) !== undefined)) return { kind: 'timestamp' };
  return { kind: 'string' };
}
