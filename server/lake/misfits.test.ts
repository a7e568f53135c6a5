/** Lines that do not fit are counted and shown with their number and the reason, for every kind of text. */
import { writeFileSync } from 'node:fs';
import path from 'node:path';
import { gzipSync } from 'node:zlib';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { parseRuler } from '../../core/folder/column-ruler';
import { fullOptions, type GivenOptions } from '../../core/folder/read-options';
import { FolderTable, MemoryListings } from '../../core/folder/table';
import { TRUE } from '../../core/scan/predicate';
import { parseTypeName } from '../../core/schema/type-names';
import { field } from '../../core/schema/types';
import { LATEST } from '../../core/table/contract';
import { asStorage, storeAt, temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { LocalFiles } from './local-files';
import { misfitsOf } from './misfits';

let engine: LocalEngine;
const folder = temporaryFolder();
beforeAll(async () => {
  engine = await LocalEngine.start();
  writeFileSync(path.join(folder.path, 'a.csv'), 'a|b\n1|2\nx|3\n4\n5|6|7\n8|y\n');
  writeFileSync(path.join(folder.path, 'b.csv'), 'b|a\n2|z\n');
  writeFileSync(path.join(folder.path, 'a.log.gz'), gzipSync('TB-1 12.4\n\nlost\nTB-2 12.x\nTB-2 12.x\n'));
  writeFileSync(path.join(folder.path, 'a.txt'), 'Low Scar    1.5\nOtter Ness  n/a\n');
  writeFileSync(path.join(folder.path, 'a.jsonl'), '{"a": 1, "p": {"q": 1}}\n[1]\n{"a": null}\n{"a": 2, "p": {"q": "x"}}\n');
});
afterAll(folder.remove);

async function misfits(pattern: string, options: GivenOptions, columns: Record<string, string>) {
  const fields = Object.entries(columns).map(([name, type]) => field(name, parseTypeName(type)));
  const store = storeAt(folder.path);
  const snapshot = await new FolderTable(store, '', 't', { pattern, options: fullOptions(options), fields, partitionColumns: [] }, new MemoryListings()).snapshot(LATEST);
  const { some, ...counts } = await misfitsOf({ engine, local: new LocalFiles(path.join(folder.path, '.copies'), 1e9) }, asStorage(store), await snapshot.plan(TRUE));
  return { ...counts, some: some.map(({ path: file, line, why }) => `${file} ${line}: ${why}`) };
}

describe('lines that do not fit', () => {
  it('of delimited text, whatever the order of its columns', async () => {
    expect(await misfits('*.csv', { format: 'csv', delimiter: '|' }, { a: 'bigint', b: 'bigint' })).toEqual({
      count: 5, lines: 6, files: 2, of: 2,
      some: ['a.csv 3: "x" in a is not a bigint', 'a.csv 4: expected 2 fields, found 1', 'a.csv 5: expected 2 fields, found 3', 'a.csv 6: "y" in b is not a bigint', 'b.csv 2: "z" in a is not a bigint'],
    });
  });

  it('of lines by a pattern, packed, each with its own number', async () => {
    const found = await misfits('*.log.gz', { format: 'pattern', pattern: String.raw`(?<buoy>\S+) (?<volts>\S+)`, compression: 'gzip' }, { buoy: 'varchar', volts: 'double' });
    expect(found).toEqual({ count: 3, lines: 4, files: 1, of: 1, some: ['a.log.gz 4: "12.x" in volts is not a double', 'a.log.gz 5: "12.x" in volts is not a double', 'a.log.gz 3: it does not match the pattern'] });
  });

  it('of fixed width', async () => {
    expect((await misfits('a.txt', { format: 'fixed', columns: parseRuler('place 1-12, height 13-17') }, { place: 'varchar', height: 'double' })).some).toEqual(['a.txt 2: "n/a" in height is not a double']);
  });

  it('of JSON lines, in nested values too', async () => {
    expect((await misfits('*.jsonl', { format: 'json' }, { a: 'bigint', p: 'struct(q bigint)' })).some).toEqual(['a.jsonl 2: it is no JSON object', "a.jsonl 4: a value is not of its column's type"]);
  });
});
