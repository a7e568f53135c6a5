import { describe, expect, it } from 'vitest';
import { LakeError } from '../../core/errors';
import { DiskStore } from '../storage/disk-store';
import { asStorage, temporaryFolder } from '../testing/lake-tools';
import { removeUnder } from './account';

describe('removing a folder that the storage guards', () => {
  it('removes what it can and says what is left', async () => {
    const folder = temporaryFolder();
    const store = new DiskStore(folder.path);
    for (const name of ['a', 'b', 'c']) await store.put(`t/${name}`, new TextEncoder().encode(name));
    const files = await store.list('t');
    const guarded = Object.assign(new DiskStore(folder.path), {
      delete: (path: string) => (path === 't/b' ? Promise.reject(new LakeError('refused', 'Access denied.')) : store.delete(path)),
    });
    await expect(removeUnder(asStorage(guarded), ['t'], files)).rejects.toMatchObject({ kind: 'refused', message: '1 of 3 files could not be removed; the first is t/b (Access denied.).' });
    expect((await store.list('t')).map(({ path }) => path)).toEqual(['t/b']);
    folder.remove();
  });
});
