/** Several statements in one text. */
import type { Range } from './cursor';
import { tokenize } from './tokens';

/** Where each statement stands, without the semicolons between; empty ones are left out. */
export function splitStatements(sql: string): Range[] {
  const ranges: Range[] = [];
  let range: Range | undefined;
  for (const token of tokenize(sql)) {
    if (token.kind === 'mark' && token.text === ';') {
      if (range) ranges.push(range);
      range = undefined;
    } else range = { start: range?.start ?? token.start, end: token.end };
  }
  if (range) ranges.push(range);
  return ranges;
}
