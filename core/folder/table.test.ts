import { describe, expect, it } from 'vitest';
import { field } from '../schema/types';
import { MemoryStore } from '../storage/memory-store';
import { toBytes } from '../storage/object-store';
import { LATEST } from '../table/contract';
import { parsePattern } from './path-pattern';
import { FolderTable, MemoryListings, type FolderDefinition } from './table';

describe('a path pattern', () => {
  it.each([
    ['day={day}/*', 'day=2026-03-14/a.parquet', { day: '2026-03-14' }],
    ['{year}/{month}/{day}/*.log.gz', '2026/03/14/TB-17.log.gz', { year: '2026', month: '03', day: '14' }],
    ['{year}/{month}/{day}/*.log.gz', '2026/03/14/TB-17.log', undefined],
    ['day={day}/*', 'day=1/deeper/a.parquet', undefined],
    ['site={site}/*', 'site=Holm%20Quay%2Feast/a', { site: 'Holm Quay/east' }],
    ['site={site}/*', 'site=__HIVE_DEFAULT_PARTITION__/a', { site: null }],
    ['site={site}/*', 'site=100%/a', { site: '100%' }],
    ['{buoy}.(x)+.csv', 'TB-1.(x)+.csv', { buoy: 'TB-1' }],
  ])('%s reads %s', (pattern, path, columns) => {
    expect(parsePattern(pattern).match(path)).toEqual(columns);
  });

  it('has each column once', () => {
    expect(() => parsePattern('{day}/{Day}/*')).toThrow('has the column "day" twice');
  });
});

describe('a folder of plain files', () => {
  const definition: FolderDefinition = { pattern: 'day={day}/*', options: { format: 'parquet' }, fields: [field('n', 'long'), field('day', 'date')], partitionColumns: ['day'] };

  async function folder(...paths: string[]) {
    const store = new MemoryStore({ clock: { now: () => 1000 } });
    for (const path of paths) await store.put(path, toBytes(path.includes('empty') ? '' : path));
    let now = 0;
    return { store, table: new FolderTable(store, 'soundings', 'landing.soundings', definition, new MemoryListings(() => ++now)) };
  }

  it('takes the files that match, and neither hidden nor empty ones', async () => {
    const { table } = await folder('soundings/day=2026-01-01/a', 'soundings/day=2026-01-02/b', 'soundings/day=2026-01-01/_tmp', 'soundings/.x/day=1/a', 'soundings/day=2026-01-03/empty', 'soundings/README');
    const files = await (await table.snapshot(LATEST)).files();
    expect(files.map(({ path, constants }) => [path, constants.day])).toEqual([['soundings/day=2026-01-01/a', 20454], ['soundings/day=2026-01-02/b', 20455]]);
  });

  it('hides a partition, or reads it from another folder, while the others come by their paths', async () => {
    const { store } = await folder('soundings/day=2026-01-01/a', 'soundings/day=2026-01-02/b', 'soundings/day=2026-01-03/c', 'repaired/b1', 'repaired/_b2');
    const exceptions = [{ values: { day: '2026-01-01' }, folder: null }, { values: { day: '2026-01-02' }, folder: 'repaired' }];
    const table = new FolderTable(store, 'soundings', 't', { ...definition, exceptions }, new MemoryListings());
    const files = await (await table.snapshot(LATEST)).files();
    expect(files.map(({ path, constants }) => [path, constants.day])).toEqual([['soundings/day=2026-01-03/c', 20456], ['repaired/b1', 20455]]);
  });

  it('opens one day\'s folder for a query of one day', async () => {
    const { table } = await folder('soundings/day=2026-01-01/a', 'soundings/day=2026-01-02/b');
    const plan = await (await table.snapshot(LATEST)).plan({ op: 'compare', column: ['day'], comparison: '=', value: 20455 });
    expect(plan.files).toEqual({ total: 2, read: 1, skippedByPartition: 1, skippedByBounds: 0 });
  });

  it('sees a new day by itself, as a new version, and still reads the old list while its files are there', async () => {
    const { store, table } = await folder('soundings/day=2026-01-01/a');
    expect((await table.snapshot(LATEST)).version).toBe(1);
    await store.put('soundings/day=2026-01-02/b', toBytes('b'));
    expect((await (await table.snapshot(LATEST)).files()).length).toBe(2);
    expect((await (await table.snapshot({ kind: 'number', number: 1n })).files()).length).toBe(1);
    expect((await table.history()).map(({ version, filesAdded }) => [version, filesAdded])).toEqual([[1, 1], [2, 1]]);
  });

  it('says exactly which file of an old list is not as it was', async () => {
    const { store, table } = await folder('soundings/day=2026-01-01/a', 'soundings/day=2026-01-02/b');
    await table.snapshot(LATEST);
    await store.put('soundings/day=2026-01-02/b', toBytes('longer than before'));
    await expect(table.snapshot({ kind: 'number', number: 1n })).rejects.toMatchObject({ details: { path: 'soundings/day=2026-01-02/b' }, message: expect.stringContaining('1 of its 2 files') });
  });

  it('names the file whose folder is not of the column\'s type', async () => {
    const { table } = await folder('soundings/day=someday/a');
    await expect((await table.snapshot(LATEST)).files()).rejects.toMatchObject({ kind: 'bad-file', details: { path: 'soundings/day=someday/a' } });
  });
});
