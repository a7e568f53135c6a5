/** Results: Apache Iceberg table specification, "Partition Transforms" and its sections on bucket and truncate. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { mightMatch } from '../scan/prune';
import { field, type LogicalType } from '../schema/types';
import { parseValue } from '../values/text';
import type { Value } from '../values/value';
import { manifestLookup, partitionLookup, partsOf } from './file-stats';
import { applyTransform, parseTransform, partitionText, sourceStats } from './transforms';

const at = (kind: LogicalType['kind'], text: string) => parseValue({ kind } as LogicalType, text);

describe('a partition transform', () => {
  it.each<[transform: string, type: LogicalType, value: Value, result: Value]>([
    ['truncate[10]', { kind: 'int' }, 1, 0],
    ['truncate[10]', { kind: 'int' }, -1, -10],
    ['truncate[10]', { kind: 'long' }, -1n, -10n],
    ['truncate[50]', { kind: 'decimal', precision: 9, scale: 2 }, 1065n, 1050n],
    ['truncate[3]', { kind: 'string' }, 'iceberg', 'ice'],
    ['year', { kind: 'date' }, at('date', '2017-11-16'), 47],
    ['month', { kind: 'date' }, at('date', '2017-11-16'), 574],
    ['day', { kind: 'timestamp' }, at('timestamp', '2017-11-16T22:31:08'), 17486],
    ['hour', { kind: 'timestamp' }, at('timestamp', '2017-11-16T22:31:08'), 419686],
    // Before 1970 the parts still count down to the start of their unit.
    ['day', { kind: 'timestamp' }, at('timestamp', '1969-12-31T23:00:00'), -1],
    ['year', { kind: 'date' }, at('date', '1969-01-01'), -1],
    ['month', { kind: 'date' }, at('date', '1969-12-31'), -1],
    ['hour', { kind: 'timestamp' }, at('timestamp', '1969-12-31T22:59:59.999999'), -2],
    ['bucket[16]', { kind: 'long' }, 34n, 2017239379 % 16],
  ])('%s of %j %s is %s', (transform, type, value, result) => {
    expect(applyTransform(parseTransform(transform), type, value)).toEqual(result);
  });

  it('gives null for null, and void always', () => {
    expect(applyTransform(parseTransform('bucket[4]'), { kind: 'int' }, null)).toBeNull();
    expect(applyTransform(parseTransform('void'), { kind: 'int' }, 5)).toBeNull();
  });

  it('of kind void says nothing of its column, in a partition or a whole manifest', () => {
    const fields = [field('n', 'int', { id: 1 })];
    const parts = partsOf({ 'spec-id': 0, fields: [{ 'source-id': 1, 'field-id': 1000, name: 'n', transform: 'void' }] }, fields);
    expect(partitionLookup(parts, [null], fields)(['n'])).toBeUndefined();
    expect(manifestLookup(parts, [{ containsNull: true, containsNaN: false }], fields)(['n'])).toBeUndefined();
  });

  it('refuses what it does not know, by name', () => {
    expect(() => parseTransform('zorder[3]')).toThrow('"zorder[3]" is not supported');
  });

  it('is shown as people write dates', () => {
    expect(partitionText(parseTransform('month'), { kind: 'date' }, 574)).toBe('2017-11');
    expect(partitionText(parseTransform('hour'), { kind: 'timestamp' }, 419686)).toBe('2017-11-16-22');
  });

  /** The heart of hidden partitioning: a value is always inside what its partition says of the column. */
  it.each(['identity', 'bucket[7]', 'truncate[10]', 'year', 'month', 'day', 'hour'])('%s never rules out the partition a value lies in', (text) => {
    const transform = parseTransform(text);
    const isTime = ['year', 'month', 'day', 'hour'].includes(text);
    const type: LogicalType = { kind: isTime ? 'timestamp' : 'long' };
    fc.assert(fc.property(fc.bigInt({ min: -(10n ** 16n), max: 10n ** 16n }), fc.constantFrom('=', '<=', '>=' ) , (value, comparison) => {
      const stats = sourceStats(transform, type, applyTransform(transform, type, value));
      return mightMatch({ op: 'compare', column: ['c'], comparison: comparison as '=', value }, () => stats);
    }), { seed: 2, numRuns: 500 });
  });
});
