import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { compareValues, type Value } from '../values/value';
import type { Comparison, Predicate } from './predicate';
import { mightMatch, type ColumnStats } from './prune';

const COLUMN = ['c'];
const compare = (comparison: Comparison, value: Value): Predicate => ({ op: 'compare', column: COLUMN, comparison, value });

/** Whether a row satisfies the predicate, as the engine decides: null satisfies no comparison, NaN sorts above all. */
function satisfies(value: Value | null, predicate: Predicate): boolean {
  switch (predicate.op) {
    case 'true':
      return true;
    case 'and':
      return predicate.args.every((arg) => satisfies(value, arg));
    case 'or':
      return predicate.args.some((arg) => satisfies(value, arg));
    case 'null':
      return value === null;
    case 'not-null':
      return value !== null;
    case 'in':
      return value !== null && predicate.values.some((each) => compareValues(value, each) === 0);
    case 'prefix':
      return typeof value === 'string' && value.startsWith(predicate.prefix);
    case 'compare': {
      if (value === null) return false;
      const order = compareValues(value, predicate.value);
      return { '=': order === 0, '!=': order !== 0, '<': order < 0, '<=': order <= 0, '>': order > 0, '>=': order >= 0 }[predicate.comparison];
    }
  }
}

/** Honest statistics of some values: bounds leave nulls and NaN out. */
function statsOf(values: (Value | null)[]): ColumnStats {
  const ordered = values.filter((value): value is Value => value !== null && !Number.isNaN(value)).sort(compareValues);
  return {
    ...(ordered.length > 0 ? { lower: ordered[0]!, upper: ordered.at(-1)! } : {}),
    nullCount: values.filter((value) => value === null).length, rowCount: values.length, mayHoldNaN: values.some(Number.isNaN),
  };
}

function predicates(value: fc.Arbitrary<Value>): fc.Arbitrary<Predicate> {
  return fc.letrec<{ predicate: Predicate }>((tie) => ({
    predicate: fc.oneof(
      { maxDepth: 3 },
      fc.tuple(fc.constantFrom<Comparison>('=', '!=', '<', '<=', '>', '>='), value).map(([comparison, each]) => compare(comparison, each)),
      fc.array(value, { minLength: 1, maxLength: 3 }).map((values): Predicate => ({ op: 'in', column: COLUMN, values })),
      fc.constantFrom<Predicate>({ op: 'null', column: COLUMN }, { op: 'not-null', column: COLUMN }),
      value.map((each): Predicate => (typeof each === 'string' ? { op: 'prefix', column: COLUMN, prefix: each.slice(0, 2) } : { op: 'true' })),
      fc.tuple(fc.constantFrom<'and' | 'or'>('and', 'or'), fc.array(tie('predicate'), { minLength: 1, maxLength: 3 })).map(([op, args]): Predicate => ({ op, args })),
    ),
  })).predicate;
}

describe('pruning', () => {
  it.each<[string, fc.Arbitrary<Value>]>([
    ['integers', fc.bigInt({ min: -5n, max: 5n })],
    ['doubles with NaN and infinities', fc.constantFrom(-Infinity, -1, 0, 0.5, 1, Infinity, NaN)],
    ['text beyond the basic plane', fc.string({ unit: fc.constantFrom('a', 'b', '\uffff', '\u{10000}', '\u{10ffff}'), maxLength: 4 })],
  ])('never skips a file that holds a matching row: %s', (_, value) => {
    fc.assert(fc.property(fc.array(fc.option(value), { minLength: 1, maxLength: 5 }), predicates(value), (values, predicate) => {
      const someRowMatches = values.some((each) => satisfies(each, predicate));
      return !someRowMatches || mightMatch(predicate, () => statsOf(values));
    }), { seed: 7, numRuns: 4000 });
  });

  const oneToFive: ColumnStats = { lower: 1n, upper: 5n, nullCount: 0, rowCount: 9, mayHoldNaN: false };
  it.each<[string, Predicate, boolean]>([
    ['= below', compare('=', 0n), false], ['= inside', compare('=', 3n), true], ['< the least', compare('<', 1n), false], ['<= the least', compare('<=', 1n), true],
    ['> the greatest', compare('>', 5n), false], ['>= the greatest', compare('>=', 5n), true], ['IS NULL without nulls', { op: 'null', column: COLUMN }, false],
    ['IN all outside', { op: 'in', column: COLUMN, values: [0n, 6n] }, false], ['OR of two misses', { op: 'or', args: [compare('<', 0n), compare('>', 9n)] }, false],
  ])('skips where it can: %s', (_, predicate, expected) => {
    expect(mightMatch(predicate, () => oneToFive)).toBe(expected);
  });

  it('keeps a file of doubles for > unless NaN is known to be absent', () => {
    const doubles: ColumnStats = { lower: 1, upper: 5, nullCount: 0, rowCount: 9 };
    expect(mightMatch(compare('>', 100), () => doubles)).toBe(true);
    expect(mightMatch(compare('>', 100), () => ({ ...doubles, mayHoldNaN: false }))).toBe(false);
  });

  it('skips a file of nulls for any comparison, and one without the prefix', () => {
    expect(mightMatch(compare('!=', 1n), () => ({ nullCount: 4, rowCount: 4 }))).toBe(false);
    expect(mightMatch({ op: 'prefix', column: COLUMN, prefix: 'TB-2' }, () => ({ lower: 'TB-01', upper: 'TB-19' }))).toBe(false);
    expect(mightMatch({ op: 'prefix', column: COLUMN, prefix: 'TB-2' }, () => ({ lower: 'TB-20', upper: 'TB-48' }))).toBe(true);
  });
});
