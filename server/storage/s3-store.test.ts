/** The S3 adapter against the stand-in: the stores' contract, with faults too, and what a person is told when something is missing. */
import { randomBytes } from 'node:crypto';
import { readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { storeContract } from '../../core/testing/store-contract';
import { toBytes, toText } from '../../core/storage/object-store';
import { ObjectStoreStandIn } from '../standins/object-store';
import { temporaryFolder } from '../testing/lake-tools';
import { S3Store, type S3Settings } from './s3-store';

const folder = temporaryFolder();
const full = { accessKeyId: 'keeper', secretAccessKey: 'kept', rights: ['list', 'read', 'write', 'delete'] as const };
const reader = { accessKeyId: 'reader', secretAccessKey: 'read', rights: ['list', 'read'] as const };
const standIn = new ObjectStoreStandIn(path.join(folder.path, 'store'), [full, reader]);
let endpoint: string;
let buckets = 0;

beforeAll(async () => {
  endpoint = await standIn.listen(0);
});
afterEach(() => {
  standIn.faults = {};
});
afterAll(async () => {
  await standIn.close();
  folder.remove();
});

const settings = (more: Partial<S3Settings> = {}): S3Settings => ({ endpoint, region: 'bay-1', bucket: 'bay', prefix: 'lake/one', addressing: 'path', ...more });
async function freshStore(keys: { accessKeyId: string; secretAccessKey: string } = full): Promise<S3Store> {
  const bucket = `bay-${++buckets}`;
  standIn.addBucket(bucket);
  return new S3Store(settings({ bucket }), () => keys);
}

describe('an object store', () => storeContract(() => freshStore()));

describe('an object store that is slow, busy, broken and cut off', () => {
  const faulty = async () => {
    const store = await freshStore();
    standIn.faults = { delayMs: 2, throttleEvery: 7, failEvery: 11, loseAnswerEvery: 5, cutEvery: 3 };
    return store;
  };
  storeContract(faulty);

  it('fetches a large file whole, taking it up where it broke off', async () => {
    const store = await freshStore();
    const bytes = randomBytes(20_000_000);
    const [up, down] = ['up', 'down'].map((name) => path.join(folder.path, name)) as [string, string];
    writeFileSync(up, bytes);
    await store.putFile('big', up);
    standIn.faults = { cutEvery: 2 };
    await store.fetchFile('big', down);
    expect(readFileSync(down).equals(bytes)).toBe(true);
  });
});

describe('listing', () => {
  it('goes through every page, and leaves markers of empty folders out', async () => {
    const store = await freshStore();
    await store.makeFolder('t');
    for (let start = 0; start < 1100; start += 50) await Promise.all(Array.from({ length: 50 }, (_, n) => store.put(`t/${String(start + n).padStart(4, '0')}`, toBytes('x'))));
    expect((await store.list('t')).length).toBe(1100);
    await expect(store.list('t', AbortSignal.abort())).rejects.toMatchObject({ name: 'AbortError' });
    expect((await store.listFolder('')).folders).toEqual(['t']);
  });
});

describe('what is missing is named', () => {
  it.each([
    ['a right', reader, {}, 'The keys may not write in the bucket "bay-x": the right s3:PutObject is missing.'],
    ['a secret that is wrong', { ...full, secretAccessKey: 'no' }, {}, 'does not accept the keys (SignatureDoesNotMatch)'],
    ['keys that are unknown', { accessKeyId: 'who', secretAccessKey: 'no' }, {}, 'does not accept the keys (InvalidAccessKeyId)'],
    ['a bucket', full, { bucket: 'none' }, 'There is no bucket "none"'],
    ['the store', full, { endpoint: 'http://127.0.0.1:9' }, 'does not answer (ECONNREFUSED)'],
  ])('%s', async (_, keys, more, message) => {
    standIn.addBucket('bay-x');
    const store = new S3Store(settings({ bucket: 'bay-x', ...more }), () => keys);
    await expect(store.put('a', toBytes('a'))).rejects.toThrow(message);
  });
});

it('moves a file and takes an empty folder away', async () => {
  const store = await freshStore();
  await store.makeFolder('old');
  await store.put('old/ä b.txt', toBytes('text'));
  await store.move('old/ä b.txt', 'new/c.txt');
  await store.removeFolder('old');
  expect(toText(await store.read('new/c.txt'))).toBe('text');
  expect([await store.hasFolder('old'), await store.hasFolder('new')]).toEqual([false, true]);
});
