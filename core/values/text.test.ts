import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import type { LogicalType } from '../schema/types';
import { formatDecimal, formatValue, parseDate, parseTimestamp, parseValue } from './text';

describe('values in text', () => {
  it.each<[LogicalType, string]>([
    [{ kind: 'int' }, '1.5'], [{ kind: 'long' }, ''], [{ kind: 'date' }, '2026-02-30'], [{ kind: 'date' }, '14 March'],
    [{ kind: 'timestamp' }, '2026-03-14 25:00'], [{ kind: 'boolean' }, 'yes'], [{ kind: 'decimal', precision: 5, scale: 2 }, '1.234'], [{ kind: 'double' }, ' '],
  ])('are refused where they are not what the column holds: %j "%s"', (type, text) => {
    expect(() => parseValue(type, text)).toThrow(`"${text}" is not a`);
  });

  it('take times without offset as UTC, and turn offsets into it', () => {
    const noon = parseTimestamp('2026-03-14T12:00:00Z');
    expect(parseTimestamp('2026-03-14 12:00')).toBe(noon);
    expect(parseTimestamp('2026-03-14T13:30:00+01:30')).toBe(noon);
    expect(parseTimestamp('2026-03-14T04:00:00-0800')).toBe(noon);
    expect(parseTimestamp('2026-03-14T12:00:00.0000019Z')).toBe(noon! + 1n);
  });

  it('keep years before 1970 and before 1000', () => {
    expect(parseDate('1969-12-31')).toBe(-1);
    expect(formatValue({ kind: 'date' }, parseDate('0001-01-01')!)).toBe('0001-01-01');
    expect(formatValue({ kind: 'timestamp' }, -1n)).toBe('1969-12-31 23:59:59.999999');
  });

  it('keep every digit of a decimal', () => {
    expect(formatDecimal(-5n, 2)).toBe('-0.05');
    const type: LogicalType = { kind: 'decimal', precision: 38, scale: 10 };
    fc.assert(fc.property(fc.bigInt({ min: -(10n ** 38n) + 1n, max: 10n ** 38n - 1n }), (value) => parseValue(type, formatValue(type, value)) === value), { seed: 4 });
  });

  it.each<LogicalType>([{ kind: 'timestamp' }, { kind: 'timestamptz' }])('come back as they went: %j', (type) => {
    fc.assert(fc.property(fc.bigInt({ min: -(10n ** 16n), max: 10n ** 17n }), (micros) => parseValue(type, formatValue(type, micros)) === micros), { seed: 5 });
  });
});
