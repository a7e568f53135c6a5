import { createHash } from 'node:crypto';
import { mkdirSync, readdirSync, symlinkSync, utimesSync, writeFileSync } from 'node:fs';
import { hostname } from 'node:os';
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

  it.each([['read', (store: DiskStore) => store.read('out/secret')], ['list', (store: DiskStore) => store.listFolder('out')], ['put', (store: DiskStore) => store.put('out/x', toBytes('x'))], ['put-if-absent', (store: DiskStore) => store.putIfAbsent('out/x', toBytes('x'))], ['delete', (store: DiskStore) => store.delete('out/secret')], ['fetch', (store: DiskStore) => store.fetchFile('out/secret', path.join(folder.path, 'fetched'))], ['put below a new folder', (store: DiskStore) => store.put('out/new/deep/x', toBytes('x'))], ['make a folder', (store: DiskStore) => store.makeFolder('out/new')], ['open in place', (store: DiskStore) => store.localPaths(['out/secret'])]])('does not follow a link out of it: %s', async (_, act) => {
    const outside = path.join(folder.path, 'outside');
    mkdirSync(outside, { recursive: true });
    writeFileSync(path.join(outside, 'secret'), 'x');
    const store = fresh();
    symlinkSync(outside, path.join(store.root, 'out'));
    await expect(act(store)).rejects.toMatchObject({ kind: 'refused' });
    expect(readdirSync(outside)).toEqual(['secret']);
  });

  it('gives a link that stays inside, a folder given as a file, and a name beyond the file system as what they are', async () => {
    const store = fresh();
    await store.put('a/b', toBytes('b'));
    symlinkSync(path.join(store.root, 'a/b'), path.join(store.root, 'inner'));
    expect([...(await store.localPaths(['inner', 'a/b', 'nowhere'])).values()]).toEqual([path.join(store.root, 'a/b'), path.join(store.root, 'a/b'), path.join(store.root, 'nowhere')]);
    await expect(store.read('a')).rejects.toMatchObject({ kind: 'bad-request', message: expect.stringContaining('is a folder') as string });
    await expect(store.put('a/b/c', toBytes('x'))).rejects.toMatchObject({ kind: expect.stringMatching(/conflict|not-found/) as string });
    for (const act of [() => store.read('x'.repeat(300)), () => store.put('x'.repeat(300), toBytes('x')), () => store.put(`${'x'.repeat(300)}/y`, toBytes('x'))]) await expect(act()).rejects.toMatchObject({ kind: 'bad-request', message: expect.stringContaining('longer than') as string });
  });

  it.each(['../x', 'a/../../x', 'a\\x'])('refuses the path %s', async (bad) => {
    await expect(fresh().read(bad)).rejects.toMatchObject({ kind: 'bad-request' });
    await expect(fresh().put(bad, toBytes('x'))).rejects.toMatchObject({ kind: 'bad-request' });
  });

  it('shows nothing of a file that is being written, and clears away what a killed writer left', async () => {
    const store = fresh();
    const machine = createHash('sha1').update(hostname()).digest('hex').slice(0, 8);
    const [ended, otherMachine, own] = [`.0123456789ab.${machine}.999999999.1.tmp`, '.0123456789ab.00000000.999999999.1.tmp', `.0123456789ab.${machine}.${process.pid}.1.tmp`];
    for (const name of [ended, otherMachine, own]) writeFileSync(path.join(store.root, name), 'half');
    await store.put('whole', toBytes('whole'));
    expect((await store.list('')).map((file) => file.path)).toEqual(['whole']);
    expect(readdirSync(store.root).sort()).toEqual([otherMachine, own, 'whole'].sort());
    // Of another machine, or from before names told the process: by age.
    const yesterday = new Date(Date.now() - 25 * 3_600_000);
    utimesSync(path.join(store.root, otherMachine), yesterday, yesterday);
    await store.listFolder('');
    expect(readdirSync(store.root).sort()).toEqual([own, 'whole'].sort());
  });
});
