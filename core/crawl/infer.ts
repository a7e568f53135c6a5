/** From what each file says of itself to one table: columns, clashes, and types of the path's columns. */
import { sameType, type Field, type LogicalType } from '../schema/types';
import type { ColumnGuess } from '../text/column-forms';
import { mergeForms } from '../text/merge-forms';
import type { ValueForm } from '../text/value-forms';
import { typeName } from '../schema/type-names';
import { widen } from '../schema/widen';
import { parseDate, parseTimestamp } from '../values/text';

export interface FileFacts {
  path: string;
  rows?: number;
  /** `inFile`: its name in the file, where another column has that already, but for case. */
  /** `guess`: on what the type of a column of text rests. */
  columns: { name: string; type: LogicalType; required?: boolean; inFile?: string; guess?: ColumnGuess }[];
}

export interface Clash {
  column: string;
  /** Type name to the number of files that have it, and one of them. */
  types: { type: string; files: number; example: string }[];
}

export interface Inference {
  fields: Field[];
  /** How the texts of columns are written, where it is not the plain way. */
  forms: Record<string, ValueForm>;
  /** On what the type of each column of text rests, one for each file. */
  guesses: Map<string, readonly ColumnGuess[]>;
  clashes: Clash[];
  /** Columns that some of the looked-at files lack, with the first file (in path order) that has them. */
  partial: { column: string; presentIn: number; of: number; firstIn: string }[];
}

interface Seen {
  name: string;
  inFile: string | undefined;
  guesses: ColumnGuess[];
  type: LogicalType;
  /** No file had a value in it yet. */
  saysNothing: boolean;
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
      const saysNothing = column.guess?.values === 0;
      if (!seen) columns.set(key, { name: column.name, inFile: column.inFile, type: column.type, saysNothing, clashes: false, guesses: column.guess ? [column.guess] : [], files: [{ path: file.path, type: column.type }] });
      else if (saysNothing) {
        seen.files.push({ path: file.path, type: seen.type });
      } else if (seen.saysNothing) {
        Object.assign(seen, { type: column.type, saysNothing: false, guesses: column.guess ? [column.guess] : [] });
        seen.files = [...seen.files.map((each) => ({ ...each, type: column.type })), { path: file.path, type: column.type }];
      } else {
        if (column.guess) seen.guesses.push(column.guess);
        const type = sameType(seen.type, column.type) ? seen.type : widen(seen.type, column.type);
        seen.clashes ||= type === undefined;
        // What fits nothing else is read as text, and said so.
        seen.type = type ?? { kind: 'string' };
        seen.files.push({ path: file.path, type: column.type });
      }
    }
  }
  const all = [...columns.values()];
  const forms: Record<string, ValueForm> = {};
  for (const each of all) {
    const merged = mergeForms(each.guesses, each.type);
    // Written in ways that no one form reads: text again, and said so.
    if (!merged) Object.assign(each, { type: { kind: 'string' }, clashes: true });
    else if (merged.form) forms[each.name] = merged.form;
  }
  return {
    forms, guesses: new Map(all.flatMap(({ name, guesses }) => (guesses.length > 0 ? [[name, guesses] as const] : []))),
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
