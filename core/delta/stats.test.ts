/** Rules: Delta transaction log protocol, "Per-file Statistics"; truncation of times to milliseconds is common practice of writers. */
import { describe, expect, it } from 'vitest';
import { field } from '../schema/types';
import { parseValue } from '../values/text';
import { rowCountOf, statsLookup, statsText, withEarlierMinimums } from './stats';
import type { WrittenColumn, WrittenFile } from '../table/written-file';

const fields = [
  field('n', 'long'), field('price', { kind: 'decimal', precision: 18, scale: 2 }), field('at', 'timestamptz'), field('name', 'string'), field('x', 'double'),
  field('place', { kind: 'struct', fields: [field('lat', 'double')] }), field('tags', { kind: 'list', element: field('element', 'string') }),
];
const column = (path: string[], min: string, max: string, more: Partial<WrittenColumn> = {}): WrittenColumn => ({ path, min, max, nullCount: 1, valueCount: 5, bytes: 9, ...more });
const fileOf = (...columns: WrittenColumn[]): WrittenFile => ({ path: 't/a', bytes: 1, rows: 5, columns, partition: {} });
const written = (...columns: WrittenColumn[]) => statsLookup(statsText(fileOf(...columns), fields), fields);

describe('statistics of a Delta file', () => {
  it('keep integers and decimals digit by digit', () => {
    const stats = written(column(['n'], '9007199254740993', '9223372036854775807'), column(['price'], '-1234567890123456.78', '1234567890123456.78'));
    expect(stats(['n'])).toMatchObject({ lower: 9007199254740993n, upper: 9223372036854775807n, nullCount: 1, rowCount: 5 });
    expect(stats(['price'])).toMatchObject({ lower: -123456789012345678n, upper: 123456789012345678n });
  });

  it('never end before the last microsecond that occurs', () => {
    const last = parseValue({ kind: 'timestamptz' }, '2026-03-14 12:00:00.123456Z') as bigint;
    expect(written(column(['at'], '2026-03-14 00:00:00+00', '2026-03-14 12:00:00.123456+00'))(['at'])!.upper).toSatisfy((upper) => (upper as bigint) >= last);
    const foreign = statsLookup('{"numRecords":1,"maxValues":{"at":"2026-03-14T12:00:00.123Z"}}', fields);
    expect(foreign(['at'])!.upper).toSatisfy((upper) => (upper as bigint) >= last);
  });

  it('never begin after the first microsecond that occurs, before 1970 too', () => {
    const first = parseValue({ kind: 'timestamptz' }, '1969-12-31 23:59:59.9995Z') as bigint;
    const text = statsText(fileOf(column(['at'], '1969-12-31 23:59:59.9995+00', '1969-12-31 23:59:59.9999+00')), fields);
    expect(JSON.parse(text)).toMatchObject({ minValues: { at: '1969-12-31T23:59:59.999Z' }, maxValues: { at: '1970-01-01T00:00:00.000Z' } });
    // What our writer of before made of it.
    const rounded = text.replace('23:59:59.999Z', '23:59:59.9995Z').replace('1969-12-31T23:59:59.9995Z', '1970-01-01T00:00:00.000Z');
    expect(statsLookup(rounded, fields)(['at'])!.lower).toSatisfy((lower) => (lower as bigint) <= first);
    expect(JSON.parse(withEarlierMinimums(rounded, fields)!)).toMatchObject({ minValues: { at: '1969-12-31T23:59:59.999Z' }, maxValues: { at: '1970-01-01T00:00:00.000Z' } });
  });

  it('hold 32-bit numbers as such, whatever digits a writer gave', () => {
    const single = [field('f', 'float')];
    expect(statsLookup('{"numRecords":1,"minValues":{"f":0.1},"maxValues":{"f":0.10000000149011612}}', single)(['f'])).toMatchObject({ lower: Math.fround(0.1), upper: Math.fround(0.1) });
  });

  it('give no bound of a time that ISO 8601 has no text for', () => {
    const text = statsText(fileOf(column(['at'], '-290000-01-01 00:00:00+00', 'infinity')), fields);
    expect(JSON.parse(text)).toMatchObject({ minValues: {}, maxValues: {} });
  });

  it('cut long text so that it still encloses', () => {
    const stats = written(column(['name'], 'a'.repeat(100), '\u{10ffff}'.repeat(3) + 'z'.repeat(60)))(['name'])!;
    expect(stats.lower).toBe('a'.repeat(32));
    expect(stats.upper).toBe(`${'\u{10ffff}'.repeat(3)}${'z'.repeat(28)}{`);
    expect(written(column(['name'], 'a', '\u{10ffff}'.repeat(40)))(['name'])!.upper).toBeUndefined();
  });

  it('say nothing of bounds where a NaN or an infinity occurs', () => {
    expect(written(column(['x'], '1', '2', { hasNaN: true }))(['x'])).toEqual({ mayHoldNaN: true, nullCount: 1, rowCount: 5 });
    expect(written(column(['x'], '-inf', '2'))(['x'])!.lower).toBeUndefined();
  });

  it('reach into structs and stay out of lists', () => {
    const text = statsText(fileOf(column(['place', 'lat'], '54.1', '54.9'), column(['tags', 'element'], 'a', 'b')), fields);
    expect(JSON.parse(text).minValues).toEqual({ place: { lat: 54.1 } });
    expect(statsLookup(text, fields)(['place', 'lat'])).toMatchObject({ lower: 54.1, upper: 54.9 });
  });

  it('count as unknown where another writer left them out or wrote something odd', () => {
    expect(statsLookup(undefined, fields)(['n'])).toBeUndefined();
    expect(statsLookup('{"numRecords":4,"minValues":{"n":"many"}}', fields)(['n'])).toEqual({ mayHoldNaN: false, rowCount: 4 });
    expect(rowCountOf('{"numRecords": 12}')).toBe(12);
    expect(rowCountOf(undefined)).toBeUndefined();
  });
});
