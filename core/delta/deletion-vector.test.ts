/** Examples: Delta transaction log protocol, "Deletion Vectors"; ZeroMQ RFC 32; Roaring's own library as the other side. */
import fc from 'fast-check';
import { RoaringBitmap32 } from 'roaring-wasm';
import { describe, expect, it } from 'vitest';
import { LakeError } from '../errors';
import { MemoryStore } from '../storage/memory-store';
import { crc32 } from '../values/crc32';
import { readRoaring, writeRoaring } from '../values/roaring';
import { decodeVector, encodeVector, unionOf, without } from '../values/row-positions';
import { loadVector, packVectors, vectorPath, type VectorDescriptor } from './deletion-vector';
import { decodeZ85, encodeZ85 } from './z85';

const UUID = 'd2c639aa-8816-431a-aaf6-d3fe2512ff61';
const rowSets = fc.oneof(
  fc.uniqueArray(fc.nat(200), { maxLength: 60 }),
  fc.uniqueArray(fc.nat(300_000), { maxLength: 200 }),
  fc.tuple(fc.nat(70_000), fc.integer({ min: 4000, max: 9000 })).map(([from, count]) => Array.from({ length: count }, (_, i) => from + i)),
).map((rows) => rows.sort((a, b) => a - b));

describe('base85', () => {
  it('gives the specification\'s own example', () => {
    expect(encodeZ85(Uint8Array.of(0x86, 0x4f, 0xd2, 0x6f, 0xb5, 0x59, 0xf7, 0x5b))).toBe('HelloWorld');
    expect([...decodeZ85('HelloWorld')]).toEqual([0x86, 0x4f, 0xd2, 0x6f, 0xb5, 0x59, 0xf7, 0x5b]);
  });

  it.each([['abcd', '4 characters'], ['ab~de', '"~" is no character'], ['#####', 'more than 32 bits']])('refuses %s', (text, words) => {
    expect(() => decodeZ85(text)).toThrow(words);
  });
});

describe('a deletion vector', () => {
  it('finds its file by the protocol\'s example', () => {
    expect(vectorPath({ storageType: 'u', pathOrInlineDv: 'ab^-aqEH.-t@S}K{vb[*k^', offset: 4, sizeInBytes: 40, cardinality: 6 })).toBe(`ab/deletion_vector_${UUID}.bin`);
  });

  it('reads the older form, in which the protocol\'s inline example is written', () => {
    const bytes = decodeZ85('wi5b=000010000siXQKl0rr91000f55c8Xg0@@D72lkbi5=-{L').subarray(0, 40);
    expect([...decodeVector(bytes)]).toEqual([3, 4, 7, 11, 18, 29]);
  });

  it('has the check value of CRC-32', () => {
    expect(crc32(new TextEncoder().encode('123456789'))).toBe(0xcbf43926);
  });

  it('writes bitmaps that Roaring\'s own library reads, and reads what that writes, runs included', () => {
    fc.assert(fc.property(rowSets, (rows) => {
      const theirs = RoaringBitmap32.deserialize(writeRoaring(rows), 'portable');
      expect(theirs.toArray()).toEqual(rows);
      theirs.runOptimize();
      const got: number[] = [];
      const bytes = Uint8Array.from(theirs.serialize('portable'));
      expect(readRoaring(bytes, 0, (value) => got.push(value))).toBe(bytes.length);
      expect(got).toEqual(rows);
      theirs.dispose();
    }), { seed: 4, numRuns: 300 });
  });

  it('comes back from a file of several, each with its checksum', async () => {
    await fc.assert(fc.asyncProperty(fc.array(rowSets, { minLength: 1, maxLength: 4 }), async (lists) => {
      const store = new MemoryStore();
      const { bytes, name, vectors } = packVectors(lists, UUID);
      await store.put(`t/${name}`, bytes);
      for (const [index, vector] of vectors.entries()) expect([...(await loadVector(store, vector, (path) => `t/${path}`))]).toEqual(lists[index]);
    }), { seed: 5, numRuns: 100 });
  });

  it('says which file is damaged, and how', async () => {
    const store = new MemoryStore();
    const { bytes, name, vectors } = packVectors([[1, 2, 3]], UUID);
    const load = async (change: (bytes: Uint8Array) => Uint8Array, more: Partial<VectorDescriptor> = {}) => {
      await store.put(name, change(Uint8Array.from(bytes)));
      return loadVector(store, { ...vectors[0]!, ...more }, (path) => path);
    };
    const flipped = (all: Uint8Array) => all.map((byte, index) => (index === 20 ? byte ^ 1 : byte));
    await expect(load(flipped)).rejects.toMatchObject({ kind: 'bad-file', message: expect.stringContaining('checksum'), details: { path: name } });
    await expect(load((all) => all.slice(0, 20))).rejects.toThrow('the file ends before');
    await expect(load((all) => all, { cardinality: 4 })).rejects.toThrow('deletes 3 rows, the log says 4');
    await expect(load((all) => all, { sizeInBytes: 30 })).rejects.toThrow('the log says 30');
    await store.delete(name);
    await expect(loadVector(store, vectors[0]!, (path) => path)).rejects.toMatchObject({ kind: 'not-found' });
  });

  it('fails only with errors of its own, whatever the bytes', () => {
    const valid = fc.tuple(rowSets, fc.array(fc.tuple(fc.nat(400), fc.nat(255)), { maxLength: 6 }), fc.nat(400)).map(([rows, changes, cut]) => {
      const bytes = encodeVector(rows);
      for (const [at, value] of changes) if (at < bytes.length) bytes[at] = value;
      return cut < 20 ? bytes.subarray(0, cut) : bytes;
    });
    fc.assert(fc.property(fc.oneof(valid, fc.uint8Array({ maxLength: 60 })), (bytes) => {
      try {
        decodeVector(bytes);
      } catch (error) {
        if (!(error instanceof LakeError)) throw error;
      }
    }), { seed: 6, numRuns: 10_000 });
  });

  it('joins and splits lists of rows', () => {
    expect([...unionOf(Uint32Array.of(1, 5), [3, 5])]).toEqual([1, 3, 5]);
    expect([...without(Uint32Array.of(1, 3, 5), Uint32Array.of(3))]).toEqual([1, 5]);
  });
});
