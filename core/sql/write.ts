/** `WRITE TO 'storage:folder' WITH (…) AS query`, which is our own: rows of a query into plain files. */
import { LakeError } from '../errors';
import { Cursor, type Range } from './cursor';
import { options, text } from './options';
import { isWord, tokenize } from './tokens';

export interface WriteStatement {
  /** As it is written: `storage:folder`. */
  to: Range & { place: string };
  options: Record<string, string>;
  source: Range;
}

/** Whether a text is to be read by `readWrite`. */
export function isWrite(sql: string): boolean {
  return isWord(tokenize(sql)[0], 'WRITE');
}

/** Fails with the position of what is not understood. */
export function readWrite(sql: string): WriteStatement {
  const cursor = new Cursor(sql);
  cursor.expect('WRITE');
  cursor.expect('TO');
  const token = cursor.peek();
  if (token?.kind === 'string' && !token.text.slice(1, -1).includes(':')) throw new LakeError('bad-request', `${token.text} names no storage; write it as 'storage:folder'.`, { position: token.start });
  const place = text(cursor);
  const to = { place, start: token!.start, end: token!.end };
  const given = cursor.take('WITH') ? options(cursor, sql) : {};
  cursor.expect('AS');
  return { to, options: given, source: cursor.query() };
}
