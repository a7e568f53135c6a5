import { mkdirSync, readdirSync, symlinkSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { afterAll, describe, expect, it } from 'vitest';
import { toBytes } from '../../core/storage/object-store';
import { storeContract } from '../../core/testing/store-contract';
import { temporaryFolder } from '../testing/lake-tools';
import { DiskStore } from './disk-store';

const folder = temporaryFolder();
afterAll(folder.remove);
let made = 0;
function fresh(): DiskStore {
  const root = path.join(folder.path, `store ${made++}`);
  mkdirSync(root);
  return new DiskStore(root);
}

describe('a local folder', () => {
  storeContract(async () => fresh());

  it.each([['read', (store: DiskStore) => store.read('out/secret')], ['list', (store: DiskStore) => store.listFolder('out')], ['put', (store: DiskStore) => store.put('out/x', toBytes('x'))], ['put-if-absent', (store: DiskStore) => store.putIfAbsent('out/x', toBytes('x'))], ['delete', (store: DiskStore) => store.delete('out/secret')]])('does not follow a link out of it: %s', async (_, act) => {
    const outside = path.join(folder.path, 'outside');
    mkdirSync(outside, { recursive: true });
    writeFileSync(path.join(outside, 'secret'), 'x');
    const store = fresh();
    symlinkSync(outside, path.join(store.root, 'out'));
    await expect(act(store)).rejects.toMatchObject({ kind: 'refused' });
    expect(readdirSync(outside)).toEqual(['secret']);
  });

  it.each(['../x', 'a/../../x', 'a\\x'])('refuses the path %s', async (bad) => {
    await expect(fresh().read(bad)).rejects.toMatchObject({ kind: 'bad-request' });
    await expect(fresh().put(bad, toBytes('x'))).rejects.toMatchObject({ kind: 'bad-request' });
  });

  it('shows nothing of a file that is being written, or that a killed writer left', async () => {
    const store = fresh();
    writeFileSync(path.join(store.root, '.0123456789ab.77.1.tmp'), 'half');
    await store.put('whole', toBytes('whole'));
    expect((await store.list('')).map((file) => file.path)).toEqual(['whole']);
    expect(readdirSync(store.root).length).toBe(2);
  });
});
