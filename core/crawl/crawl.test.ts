import { describe, expect, it } from 'vitest';
import { parseTypeName, typeName } from '../schema/type-names';
import { parsePattern } from '../folder/path-pattern';
import { groupFiles } from './group';
import { inferColumns, inferPartitionType } from './infer';
import { kindByBytes } from './kinds';
import { RUNS } from '../text/records';
import { layoutOf } from '../text/structure';
import { tableName } from './names';

const listed = (...paths: string[]) => paths.map((path) => ({ path, bytes: path.endsWith('empty') ? 0 : 10, modified: 0 }));
const found = async (...paths: string[]) => (await groupFiles(listed(...paths), 'lake')).map((each) => [each.root, each.kind, each.kind === 'files' ? each.pattern : each.files.length]);

describe('grouping files into tables', () => {
  it('makes one table of partition folders, named or bare', async () => {
    expect(await found('lake/s/day=2026-01-01/a.parquet', 'lake/s/day=2026-01-02/a.parquet', 'lake/logs/2026/03/14/TB-1.log.gz', 'lake/logs/2026/04/01/TB-1.log.gz')).toEqual([
      ['lake/logs', 'files', '{year}/{month}/{day}/*'], ['lake/s', 'files', 'day={day}/*'],
    ]);
  });

  it('knows a day by the year and month above the folder that is crawled', async () => {
    const [candidate] = await groupFiles(listed('lake/logs/2026/03/14/a.log', 'lake/logs/2026/03/15/a.log'), 'lake/logs/2026/03');
    expect(candidate).toMatchObject({ root: 'lake/logs/2026/03', pattern: '{day}/*' });
  });

  it('makes a table of each folder where folders are no partitions', async () => {
    expect(await found('lake/a/x.csv', 'lake/b/y.csv', 'lake/b/z.csv')).toEqual([['lake/a', 'files', '*'], ['lake/b', 'files', '*']]);
  });

  it('knows Delta and Iceberg by their metadata, and keeps their files out of everything else', async () => {
    expect(await found('lake/d/_delta_log/00000000000000000000.json', 'lake/d/part-0.parquet', 'lake/d/day=1/part-1.parquet', 'lake/i/metadata/v1.metadata.json', 'lake/i/data/a.parquet', 'lake/plain.csv')).toEqual([
      ['lake', 'files', '*'], ['lake/d', 'delta', 3], ['lake/i', 'iceberg', 2],
    ]);
  });

  it('leaves out what is hidden, empty or only lies beside, and makes a table of each kind', async () => {
    expect(await found('lake/m/a.csv', 'lake/m/b.json', 'lake/m/c.csv', 'lake/m/photo.png', 'lake/m/_notes.txt', 'lake/m/README.md', 'lake/m/a.csv.md5', 'lake/m/empty')).toEqual([['lake/m', 'files', '*.csv'], ['lake/m', 'files', 'b.json']]);
  });

  it.each([
    ['notes and pictures beside', ['lake/a.csv', 'lake/b.csv', 'lake/README.md', 'lake/x.png'], [['*.csv', 2]]],
    ['a checksum of each', ['lake/a.csv', 'lake/b.csv.gz', 'lake/a.csv.md5'], [['a.csv', 1], ['b.csv.gz', 1]]],
    ['packed and not', ['lake/a.csv', 'lake/b.csv.gz', 'lake/x.png'], [['*.csv*', 2]]],
    ['endings in two writings', ['lake/a.CSV', 'lake/b.csv', 'lake/x.png'], [['a.CSV', 1], ['b.csv', 1]]],
    ['no ending', ['lake/a', 'lake/b', 'lake/c.csv', 'lake/authors.csv'], [['a', 1], ['b', 1], ['*.csv', 2]]],
  ])('gives each table a pattern that takes in its files and no other: %s', async (_, paths, expected) => {
    const candidates = await groupFiles(listed(...paths), 'lake');
    expect(candidates.map((each) => [each.kind === 'files' && each.pattern, each.files.length])).toEqual(expected);
    for (const each of candidates) {
      const pattern = parsePattern(each.kind === 'files' ? each.pattern : '');
      expect(paths.filter((path) => pattern.match(path.slice('lake/'.length))).sort()).toEqual(each.files.map((file) => file.path).sort());
    }
  });

  it('does not go through all tables for every file', async () => {
    const paths = Array.from({ length: 3000 }, (_, n) => [`lake/t${n}/_delta_log/00000000000000000000.json`, `lake/t${n}/a.parquet`, `lake/t${n}/inner/_delta_log/00000000000000000000.json`]).flat();
    const grouped = await groupFiles(listed(...paths), 'lake');
    expect(grouped).toHaveLength(3000);
    expect(grouped.every((each) => each.files.length === 3)).toBe(true);
  });
});

describe('inferring columns', () => {
  const facts = (path: string, columns: Record<string, string>) => ({ path, columns: Object.entries(columns).map(([name, type]) => ({ name, type: parseTypeName(type) })) });

  it('takes every column of every file, widened, in the order they are met', () => {
    const { fields, partial } = inferColumns([facts('b', { id: 'bigint', x: 'double' }), facts('a', { id: 'integer' })]);
    expect(fields.map(({ name, type }) => `${name} ${typeName(type)}`)).toEqual(['id bigint', 'x double']);
    expect(partial).toEqual([{ column: 'x', presentIn: 1, of: 2, firstIn: 'b' }]);
  });

  it('names a clash with its files, and falls back to text', () => {
    const { fields, clashes } = inferColumns([facts('a', { h: 'double' }), facts('b', { h: 'varchar' }), facts('c', { H: 'double' })]);
    expect(fields.map(({ type }) => typeName(type))).toEqual(['varchar']);
    expect(clashes).toEqual([{ column: 'h', types: [{ type: 'double', files: 2, example: 'a' }, { type: 'varchar', files: 1, example: 'b' }] }]);
  });

  it.each([[['2026-01-01', null], 'date'], [['01', '12'], 'integer'], [['1', '10'], 'integer'], [['007', '12'], 'varchar'], [['99999999999'], 'bigint'], [['2026-01-01', 'x'], 'varchar'], [[null], 'varchar']])('types the path texts %j as %s', (texts, type) => {
    expect(typeName(inferPartitionType(texts))).toBe(type);
  });
});

describe('sniffing text', () => {
  it.each([['a|b,c|d\n1|2,2|3', '|'], ['a;b\n1,5;2', ';'], ['a,"x|y"\nb,"z|w"', ','], ['2026 TB-1 WAKE\n2026 TB-2 FIX', ' '], ['2026  TB-1 WAKE\n2026 TB-2   FIX', RUNS], ['one\ntwo', undefined], ['', undefined]])('%j is cut at %j', (text, delimiter) => {
    expect(layoutOf({ text, isCut: false, isNamedSo: false })?.layout.dialect.delimiter).toBe(delimiter);
  });

  it.each([['x', 'PAR1....', 'parquet'], ['x.csv', 'a,b', 'csv'], ['notes', '{"a":1}', 'json'], ['x.csv', '{"a":1}', 'json'], ['x.json', 'a,b', 'text'], ['x.docx', 'PK\u0003\u0004', 'document'], ['notes', '<?xml version="1.0"?>', 'xml'], ['blob', 'a\0b', 'other'], ['readme', 'hello', 'text']])('%s beginning with %j is %s', (path, head, kind) => {
    expect(kindByBytes(path, new TextEncoder().encode(head))).toBe(kind);
  });
});

describe('proposing names', () => {
  it.each([['bottle-sheets', 'bottle_sheets'], ['2026 Übersicht.csv.gz', 't_2026_übersicht'], ['"; drop--', 'drop'], ['---', 'table']])('%s becomes %s', (step, name) => {
    expect(tableName(step)).toBe(name);
  });
});
