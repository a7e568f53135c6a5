/** Tables over files that hold field ids use those ids, or are refused. */
import { describe, expect, it } from 'vitest';
import { field } from '../schema/types';
import { parseTypeName } from '../schema/type-names';
import { withIdsOfFiles } from './ids-in-files';
import type { FileColumn } from './ports';

const column = (name: string, id?: number, children: FileColumn[] = []): FileColumn => ({ name, ...(id === undefined ? {} : { id }), children });
const list = (name: string, id: number, element?: number) => column(name, id, [column('list', undefined, [column('element', element)])]);
const FIELDS = [field('n', 'long'), field('tags', parseTypeName('varchar[]')), field('m', parseTypeName('map(varchar, integer)')), field('later', 'int')];
const map = column('m', 5, [column('key_value', undefined, [column('key', 6), column('value', 7)])]);

describe('ids of files', () => {
  it('become the ids of the table, and what no file has gets one above them all', () => {
    const { fields, lastId, conflicts } = withIdsOfFiles(FIELDS, [[column('n', 3), list('tags', 2, 4), map, column('dropped', 9)], [column('n', 3)], [column('n')]])!;
    expect(conflicts).toEqual([]);
    expect(fields.map(({ id }) => id)).toEqual([3, 2, 5, 10]);
    expect(fields[1]!.type).toMatchObject({ element: { id: 4 } });
    expect(fields[2]!.type).toMatchObject({ key: { id: 6 }, value: { id: 7 } });
    expect(lastId).toBe(10);
  });

  it('do not matter where no file has any', () => {
    expect(withIdsOfFiles(FIELDS, [[column('n')], []])).toBeUndefined();
  });

  it.each<[string, FileColumn[][], { column: string; why: RegExp }]>([
    ['differ from file to file', [[column('n', 1)], [column('n', 2)]], { column: 'n', why: /1 or 2/ }],
    ['are given to two columns', [[column('n', 1), column('later', 1)]], { column: 'later', why: /the id 1, as n has/ }],
    ['are missing inside a column', [[column('n', 1), list('tags', 2)]], { column: 'tags.element', why: /have none for it/ }],
  ])('forbid the table where they %s', (_what, shapes, { column: name, why }) => {
    expect(withIdsOfFiles(FIELDS, shapes)!.conflicts).toEqual([{ column: name, why: expect.stringMatching(why) }]);
  });
});
