import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { compareText, compareValues, floorDiv } from './value';

describe('comparing', () => {
  it('orders text as its UTF-8 bytes, also beyond the first 65,536 characters', () => {
    expect('\u{1F600}' < '\uFFFD').toBe(true); // JavaScript's own order, by UTF-16 unit, is another
    expect(compareText('\u{1F600}', '\uFFFD')).toBeGreaterThan(0);
    fc.assert(fc.property(fc.string({ unit: 'binary' }), fc.string({ unit: 'binary' }), (a, b) => Math.sign(compareText(a, b)) === Math.sign(Buffer.compare(Buffer.from(a), Buffer.from(b)))), { seed: 3, numRuns: 2000 });
  });

  it('puts NaN above everything', () => {
    expect(compareValues(NaN, Infinity)).toBeGreaterThan(0);
    expect(compareValues(-Infinity, NaN)).toBeLessThan(0);
    expect(compareValues(NaN, NaN)).toBe(0);
  });

  it('divides toward minus infinity', () => {
    expect([floorDiv(-1n, 10n), floorDiv(-10n, 10n), floorDiv(9n, 10n), floorDiv(1n, -10n)]).toEqual([-1n, -1n, 0n, -1n]);
  });
});
