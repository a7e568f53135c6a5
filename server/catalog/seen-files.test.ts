/** What files showed when they were opened is known again while they are as they were, and only then. */
import { beforeAll, describe, expect, it } from 'vitest';
import type { ObjectInfo } from '../../core/storage/object-store';
import { field } from '../../core/schema/types';
import { testDatabase } from '../testing/database';
import type { Database } from './database';
import { knownFacts, readAs, rememberFacts } from './seen-files';

let database: Database;
beforeAll(async () => {
  database = await testDatabase();
  await database.query("INSERT INTO storage (name, kind, location) VALUES ('bay', 'folder', '/x'), ('other', 'folder', '/y')");
});

const columns = [field('id', 'long'), field('level', 'double')];
const info = (path: string, more: Partial<ObjectInfo> = {}): ObjectInfo => ({ path, bytes: 10, modified: 1000, ...more });
const seemed = readAs(undefined);
const known = async (files: readonly ObjectInfo[], { storage = 1, folder = '', how = seemed } = {}) => [...(await knownFacts(database, storage, folder, how, files)).keys()].sort();

describe('facts of files', () => {
  const files = [info('a/1.csv'), info('a/2.csv', { etag: '"e"' }), info('a/b/3.csv'), info('ab/4.csv')];

  it('come back as they were, rows counted or guessed', async () => {
    await rememberFacts(database, 1, seemed, files, files.map(({ path }, n) => ({ path, columns, ...(n === 0 ? { rows: 7 } : { aboutRows: n }) })));
    const facts = await knownFacts(database, 1, '', seemed, files);
    expect(facts.get('a/1.csv')).toEqual({ path: 'a/1.csv', columns, rows: 7 });
    expect(facts.get('ab/4.csv')).toEqual({ path: 'ab/4.csv', columns, aboutRows: 3 });
  });

  it('are asked for below a folder, not below one whose name begins alike', async () => {
    expect(await known(files, { folder: 'a' })).toEqual(['a/1.csv', 'a/2.csv', 'a/b/3.csv']);
  });

  it.each([['of another size', { bytes: 11 }], ['changed since', { modified: 1001 }], ['with another mark of its content', { etag: '"f"' }]])('are not known of a file %s', async (_, change) => {
    expect(await known([info('a/2.csv', { etag: '"e"', ...change })])).toEqual([]);
    expect(await known([info('a/2.csv', { etag: '"e"' })])).toEqual(['a/2.csv']);
  });

  it('are kept apart by storage and by the way of reading', async () => {
    expect(await known(files, { storage: 2 })).toEqual([]);
    expect(await known(files, { how: readAs({ format: 'csv', delimiter: ';' }) })).toEqual([]);
  });

  it('of a file looked at again replace the earlier ones', async () => {
    const again = info('a/1.csv', { bytes: 20, modified: 2000 });
    await rememberFacts(database, 1, seemed, [again], [{ path: 'a/1.csv', columns: [columns[0]!], rows: 9 }]);
    expect((await knownFacts(database, 1, 'a', seemed, [again])).get('a/1.csv')).toEqual({ path: 'a/1.csv', columns: [columns[0]], rows: 9 });
    expect(await known([info('a/2.csv', { etag: '"e"' })], { folder: 'a' })).toEqual(['a/2.csv']);
  });

  it('share one description among files of one shape', async () => {
    expect(await database.query('SELECT count(*)::int AS n FROM seen_shape')).toEqual([{ n: 2 }]);
  });
});
