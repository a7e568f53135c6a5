import { describe, expect, it } from 'vitest';
import { globsOf, newCrawl, sentenceOf } from './crawl-words';

describe('a crawl in a sentence', () => {
  it('says where, what it is called, what happens and when', () => {
    const { definition } = newCrawl('tern-bay');
    expect(sentenceOf(definition, null)).toBe('tern-bay; tables called after their folder; asks about everything; on demand');
    expect(sentenceOf({ ...definition, folders: [{ storage: 'bay', folder: 'in', include: ['*.csv'], exclude: globsOf('*.tmp, old/** ,') }], prefix: 'raw_', namespace: 'land', naming: 'path', findings: 'additions' }, 'At 02:00, UTC'))
      .toBe('bay/in, only *.csv, without *.tmp, old/**; tables called raw_ and after all folders above them, in land; registers what only adds, asks about the rest; At 02:00, UTC');
  });
});
