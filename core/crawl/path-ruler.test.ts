import { describe, expect, it } from 'vitest';
import { LakeError } from '../errors';
import { joinDates, parsePattern, splitPattern } from '../folder/path-pattern';
import { pathRuler } from './path-ruler';

const listed = (...paths: string[]) => paths.map((path) => ({ path, bytes: 10, modified: 0 }));
const logs = listed(...['01', '02', '04'].flatMap((day) => ['TB-1', 'TB-2'].map((buoy) => `landing/logs/2026/03/${day}/${buoy}.log.gz`)), 'landing/logs/readme.txt', 'landing/logs/_notes/2026/03/01/x.log.gz');

describe('a path pattern', () => {
  it('makes one date of year, month and day in steps of their own', () => {
    const pattern = parsePattern('logs/{day:year}/{day:month}/{day:day}/{buoy}.log');
    expect(pattern.columns).toEqual(['day', 'buoy']);
    expect(pattern.match('logs/2026/3/04/TB-1.log')).toEqual({ day: '2026-03-04', buoy: 'TB-1' });
    expect(pattern.match('logs/2026/x/04/TB-1.log')).toBeUndefined();
    expect(parsePattern('{t:year}/{t:month}/{t:day}/{t:hour}/*').match('2026/03/04/7/a')).toEqual({ t: '2026-03-04 07:00:00' });
  });

  it.each([['{a}/{A}', 'twice'], ['{d:year}/{d:month}', 'year, month and day'], ['{d:year}/{d}/{d:day}', 'to make a date']])('refuses %s', (text, why) => {
    expect(() => parsePattern(text)).toThrow(LakeError);
    expect(() => parsePattern(text)).toThrow(why);
  });

  it.each([['a/b/{x}/*.csv', 'a/b', '{x}/*.csv'], ['a/b.csv', 'a', 'b.csv'], ['*.csv', '', '*.csv']])('%s begins in a folder', (full, root, pattern) => {
    expect(splitPattern(full)).toEqual({ root, pattern });
  });
});

describe('the path ruler', () => {
  it('suggests columns for steps that differ, and says which values are missing', () => {
    const ruler = pathRuler(logs, 'landing/logs');
    expect(ruler.pattern).toBe('landing/logs/2026/03/{day}/*.log.gz');
    expect(ruler).toMatchObject({ matching: 6, of: 7, leftOver: ['landing/logs/readme.txt'] });
    expect(ruler.columns).toEqual([{ name: 'day', type: 'integer', values: 3, first: '01', last: '04', missing: 1, missingSome: ['3'] }]);
    expect(ruler.steps.map((step) => step.asColumn)).toEqual(['{part}', '{part}', '{year}', '{month}', '{day}', '{file}.log.gz']);
  });

  it('reads a pattern that is given, and offers to join a date', () => {
    const ruler = pathRuler(logs, 'landing/logs', 'landing/logs/{year}/{month}/{day}/{buoy}.log.gz');
    expect(ruler.columns.map(({ name, values }) => [name, values])).toEqual([['year', 1], ['month', 1], ['day', 3], ['buoy', 2]]);
    const joined = joinDates(ruler.pattern);
    expect(joined).toBe('landing/logs/{date:year}/{date:month}/{date:day}/{buoy}.log.gz');
    const [date] = pathRuler(logs, 'landing/logs', joined!).columns;
    expect(date).toEqual({ name: 'date', type: 'date', values: 3, first: '2026-03-01', last: '2026-03-04', missing: 1, missingSome: ['2026-03-03'] });
  });

  it('keeps the key of a named step', () => {
    expect(pathRuler(listed('s/day=2026-01-01/a.parquet', 's/day=2026-01-02/b.parquet'), 's').pattern).toBe('s/day={day}/*.parquet');
  });
});
