import { describe, expect, it } from 'vitest';
import { findingsOf, rangesWords } from './log-check-words';

describe('what is wrong with a log', () => {
  it('is nothing where nothing is', () => {
    expect(findingsOf({ oldest: 0, latest: 3, versions: [], missing: [], checkpoints: [{ version: 3, status: 'right', lacking: 0, extra: 0, paths: [], files: [], otherwise: false }], checksums: [], lateMinimums: 0 })).toEqual([]);
  });

  it('is said for each part, with what a repair can do', () => {
    const found = findingsOf({ oldest: 0, latest: 9, versions: [], missing: [4], checkpoints: [{ version: 8, status: 'wrong', lacking: 2, extra: 1, paths: [], files: [], otherwise: false }], checksums: [{ version: 8, path: 'x', problem: 'y' }], lateMinimums: 1 });
    expect(found.map(({ words, repair }) => [repair, words.slice(0, 40)])).toEqual([
      ['gap', 'Version 4 is missing: no commit file sta'], ['always', 'The checkpoint of version 8 leaves out 2'], ['always', 'The checksum file of version 8 contradic'], ['always', '1 file may have a minimum of times befor'],
    ]);
    expect(rangesWords([{ from: 0, to: 2, state: 'whole' }, { from: 3, to: 3, state: 'missing' }])).toBe('Versions 0 to 2 are whole; version 3 is missing.');
  });
});
