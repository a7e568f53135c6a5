/** The narrowest type that reads all of a column's texts. */
import type { LogicalType } from '../schema/types';
import { parseDate, parseTimestamp } from '../values/text';

/**
 * Of boolean, bigint, double, date, timestamptz and text. Whole numbers with a leading zero are codes, so text. Nulls
 * say nothing; a column of nothing else is text.
 */
export function inferTextType(texts: readonly (string | null)[]): LogicalType {
  const present = texts.filter((text): text is string => text !== null);
  const all = (fits: (text: string) => boolean) => present.length > 0 && present.every(fits);
  if (all((text) => /^(true|false)$/i.test(text))) return { kind: 'boolean' };
  if (all((text) => /^-?(0|[1-9]\d{0,17})$/.test(text))) return { kind: 'long' };
  const number = /^[+-]?(0|[1-9]\d*)?(\.\d*)?(e[+-]?\d+)?$/i;
  if (all((text) => number.test(text) && /\d/.test(text))) return { kind: 'double' };
  if (all((text) => parseDate(text) !== undefined)) return { kind: 'date' };
  if (all((text) => parseTimestamp(text) !== undefined)) return { kind: 'timestamptz' };
  return { kind: 'string' };
}
