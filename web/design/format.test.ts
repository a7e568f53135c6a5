import { describe, expect, it } from 'vitest';
import { agoText, bytesText, cellText, isNumeric, millisText, percentText, plural } from './format';

describe('numbers as pages show them', () => {
  it.each([[0, '0 B'], [999, '999 B'], [1000, '1 kB'], [38_412_345, '38.4 MB'], [999_999, '1 MB'], [5.2e12, '5.2 TB']])('%i bytes are %s', (bytes, text) => {
    expect(bytesText(bytes)).toBe(text);
  });

  it.each([[1, '1 file'], [0, '0 files'], [12345, '12,345 files']])('%i is %s', (count, text) => {
    expect(plural(count, 'file')).toBe(text);
  });

  it.each([[0, '0'], [0.001, '<1%'], [0.664, '66%'], [1, '100%']])('the share %d is %s', (share, text) => {
    expect(percentText(share)).toBe(text);
  });

  it('shows waits and ages in the unit that fits', () => {
    const now = Date.parse('2026-03-14T12:00:00Z');
    expect([84.4, 1234].map(millisText)).toEqual(['84 ms', '1.23 s']);
    expect(['2026-03-14T11:59:40Z', '2026-03-14T11:52:00Z', '2026-03-14T09:00:00Z', '2026-03-01T12:00:00Z'].map((at) => agoText(at, now))).toEqual(['now', '8 min', '3 h', '1 Mar']);
  });

  it('shows nested values as JSON and lines up numbers', () => {
    expect([cellText({ a: [1] }), cellText(null), cellText('9007199254740993')]).toEqual(['{"a":[1]}', '', '9007199254740993']);
    expect(['bigint', 'decimal(10,2)', 'double', 'varchar', 'integer[]', 'date'].map(isNumeric)).toEqual([true, true, true, false, false, false]);
  });
});
