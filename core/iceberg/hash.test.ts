/** Worked values: Apache Iceberg table specification, Appendix B, "32-bit Hash Requirements". */
import { describe, expect, it } from 'vitest';
import type { LogicalType } from '../schema/types';
import { parseValue } from '../values/text';
import type { Value } from '../values/value';
import { hashValue } from './hash';

const SPECIFIED: [type: LogicalType, value: Value, hash: number][] = [
  [{ kind: 'int' }, 34, 2017239379],
  [{ kind: 'long' }, 34n, 2017239379],
  [{ kind: 'date' }, parseValue({ kind: 'date' }, '2017-11-16'), -653330422],
  [{ kind: 'time' }, parseValue({ kind: 'time' }, '22:31:08'), -662762989],
  [{ kind: 'timestamp' }, parseValue({ kind: 'timestamp' }, '2017-11-16T22:31:08'), -2047944441],
  [{ kind: 'timestamp' }, parseValue({ kind: 'timestamp' }, '2017-11-16T22:31:08.000001'), -1207196810],
  [{ kind: 'timestamptz' }, parseValue({ kind: 'timestamptz' }, '2017-11-16T14:31:08-08:00'), -2047944441],
  [{ kind: 'timestamptz' }, parseValue({ kind: 'timestamptz' }, '2017-11-16T14:31:08.000001-08:00'), -1207196810],
  [{ kind: 'timestamp_ns' }, parseValue({ kind: 'timestamp_ns' }, '2017-11-16T22:31:08'), -2047944441],
  [{ kind: 'decimal', precision: 9, scale: 2 }, 1420n, -500754589],
  [{ kind: 'string' }, 'iceberg', 1210000089],
  [{ kind: 'uuid' }, 'f79c3e09-677c-4bbd-a479-3f349cb785e7', 1488055340],
  [{ kind: 'fixed', length: 4 }, Uint8Array.of(0, 1, 2, 3), -188683207],
  [{ kind: 'binary' }, Uint8Array.of(0, 1, 2, 3), -188683207],
];

describe('the hash of the bucket transform', () => {
  it.each(SPECIFIED)('of %j %s is %i', (type, value, hash) => {
    expect(hashValue(type, value)).toBe(hash);
  });
});
