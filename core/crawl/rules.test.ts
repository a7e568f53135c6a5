/** Which files a crawl takes, how it names tables, when a folder is several tables, and what counts as drift. */
import { describe, expect, it } from 'vitest';
import { parseTypeName } from '../schema/type-names';
import { field } from '../schema/types';
import { nameByRule, wantedFiles } from './definition';
import { driftBetween, driftText, isAddition, mergeFields } from './drift';
import { likelyCopies } from './copies';
import { splitFiles } from './split';

const fields = (columns: Record<string, string>) => Object.entries(columns).map(([name, type]) => field(name, parseTypeName(type)));

describe('files of a crawl', () => {
  const files = ['in/a.csv', 'in/b.tmp', 'in/2025/c.csv', 'in/2026/d.csv'].map((path) => ({ path, bytes: 1, modified: 0 }));
  it.each([[[], [], 4], [['*.csv'], [], 3], [['2026/**'], [], 1], [[], ['*.tmp', '2025/**'], 2], [['*.csv'], ['a.*'], 2]])('include %j, exclude %j', (include, exclude, count) => {
    expect(wantedFiles(files, { storage: 's', folder: 'in', include, exclude }).length).toBe(count);
  });
});

it('tells files that look like copies of others, by name and size', () => {
  const files = [['d/a.csv', 5], ['d/a (1).csv', 5], ['d/a - Copy.csv', 5], ['d/a_copy.csv', 6], ['d/b (2).csv.gz', 7], ['d/c copy.csv', 5]].map(([path, bytes]) => ({ path: path as string, bytes: bytes as number, modified: 0 }));
  expect(likelyCopies(files)).toEqual([{ path: 'd/a (1).csv', of: 'd/a.csv' }, { path: 'd/a - Copy.csv', of: 'd/a.csv' }]);
});

describe('names of tables', () => {
  const rule = { namespace: '', prefix: '', naming: 'folder' } as const;
  const at = { storage: 'bay', folder: 'landing' };
  it.each([
    ['after the folder, in the first one', rule, [], 'landing.north'],
    ['with a prefix, in the namespace asked for', { ...rule, namespace: 'raw', prefix: 'bay_' }, [], 'raw.bay_north'],
    ['after all folders below the crawled one', { ...rule, naming: 'path' } as const, [], 'landing.gauges_north'],
    ['in the namespace that is tied to a folder above', rule, [{ namespace: 'rivers', storage: 'bay', folder: 'landing/gauges' }, { namespace: 'all', storage: 'bay', folder: 'landing' }], 'rivers.north'],
    ['below the tied folder', { ...rule, prefix: 'g_', naming: 'path' } as const, [{ namespace: 'all', storage: 'bay', folder: 'landing' }], 'all.g_gauges_north'],
  ])('%s', (_, rules, tied, name) => {
    expect(Object.values(nameByRule('landing/gauges/north', at, rules, tied)).join('.')).toBe(name);
  });
});

describe('one folder with several tables', () => {
  const file = (path: string, ...columns: string[]) => ({ path, columns: columns.map((name) => ({ name, type: parseTypeName('varchar') })) });
  it('is split by the beginnings of names when they hold different columns', () => {
    expect(splitFiles([file('d/orders-2026-01.csv', 'order', 'at', 'sum'), file('d/crew.csv', 'name', 'boat'), file('d/orders-2026-02.csv', 'order', 'at', 'sum')])).toEqual([
      { stem: 'orders', pattern: 'orders*', paths: ['d/orders-2026-01.csv', 'd/orders-2026-02.csv'] }, { stem: 'crew', pattern: 'crew.csv', paths: ['d/crew.csv'] },
    ]);
  });
  it.each([['the same columns', [file('d/north.csv', 'a', 'b'), file('d/south.csv', 'a', 'b', 'c')]], ['fewer columns', [file('d/1.csv', 'a', 'b', 'c'), file('d/x.csv', 'b')]]])('stays whole with %s', (_, facts) => {
    expect(splitFiles(facts)).toBeUndefined();
  });
  it('is split by columns where names say nothing: by what names of one kind begin with, else file by file', () => {
    const orders = ['order', 'at', 'sum'];
    expect(splitFiles([file('d/2026 orders 1.csv', ...orders), file('d/2026 orders 2.csv', ...orders), file('d/2026 crew.csv', 'name', 'boat')])?.map(({ pattern }) => pattern)).toEqual(['2026 orders *', '2026 crew.csv']);
    expect(splitFiles([file('d/1.csv', ...orders), file('d/2.csv', 'name', 'boat'), file('d/3.csv', ...orders)])?.map(({ pattern }) => pattern)).toEqual(['1.csv', '3.csv', '2.csv']);
  });
});

describe('drift', () => {
  it('tells what came, went and changed, and which may be a rename', () => {
    const drifts = driftBetween(fields({ id: 'bigint', oxygen: 'double', note: 'varchar', n: 'bigint' }), fields({ id: 'bigint', oxygen_mg_l: 'double', n: 'double', extra: 'date' }));
    expect(driftText(drifts)).toBe('oxygen_mg_l (oxygen under another name?), extra came; oxygen, note went; n: bigint became double');
    expect(isAddition(drifts)).toBe(false);
    expect(isAddition(driftBetween(fields({ a: 'bigint' }), fields({ a: 'bigint', b: 'date' })))).toBe(true);
    expect(driftBetween(fields({ A: 'bigint' }), fields({ a: 'bigint' }))).toEqual([]);
  });

  it('keeps what somebody corrected while the files are as they were', () => {
    const found = fields({ field_1: 'timestamptz', field_2: 'bigint' });
    const registered = fields({ logged_at: 'timestamptz', volts: 'decimal(10,2)' });
    expect(mergeFields(registered, found, fields({ field_1: 'timestamptz', field_2: 'bigint', day: 'date' }))).toEqual([...registered, ...fields({ day: 'date' })]);
    expect(mergeFields(registered, found, fields({ field_1: 'timestamptz', field_2: 'varchar' }))).toEqual([registered[0], ...fields({ field_2: 'varchar' })]);
  });
});
