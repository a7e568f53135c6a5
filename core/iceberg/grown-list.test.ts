/** Documents of which only what was added to a list is parsed read as whole ones do. */
import { describe, expect, it } from 'vitest';
import { parseGrown } from './grown-list';

const read = (text: string, before?: Parameters<typeof parseGrown>[2]) => parseGrown(text, 'snapshots', before, JSON.parse);
const document = (items: unknown[], more: Record<string, unknown> = {}) => ({ 'format-version': 2, properties: { note: 'not "snapshots": [' }, ...more, snapshots: items, refs: { main: { list: [1] } } });
const SOME = [{ id: 1, summary: { text: 'a ] b \\" , [' } }, { id: 2, list: [[], [3]] }];

describe('a list that grew', () => {
  it.each([['compact', undefined], ['indented', 2]])('is read whole when %s, and only what is new is parsed', (_how, indent) => {
    const first = read(JSON.stringify(document(SOME), null, indent))!;
    expect(first.json).toEqual(document(SOME));
    expect(first.added).toEqual(SOME);
    const parsed: string[] = [];
    const longer = document([...SOME, { id: 3 }], { changed: true });
    const next = parseGrown(JSON.stringify(longer, null, indent), 'snapshots', first.known, (text) => {
      parsed.push(text);
      return JSON.parse(text);
    })!;
    expect(next.json).toEqual(longer);
    expect(next.added).toEqual([{ id: 3 }]);
    expect(parsed.join()).not.toContain('"summary"');
    // And once more, with nothing new.
    expect(read(JSON.stringify(longer, null, indent), next.known)).toMatchObject({ json: longer, added: [] });
  });

  it.each([
    ['lost an item', document([SOME[1]])],
    ['has another item in place of one', document([{ ...SOME[0], id: 9 }, SOME[1]])],
    ['goes on with a longer number', { snapshots: [1, 25] }],
    ['is empty now', document([])],
    ['comes after one of the same name inside', { inner: { snapshots: SOME }, snapshots: [{ id: 7 }] }],
  ])('is never taken for what it was when it %s', (_what, json) => {
    const before = read(JSON.stringify('snapshots' in json && json.snapshots[0] === 1 ? { snapshots: [1, 2] } : document(SOME)))!;
    const text = JSON.stringify(json);
    expect(read(text, before.known)?.json ?? JSON.parse(text)).toEqual(json);
  });

  it('is not found in a document that has none, or ends in the middle', () => {
    expect(read('{"other": []}')).toBeUndefined();
    expect(read('{"snapshots": [{"id": 1}')).toBeUndefined();
    expect(read('{"snapshots": ["open')).toBeUndefined();
  });
});
