import { describe, expect, it } from 'vitest';
import { insideStorage } from './paths';

describe('a location in a storage', () => {
  // RFC 8089, section 2 and appendix B: one slash, three, and none of a scheme name the same file.
  it.each([
    ['file:///lake/a', 'file:/lake/a/t/x', 't/x'], ['file:///lake/a', 'file:///lake/a/t/x', 't/x'], ['file:///lake/a', '/lake/a/t/x', 't/x'],
    ['file:///lake/a%20b', 'file:///lake/a b/t', 't'], ['file:///lake/a%20b', 'file:///lake/a%20b/t', 't'], ['s3://bucket/p', 's3://bucket/p/t', 't'],
    ['file:///lake/a', 'file:///lake/ab/t', undefined], ['s3://bucket', 's3://other/t', undefined],
  ])('in %s, %s is %s', (storage, location, inside) => {
    expect(insideStorage(storage, location)).toBe(inside);
  });
});
