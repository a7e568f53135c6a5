import { describe, expect, it } from 'vitest';
import { Events } from '../events';
import { testDatabase } from '../testing/database';
import { FindIndex } from './find-index';
import { annotateRelation, createRelation, dropRelation, getRelation, noteColumns } from './relations';

async function index() {
  const database = await testDatabase();
  const events = new Events();
  const find = new FindIndex(database, events);
  const view = (name: string) => createRelation(database, { namespace: name.split('.')[0]!, name: name.split('.')[1]!, kind: 'view', definition: { kind: 'view', sql: 'SELECT 1' } }, 'T');
  for (const name of ['refined.bottles', 'refined.bottle_caps', 'published.daily']) await view(name);
  const of = (name: string) => getRelation(database, name.split('.')[0]!, name.split('.')[1]!);
  await noteColumns(database, await of('refined.bottles'), [{ name: 'site', type: 'varchar' }, { name: 'oxygen_mg_l', type: 'double', comment: 'Dissolved' }], 'T');
  const names = async (words: string, more = {}) => (await find.find(words, { limit: 10, ...more })).map((hit) => `${hit.kind} ${hit.name}`);
  return { database, events, names, of, find };
}

describe('finding in the catalog', () => {
  it('takes any part of a name, description, tag or column; whole names first', async () => {
    const { database, events, names, of, find } = await index();
    expect(await names('bottle')).toEqual(['view refined.bottles', 'view refined.bottle_caps']);
    expect(await names('DISSOLV')).toEqual(['column oxygen_mg_l']);
    await annotateRelation(database, await of('published.daily'), { description: 'The bay at a glance', tags: ['board'], notes: { day: { description: 'UTC', tags: [] } } }, 'T');
    events.tell({ topic: 'catalog' });
    expect(await names('glance bay')).toEqual(['view published.daily']);
    expect((await find.find('board', { limit: 1 }))[0]).toMatchObject({ name: 'published.daily', because: expect.stringContaining('board') as string });
  });

  it('is narrowed by kind and namespace, and follows what leaves the catalog', async () => {
    const { database, events, names, of } = await index();
    expect(await names('s', { kind: 'column' })).toEqual(['column site', 'column oxygen_mg_l']);
    expect(await names('d', { namespace: 'published' })).toEqual(['view published.daily']);
    await dropRelation(database, await of('refined.bottles'), 'T');
    events.tell({ topic: 'catalog' });
    expect(await names('site')).toEqual([]);
  });
});
