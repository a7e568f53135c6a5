import { describe, expect, it } from 'vitest';
import { cutFiles, filePaths, type RowGroup } from './cut';
import { fileNumberSql } from './cut-sql';
import { readFolderWrite } from './folder-write';
import { costsOf, rowsPerFile, sizeModel, treeOf } from './forecast';
import { nameFrom, readNamePattern } from './name-pattern';
import { explainPlan, readFilePlan } from './plan';

const COLUMNS = ['site', 'year', 'id'];
const columnOf = (name: string) => COLUMNS.find((column) => column === name.toLowerCase());
const plan = (options: Record<string, string>) => readFilePlan(options, columnOf)!;
const when = { at: new Date('2026-03-14T06:07:08Z'), id: 'ab12cd' };

describe('a file plan', () => {
  it.each([
    [{ files: 'about 64 MB' }, { goal: { kind: 'size', bytes: 64_000_000 }, mechanism: 'even' }],
    [{ files: 'about 1 MiB', by: 'site', mechanism: 'range' }, { goal: { kind: 'size', bytes: 1_048_576 }, mechanism: 'range' }],
    [{ files: 'at most 5' }, { goal: { kind: 'at-most', files: 5 }, mechanism: 'even' }],
    [{ files: 'at most 5', by: 'SITE, year' }, { mechanism: 'hash', by: ['site', 'year'] }],
    [{ files: 'per key', by: 'site' }, { mechanism: 'key' }],
    [{ by: 'site' }, { goal: { kind: 'size', bytes: 128_000_000 }, mechanism: 'range' }],
    [{ by: 'site, id' }, { mechanism: 'hash' }],
    [{ by: 'site', mechanism: 'even' }, { mechanism: 'even' }],
    [{ sort: 'id desc, site' }, { sort: [{ column: 'id', descending: true }, { column: 'site', descending: false }] }],
  ])('follows from what is said: %j', (options, wanted) => expect(plan(options)).toMatchObject(wanted));

  it.each([
    [{ files: 'some' }, 'says no goal'],
    [{ files: 'at most 0' }, 'At most 1 to'],
    [{ files: 'about 12 B' }, 'make no sense'],
    [{ files: 'per key' }, 'needs the columns of the key'],
    [{ files: 'one', mechanism: 'hash', by: 'site' }, 'nothing to choose a mechanism for'],
    [{ files: 'at most 5', mechanism: 'hash' }, 'needs the columns to go by'],
    [{ files: 'at most 5', mechanism: 'range', by: 'site, year' }, 'cut by one column'],
    [{ by: 'colour' }, 'no column "colour"'],
    [{ sort: 'id sideways' }, 'a comma, or the end'],
  ])('is refused with what is wrong: %j', (options, message) => expect(() => plan(options)).toThrow(message));

  it('is told in words', () => {
    expect(explainPlan(plan({ files: 'at most 5', by: 'site', sort: 'id' }), true)).toEqual([
      'No more than 5 files in each folder.', expect.stringContaining('all rows of one key are in one file'), 'In each file rows are in the order of id.',
    ]);
  });
});

describe('names by pattern', () => {
  const values = { ...when, number: 7, of: 12, key: ['site', 'year'], values: new Map([['site', 'Low/Scar'], ['year', null]]) };
  it.each([
    ['part-{number:4}-of-{of}', 'part-0007-of-12'],
    ['{site}-{date}T{time}-{id}', 'Low%2FScar-2026-03-14T060708-ab12cd'],
    ['{key}', 'Low%2FScar-null'],
    ['year={year}', 'year=__HIVE_DEFAULT_PARTITION__'],
    ['..{site}', '%2E%2ELow%2FScar'],
  ])('%s', (pattern, name) => expect(nameFrom(readNamePattern(pattern, columnOf), values)).toBe(name));

  it.each([['{colour}', 'neither a column'], ['{site', 'by itself'], ['{number:99}', 'digits'], ['', 'empty']])('%s is refused', (pattern, message) => expect(() => readNamePattern(pattern, columnOf)).toThrow(message));

  it('keeps values apart that only odd letters tell apart', () => {
    const texts = ['a/b', 'a%2Fb', 'a b', '', '.', '..', 'null%', 'null'];
    const names = texts.map((site) => nameFrom(readNamePattern('{site}', columnOf), { ...values, values: new Map([['site', site]]) }));
    expect(new Set(names).size).toBe(texts.length);
    for (const name of names) expect(name).not.toMatch(/^\.|[/\\]/);
  });
});

describe('a write to a folder', () => {
  it.each([
    [{ colour: 'red' }, 'no option "colour"'],
    [{ names: '{site}' }, 'may have many values'],
    [{ files: 'at most 3', names: 'rows' }, 'Put {number}', true],
    [{ folders: 'x/{number}' }, 'cannot stand in the path'],
    [{ leave_out: 'site, year, id' }, 'No column would be left'],
    [{ format: 'csv', delimiter: '"' }, 'one character'],
    [{ format: 'avro', header: 'true' }, 'is for CSV'],
    [{ format: 'csv', compression: 'zstd' }, 'none, gzip'],
    [{ existing: 'overwrite' }, 'refuse, add, clear'],
  ])('is refused with what is wrong: %j', (options: Record<string, string>, message, isHint = false) => {
    const failing = () => readFolderWrite(options, COLUMNS);
    if (isHint) expect(failing).toThrow(expect.objectContaining({ details: { hint: expect.stringContaining(message as string) } }));
    else expect(failing).toThrow(message as string);
  });

  it('gives files that come beside others a name of their own', () => {
    expect(pathsOf({ files: 'one', existing: 'add' }, [{ values: [], file: null, rows: 3 }])).toEqual(['rows-ab12cd.parquet']);
  });
});

function pathsOf(options: Record<string, string>, groups: RowGroup[], figures = { rowsPerFile: 10, files: 3 }): string[] {
  const write = readFolderWrite(options, COLUMNS);
  const folderValues = new Set([...(options.folders ?? '').matchAll(/\{(\w+)\}/g)].map(([, name]) => name)).size;
  return filePaths(write, groups, cutFiles(write.files, groups, folderValues, figures), `.${options.format ?? 'parquet'}`, when);
}

describe('files from groups of rows', () => {
  it('counts rows off evenly in each folder, and loses none', () => {
    const groups = [{ values: ['a'], file: null, rows: 25 }, { values: ['b'], file: null, rows: 4 }];
    const files = cutFiles(plan({ files: 'about 1 MB' }), groups, 1, { rowsPerFile: 10, files: 1 });
    expect(files).toEqual([
      { group: 0, number: 1, of: 3, from: 0, rows: 8 }, { group: 0, number: 2, of: 3, from: 8, rows: 9 }, { group: 0, number: 3, of: 3, from: 17, rows: 8 }, { group: 1, number: 1, of: 1, from: 0, rows: 4 },
    ]);
  });

  it('makes no more files than rows, and of no rows none', () => {
    expect(cutFiles(plan({ files: 'at most 5' }), [{ values: [], file: null, rows: 2 }], 0, { rowsPerFile: 0, files: 5 })).toHaveLength(2);
    expect(cutFiles(plan({ files: 'at most 5' }), [{ values: [], file: null, rows: 0 }], 0, { rowsPerFile: 0, files: 5 })).toEqual([]);
  });

  it('numbers hashed files as the hash does, and names those of a key by it', () => {
    expect(pathsOf({ files: 'at most 3', by: 'site' }, [{ values: [], file: 1, rows: 5 }, { values: [], file: 3, rows: 5 }])).toEqual(['part-00001.parquet', 'part-00003.parquet']);
    expect(pathsOf({ files: 'per key', by: 'site', folders: '{year}' }, [{ values: ['2025', 'a'], file: null, rows: 1 }, { values: ['2026', 'a'], file: null, rows: 1 }, { values: ['2026', null], file: null, rows: 1 }])).toEqual(['2025/a.parquet', '2026/a.parquet', '2026/null.parquet']);
  });

  it('refuses two files of one name, also where only the case differs', () => {
    expect(() => pathsOf({ files: 'per key', by: 'site' }, [{ values: ['Low'], file: null, rows: 1 }, { values: ['low'], file: null, rows: 1 }])).toThrow('Two files would have the name low.parquet (and Low.parquet)');
  });
});

it('a range is found by halves, and rows without a value are in the last', () => {
  const sql = fileNumberSql(plan({ files: 'at most 3', by: 'id', mechanism: 'range' }), 3, { bounds: ['10', "2'0"], type: 'bigint' });
  expect(sql).toBe(`CASE WHEN "id" < CAST('2''0' AS bigint) THEN CASE WHEN "id" < CAST('10' AS bigint) THEN 1 ELSE 2 END ELSE 3 END`);
});

describe('a forecast', () => {
  it('tells what each file costs from what each row does', () => {
    const model = sizeModel({ rows: 1000, bytes: 11_000 }, { rows: 250, bytes: 3500 });
    expect(model).toEqual({ perFile: 1000, perRow: 10 });
    expect(rowsPerFile(model, 51_000)).toBe(5000);
    expect(sizeModel({ rows: 1000, bytes: 11_000 }, { rows: 250, bytes: 12_000 })).toEqual({ perFile: 0, perRow: 11 });
  });

  it('adds files up to folders, and names the largest', () => {
    const files = [90, 5, 5].map((rows, index) => ({ group: index, from: 0, rows, number: 1, of: 1 }));
    const tree = treeOf(['a/x', 'a/y', 'b/z'], files, { perFile: 10, perRow: 1 });
    expect(tree).toMatchObject({ rows: 100, files: 3, bytes: 130, folderCount: 2, largest: { path: 'a/x', rows: 90, timesMean: 2.7 } });
    expect(tree.folders.map(({ path, rows, fileCount }) => [path, rows, fileCount])).toEqual([['a', 95, 2], ['b', 5, 1]]);
  });

  it('says that rows go through files where memory does not hold them', () => {
    const sample = { rows: 1000, orderMillis: 10, writeMillis: 5, rowBytes: 100 };
    expect(costsOf(1_000_000, 50, sample, true, 1e6)).toMatchObject([{ what: 'read', millis: 50 }, { what: 'order', memoryBytes: 1e6, diskBytes: 1e8 }, { what: 'write', millis: 5000 }]);
    expect(costsOf(1000, 50, sample, true, 1e6)[1]).toMatchObject({ millis: 10, memoryBytes: 1e5, diskBytes: 0 });
  });
});
