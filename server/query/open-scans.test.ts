/** What a sealed instance may open: the files of the plan, or where they are many the folders that they lie in, and nothing beyond. */
import { mkdirSync, readdirSync, renameSync, symlinkSync } from 'node:fs';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { parseTypeName } from '../../core/schema/type-names';
import { field } from '../../core/schema/types';
import { DiskStore } from '../storage/disk-store';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { SqlBench } from '../testing/sql-bench';
import { allowOf } from './open-scans';

const folder = temporaryFolder();
let bench: SqlBench;
beforeAll(async () => {
  mkdirSync(path.join(folder.path, 'lake'));
  bench = new SqlBench(new DiskStore(path.join(folder.path, 'lake')), await LocalEngine.start());
});
afterAll(() => {
  bench.remove();
  folder.remove();
});

const files = (count: number, at: (n: number) => string) => Array.from({ length: count }, (_, n) => `${at(n)}/part-${n}.parquet`);

describe('of many files', () => {
  it('the folders that they lie in are allowed, never those of others beside them', () => {
    const few = { files: files(10, () => '/lake/few'), isInPlace: true };
    const many = { files: files(500, (n) => `/lake/many/day=${n % 7}`), isInPlace: true };
    const { folders, files: exact } = allowOf([few, many]);
    expect(folders!.sort()).toEqual(Array.from({ length: 7 }, (_, n) => `/lake/many/day=${n}`));
    expect(exact).toEqual(expect.arrayContaining(few.files));
  });

  it('in very many folders, the deepest that holds them all', () => {
    expect(allowOf([{ files: files(900, (n) => `/lake/many/key=${n}`), isInPlace: true }]).folders).toEqual(['/lake/many']);
  });

  it('copies, which lie beside those of other tables, are allowed one by one', () => {
    const copies = files(900, (n) => `/home/cache/1/${n % 16}`);
    expect(allowOf([{ files: copies, isInPlace: false }])).toMatchObject({ folders: [], files: expect.arrayContaining(copies) as string[] });
  });
});

it.each(['the file itself', 'a folder on the way'])('a data file that a link leads out of the storage is refused: %s', async (which) => {
  const name = which === 'the file itself' ? 'linked' : 'linked_folder';
  await bench.create(name, { schema: { fields: [field('day', parseTypeName('varchar')), field('i', parseTypeName('bigint'))] }, partitionColumns: ['day'] });
  await bench.run(`INSERT INTO bay.${name} VALUES ('a', 1), ('a', 2)`);
  const table = path.join(folder.path, 'lake', name);
  const part = path.join(table, 'day=a');
  const [file] = readdirSync(part).filter((each) => each.endsWith('.parquet'));
  const [from, to] = which === 'the file itself' ? [path.join(part, file!), path.join(folder.path, `${name}.parquet`)] : [part, path.join(folder.path, name)];
  renameSync(from, to);
  symlinkSync(to, from);
  await expect(bench.rows(`SELECT i FROM bay.${name}`)).rejects.toMatchObject({ kind: 'refused', message: expect.stringContaining('leads out of its storage') as string });
  await expect(bench.run(`DELETE FROM bay.${name} WHERE i = 1`)).rejects.toMatchObject({ kind: 'refused' });
});
