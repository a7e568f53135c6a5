import { describe, expect, it } from 'vitest';
import { storeContract } from '../testing/store-contract';
import { MemoryStore } from './memory-store';
import { isHidden, joinPath, normalPath } from './paths';

describe('the store in memory', () => storeContract(async () => new MemoryStore()));

describe('paths', () => {
  it.each([['/a//b/', 'a/b'], ['', ''], ['a b/ü', 'a b/ü']])('%j is %j', (path, normal) => {
    expect(normalPath(path)).toBe(normal);
  });

  it.each(['..', 'a/../b', 'a/./b', 'a\\..\\b', 'a\0b'])('%j is refused', (path) => {
    expect(() => normalPath(path)).toThrow();
  });

  it('join without doubled slashes, and know hidden steps from partitions', () => {
    expect(joinPath('', 'a', 'b/', 'c')).toBe('a/b/c');
    expect([isHidden('a/_tmp/x'), isHidden('.x'), isHidden('_year=2026/x'), isHidden('a/b')]).toEqual([true, true, false, false]);
  });
});
