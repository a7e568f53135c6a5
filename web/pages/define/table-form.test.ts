/** The form and the SQL of a definition say the same, both ways. */
import { describe, expect, it } from 'vitest';
import { emptyForm, formOf, sqlOf, type TableForm } from './table-form';

const WHOLE: TableForm = {
  namespace: 'refined.north', name: 'odd name', format: 'iceberg', comment: "The buoy's", location: 'tern-bay:made/it',
  columns: [
    { name: 'id', type: 'bigint', required: true, key: true, comment: '' },
    { name: 'place', type: "struct(lat double NOT NULL COMMENT 'north', lon double)", required: false, key: false, comment: 'where it is' },
    { name: 'comment', type: 'varchar[]', required: false, key: false, comment: '' },
  ],
  partitionBy: [{ source: 'id', transform: 'bucket', size: 8 }, { source: 'place.lat', transform: 'identity', size: 16 }], orderBy: ['id', 'place.lon'],
  properties: [{ name: 'write.delete.mode', value: 'merge-on-read' }, { name: 'own name', value: "it's" }], query: '',
};

describe('a definition', () => {
  it('is the same after the way to SQL and back', () => {
    expect(formOf(sqlOf(WHOLE))).toEqual(WHOLE);
    const filled: TableForm = { ...WHOLE, columns: [], query: "SELECT ';' AS a, 1 AS b" };
    expect(formOf(sqlOf(filled))).toEqual(filled);
  });

  it.each<[string, Partial<TableForm>, object]>([
    ['no name', { name: ' ' }, { part: 'name' }],
    ['a column without a name', { columns: [{ name: 'a', type: 'bigint', required: false, key: false, comment: '' }, { name: '', type: 'bigint', required: false, key: false, comment: '' }] }, { part: 'columns', row: 1 }],
    ['a type that is none', { columns: [{ name: 'a', type: 'wibble', required: false, key: false, comment: '' }] }, { part: 'columns', row: 0, message: expect.stringContaining('wibble') }],
    ['nothing in it', { columns: [] }, { part: 'columns' }],
  ])('with %s is told where it is wrong', (_what, change, problem) => {
    expect(() => sqlOf({ ...emptyForm('a'), name: 't', ...change })).toThrow(expect.objectContaining(problem) as Error);
  });

  it('of something else than a table is left to the query editor', () => {
    expect(() => formOf('CREATE VIEW a.v AS SELECT 1')).toThrow(/query editor/);
    expect(() => formOf("CREATE TABLE a.t (x integer) WITH (format = 'csv')")).toThrow(/formats iceberg, delta and parquet/);
  });
});
