/** Puts other names in the place of table references, in the user's own text, and maps positions back. */
import { byteOffsets, quoteName } from './tokens';
import type { Statement } from './statement';

export interface Edit {
  start: number;
  end: number;
  text: string;
}

export interface Spliced {
  sql: string;
  /** The place in the user's text of a byte offset in the new text. */
  originalPosition(bytes: number): number;
}

/** `replacements[i]`, SQL text, takes the place of reference i. The table keeps its name as alias. */
export function spliceReferences(statement: Statement, replacements: readonly string[]): Spliced {
  return applyEdits(statement.blanked, editsOf(statement, replacements));
}

/** The same for a part of the text alone. */
export function spliceRange(statement: Statement, replacements: readonly string[], { start, end }: { start: number; end: number }): string {
  const inside = editsOf(statement, replacements).filter((edit) => edit.start >= start && edit.end <= end);
  return applyEdits(statement.blanked.slice(start, end), inside.map((edit) => ({ ...edit, start: edit.start - start, end: edit.end - start }))).sql;
}

function editsOf(statement: Statement, replacements: readonly string[]): Edit[] {
  const edits: Edit[] = statement.references.flatMap((reference, index) => {
    const alias = reference.alias ? '' : ` AS ${quoteName(reference.options ? 'files' : reference.changes ? 'changes_of' : reference.name.at(-1)!)}`;
    const edit = { start: reference.start, end: reference.end, text: `${replacements[index]!}${alias}` };
    return reference.clause ? [edit, { ...reference.clause, text: '' }] : [edit];
  });
  const qualified = statement.qualifiedColumns
    .filter((column) => statement.references.some((reference) => !reference.alias && sameNames(reference.name, tableOf(column.names))))
    .map((column) => ({ start: column.start, end: column.end, text: quoteName(column.names.at(-2)!) }));
  return [...edits, ...qualified];
}

/** The table that stands before a column's own name: `a.b.table.column` is of the table in the namespace `a.b`. */
function tableOf(names: readonly string[]): string[] {
  return [names.slice(0, -2).join('.'), names.at(-2)!];
}

function sameNames(a: readonly string[], b: readonly string[]): boolean {
  return a.length === b.length && a.every((name, index) => name.toLowerCase() === b[index]!.toLowerCase());
}

export function applyEdits(text: string, unordered: readonly Edit[]): Spliced {
  const edits = [...unordered].sort((a, b) => a.start - b.start);
  let sql = '';
  let at = 0;
  const map: { from: number; to: number }[] = [];
  for (const edit of edits) {
    map.push({ from: sql.length, to: at });
    sql += text.slice(at, edit.start);
    map.push({ from: sql.length, to: edit.start });
    sql += edit.text;
    at = edit.end;
  }
  map.push({ from: sql.length, to: at });
  sql += text.slice(at);
  const offset = byteOffsets(sql);
  return {
    sql,
    originalPosition(bytes) {
      const position = offset(bytes);
      const piece = map.findLast(({ from }) => from <= position)!;
      const next = map[map.indexOf(piece) + 1];
      return Math.min(piece.to + (position - piece.from), next?.to ?? text.length);
    },
  };
}
