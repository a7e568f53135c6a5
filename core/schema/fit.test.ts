/** Which types hold every value of which. */
import { describe, expect, it } from 'vitest';
import { fitOf } from './fit';
import { parseTypeName } from './type-names';

describe('a type fits into another', () => {
  it.each([
    ['integer', 'integer', 'same'], ['integer', 'bigint', 'fits'], ['bigint', 'integer', 'cast'], ['integer', 'double', 'fits'], ['bigint', 'double', 'cast'], ['bigint', 'decimal(19,0)', 'fits'], ['bigint', 'decimal(19,1)', 'cast'],
    ['decimal(10,2)', 'decimal(12,2)', 'fits'], ['decimal(10,2)', 'decimal(12,4)', 'fits'], ['decimal(10,2)', 'decimal(11,4)', 'cast'], ['float', 'double', 'fits'], ['double', 'float', 'cast'], ['date', 'timestamp', 'fits'], ['varchar', 'double', 'cast'], ['double', 'varchar', 'cast'],
    ['integer[]', 'bigint[]', 'fits'], ['varchar[]', 'bigint[]', 'cast'], ['struct(A integer)', 'struct(a bigint, b varchar)', 'fits'], ['struct(a integer, c varchar)', 'struct(a integer)', 'cast'], ['struct(a integer)', 'struct(a integer, b varchar NOT NULL)', 'cast'], ['map(varchar, integer)', 'map(varchar, bigint)', 'fits'], ['integer', 'integer[]', 'cast'],
  ])('%s into %s: %s', (from, to, fit) => {
    expect(fitOf(parseTypeName(from), parseTypeName(to))).toBe(fit);
  });
});
