/** In which order rows go into files that are written anew. */
import { LakeError } from '../../core/errors';
import { findField, type Field } from '../../core/schema/types';
import { quoteName } from '../../core/sql/tokens';

/** Rows are sorted by these columns, or laid out so that near values of all of them lie together. */
export interface Layout {
  kind: 'sort' | 'z-order';
  columns: string[];
}

/** Places of a value among all of its column's, of this many bits, are interleaved for z-order. */
const Z_BITS = 10;
/** More columns than this leave too few bits of each to matter. */
const Z_COLUMNS = 6;

/** `relation` with the columns that it is to be ordered by, and the order. */
export function laidOut(relation: string, layout: Layout | undefined, fields: readonly Field[], table: string): string {
  if (!layout) return `${relation} AS c`;
  const names = layout.columns.map((column) => {
    const found = findField(fields, column);
    if (!found) throw new LakeError('bad-request', `${table} has no column "${column}" to lay rows out by.`, { table, hint: `Its columns are ${fields.map((each) => each.name).join(', ')}.` });
    return quoteName(found.name);
  });
  if (layout.kind === 'sort' || names.length === 1) return `${relation} AS c ORDER BY ${names.join(', ')}`;
  if (names.length > Z_COLUMNS) throw new LakeError('bad-request', `Rows can be laid out by up to ${Z_COLUMNS} columns together; ${names.length} are named.`, { table });
  const ranks = names.map((name, index) => `(ntile(${2 ** Z_BITS}) OVER (ORDER BY ${name}) - 1)::UBIGINT AS __z${index}`);
  const bits = Array.from({ length: Z_BITS }, (_, bit) => names.map((_name, index) => `(((__z${index} >> ${bit}) & 1) << ${bit * names.length + index})`)).flat();
  return `(SELECT *, ${ranks.join(', ')} FROM ${relation} AS r) AS c ORDER BY ${bits.join(' | ')}`;
}
