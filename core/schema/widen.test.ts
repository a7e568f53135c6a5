import { describe, expect, it } from 'vitest';
import { parseTypeName, typeName } from './type-names';
import { widen } from './widen';

const widened = (a: string, b: string) => {
  const type = widen(parseTypeName(a), parseTypeName(b));
  return type && typeName(type);
};

describe('widening', () => {
  it.each([
    ['integer', 'bigint', 'bigint'], ['integer', 'double', 'double'], ['float', 'double', 'double'], ['date', 'timestamp', 'timestamp'],
    ['decimal(10,2)', 'decimal(8,4)', 'decimal(12,4)'], ['integer[]', 'bigint[]', 'bigint[]'],
    ['struct(a integer)', 'struct(a bigint, b varchar)', 'struct(a bigint, b varchar)'],
  ])('%s and %s are %s, either way round', (a, b, result) => {
    expect(widened(a, b)).toBe(result);
    expect(widened(b, a)).toBe(result);
  });

  it.each([['integer', 'varchar'], ['date', 'integer'], ['boolean', 'integer'], ['decimal(38,0)', 'decimal(38,10)'], ['struct(a integer)', 'struct(a varchar)'], ['timestamp', 'timestamptz']])('%s and %s have no type in common', (a, b) => {
    expect(widened(a, b)).toBeUndefined();
  });
});
