/** Options between parentheses: `WITH (name = value, …)`. */
import { LakeError } from '../errors';
import type { Cursor } from './cursor';

/** `(format = 'csv', header = true, …)`: texts as they are, numbers and words as they are written. */
export function options(cursor: Cursor, sql: string): Record<string, string> {
  const found: Record<string, string> = {};
  cursor.expectMark('(');
  do {
    const name = optionName(cursor, sql, ['=']);
    cursor.expectMark('=');
    const token = cursor.peek();
    const negative = token?.text === '-';
    if (negative) cursor.next();
    const value = cursor.peek();
    if (!value || !['string', 'number', 'word'].includes(value.kind)) throw cursor.wanted(`a value for ${name}`);
    found[name] = value.kind === 'string' ? text(cursor) : `${negative ? '-' : ''}${cursor.next().text}`;
  } while (cursor.takeMark(','));
  cursor.expectMark(')');
  return found;
}

/** A word, or dotted words, or a name between quotes. */
export function optionName(cursor: Cursor, sql: string, stops: readonly string[]): string {
  const token = cursor.peek();
  if (token?.kind === 'string') return text(cursor);
  const { start, end } = cursor.until(stops, 'the name of a property');
  const name = sql.slice(start, end);
  if (token?.kind === 'quoted') return name.slice(1, -1).replaceAll('""', '"');
  if (!/^[\w.-]+$/.test(name)) throw new LakeError('bad-request', `"${name}" is no name of a property; put it between quotes.`, { position: start });
  return name;
}

/** A text between single quotes, without them. */
export function text(cursor: Cursor): string {
  const token = cursor.peek();
  if (token?.kind !== 'string') throw cursor.wanted("a text in '…'");
  cursor.next();
  return token.text.slice(1, -1).replaceAll("''", "'");
}
