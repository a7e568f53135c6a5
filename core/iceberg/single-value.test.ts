/** Encodings: Apache Iceberg table specification, Appendix D, "Single-value serialization, Binary". */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import type { LogicalType } from '../schema/types';
import type { Value } from '../values/value';
import { decodeValue, encodeValue } from './single-value';

const hex = (bytes: Uint8Array | undefined) => Buffer.from(bytes!).toString('hex');

describe('a bound as bytes', () => {
  it.each<[LogicalType, Value, string]>([
    [{ kind: 'boolean' }, false, '00'],
    [{ kind: 'boolean' }, true, '01'],
    [{ kind: 'int' }, 1, '01000000'],
    [{ kind: 'long' }, -2n, 'feffffffffffffff'],
    [{ kind: 'float' }, 1, '0000803f'],
    [{ kind: 'double' }, -0.5, '000000000000e0bf'],
    [{ kind: 'date' }, 17486, '4e440000'],
    [{ kind: 'string' }, 'é€', 'c3a9e282ac'],
    [{ kind: 'uuid' }, 'f79c3e09-677c-4bbd-a479-3f349cb785e7', 'f79c3e09677c4bbda4793f349cb785e7'],
    // Unscaled, two's complement, big-endian, as few bytes as hold it.
    [{ kind: 'decimal', precision: 9, scale: 2 }, 1420n, '058c'],
    [{ kind: 'decimal', precision: 9, scale: 2 }, -1n, 'ff'],
    [{ kind: 'decimal', precision: 9, scale: 0 }, 128n, '0080'],
    [{ kind: 'decimal', precision: 9, scale: 0 }, -128n, '80'],
  ])('%j %s is %s and comes back', (type, value, bytes) => {
    expect(hex(encodeValue(type, value))).toBe(bytes);
    expect(decodeValue(type, encodeValue(type, value)!)).toEqual(value);
  });

  it('keeps the width of the type it was written with, after the column was widened', () => {
    expect(decodeValue({ kind: 'long' }, encodeValue({ kind: 'int' }, -7)!)).toBe(-7n);
    expect(decodeValue({ kind: 'double' }, encodeValue({ kind: 'float' }, 0.25)!)).toBe(0.25);
  });

  it('brings any decimal back', () => {
    const type: LogicalType = { kind: 'decimal', precision: 38, scale: 0 };
    fc.assert(fc.property(fc.bigInt({ min: -(10n ** 38n), max: 10n ** 38n }), (value) => decodeValue(type, encodeValue(type, value)!) === value), { seed: 1 });
  });
});
