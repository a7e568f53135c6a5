/** What every object store must do; each adapter's test runs these. */
import { expect, it } from 'vitest';
import { toBytes, toText, type ObjectStore } from '../storage/object-store';

export function storeContract(make: () => Promise<ObjectStore>): void {
  it('gives back what was put, whole or in part', async () => {
    const store = await make();
    await store.put('a/b c/größe.txt', toBytes('0123456789'));
    expect(toText(await store.read('a/b c/größe.txt'))).toBe('0123456789');
    expect(toText(await store.read('a/b c/größe.txt', { start: 2, end: 5 }))).toBe('234');
    expect(toText(await store.read('a/b c/größe.txt', { start: 8, end: 99 }))).toBe('89');
    expect(await store.head('a/b c/größe.txt')).toMatchObject({ path: 'a/b c/größe.txt', bytes: 10 });
  });

  it('puts over what is there, but puts-if-absent only once', async () => {
    const store = await make();
    expect(await store.putIfAbsent('x', toBytes('first'))).toBe(true);
    expect(await store.putIfAbsent('x', toBytes('second'))).toBe(false);
    expect(toText(await store.read('x'))).toBe('first');
    await store.put('x', toBytes('third'));
    expect(toText(await store.read('x'))).toBe('third');
  });

  it('lets one of many put-if-absents win, whose bytes stay', async () => {
    const store = await make();
    const won = await Promise.all(Array.from({ length: 8 }, async (_, n) => ((await store.putIfAbsent('race', toBytes(`w${n}`.repeat(1000)))) ? n : undefined)));
    const winners = won.filter((n) => n !== undefined);
    expect(winners.length).toBe(1);
    expect(toText(await store.read('race'))).toBe(`w${winners[0]}`.repeat(1000));
  });

  it('lists everything below a folder, and one level of it', async () => {
    const store = await make();
    for (const path of ['t/a', 't/b/c', 't/b/d', 'tt/x', 'z']) await store.put(path, toBytes(path));
    expect((await store.list('t')).map((file) => file.path).sort()).toEqual(['t/a', 't/b/c', 't/b/d']);
    const page = await store.listFolder('t');
    expect([page.folders, page.files.map((file) => file.path)]).toEqual([['b'], ['t/a']]);
    expect((await store.listFolder('')).folders).toEqual(['t', 'tt']);
    expect([await store.list('none'), (await store.listFolder('none')).files]).toEqual([[], []]);
  });

  it('says which file there is not', async () => {
    const store = await make();
    await expect(store.read('no/such')).rejects.toMatchObject({ kind: 'not-found', details: { path: 'no/such' } });
    expect(await store.head('no/such')).toBeUndefined();
    await store.delete('no/such');
  });

  it('deletes one file', async () => {
    const store = await make();
    await store.put('d/a', toBytes('a'));
    await store.put('d/b', toBytes('b'));
    await store.delete('d/a');
    expect((await store.list('d')).map((file) => file.path)).toEqual(['d/b']);
  });
}
