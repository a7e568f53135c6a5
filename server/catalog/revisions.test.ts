/** The catalog compared between two of its numbered revisions. */
import { beforeAll, describe, expect, it } from 'vitest';
import { testDatabase } from '../testing/database';
import type { Database } from './database';
import { compareRevisions, listRevisions, recordRevision, recordState } from './revisions';

let database: Database;
const revise = async (action: string, name: string, columns: Record<string, string> | null) => {
  const number = await recordRevision(database, 'Ada Tern', action, name);
  await recordState(database, number, name, 'table', columns && Object.entries(columns).map(([column, type]) => ({ name: column, type })));
  return number;
};

beforeAll(async () => {
  database = await testDatabase();
  await revise('register', 'lab.bottles', { id: 'bigint', oxygen: 'double', note: 'varchar' });
  await revise('register', 'lab.limits', { site: 'varchar' });
  await revise('change', 'lab.bottles', { id: 'bigint', oxygen_mg_l: 'double', note: 'varchar' });
  await revise('take out', 'lab.limits', null);
  await revise('register', 'lab.tides', { at: 'timestamptz' });
  await revise('change', 'lab.bottles', { id: 'varchar', oxygen_mg_l: 'double', day: 'date' });
});

it('tells tables that came and went, columns that look renamed, came, went, or have another type', async () => {
  const { tables, columns } = await compareRevisions(database, 2, 6);
  expect(tables).toEqual([{ name: 'lab.limits', change: 'gone' }, { name: 'lab.tides', change: 'added' }]);
  expect(columns).toEqual(expect.arrayContaining([
    { table: 'lab.bottles', column: 'oxygen_mg_l', change: 'renamed?', before: 'oxygen', after: 'oxygen_mg_l' },
    { table: 'lab.bottles', column: 'day', change: 'added', before: null, after: 'date' },
    { table: 'lab.bottles', column: 'note', change: 'gone', before: 'varchar', after: null },
    { table: 'lab.bottles', column: 'id', change: 'retyped', before: 'bigint', after: 'varchar' },
  ]));
  expect(columns.length).toBe(4);
});

it('goes back as well, and from the empty catalog', async () => {
  expect((await compareRevisions(database, 6, 2)).tables).toEqual([{ name: 'lab.limits', change: 'added' }, { name: 'lab.tides', change: 'gone' }]);
  expect((await compareRevisions(database, 0, 1)).tables).toEqual([{ name: 'lab.bottles', change: 'added' }]);
  expect(await compareRevisions(database, 3, 3)).toMatchObject({ tables: [], columns: [] });
});

it('a revision that is not there is refused with the last one', async () => {
  await expect(compareRevisions(database, 1, 7)).rejects.toMatchObject({ kind: 'not-found', message: 'There is no revision 7; the last is 6.' });
});

it('what happened to one table is listed in any case of its name, newest first', async () => {
  expect((await listRevisions(database, 10, 'LAB.Bottles')).map((each) => each.action)).toEqual(['change', 'change', 'register']);
  expect((await listRevisions(database, 2)).map((each) => each.number)).toEqual([6, 5]);
});

describe('a change of the catalog', () => {
  it('is told when it stands, and never before or without it', async () => {
    const own = await testDatabase();
    const told: number[] = [];
    const count = async () => Number((await own.query<{ count: number }>('SELECT count(*) FROM revision'))[0]!.count);
    own.onChange = () => void told.push(told.length);
    await own.transaction(async (sql) => {
      await recordRevision(sql, 'Ada Tern', 'register table', 'a.b');
      expect(told).toEqual([]);
    });
    expect([told.length, await count()]).toEqual([1, 1]);
    await expect(own.transaction(async (sql) => {
      await recordRevision(sql, 'Ada Tern', 'register table', 'a.c');
      throw new Error('the rest failed');
    })).rejects.toThrow('the rest failed');
    expect([told.length, await count()]).toEqual([1, 1]);
    // What was only seen changes no name.
    await own.transaction((sql) => recordRevision(sql, 'the catalog', 'see columns', 'a.b'));
    expect(told.length).toBe(1);
  });
});
