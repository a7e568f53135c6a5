import { describe, expect, it } from 'vitest';
import type { TimelineEntry } from '../../api/types';
import { metricWords, predicateWords } from './history-words';

const entry = (operation: string, details: Record<string, string>): TimelineEntry => ({ at: 0, kind: 'change', operation, filesAdded: 0, filesRemoved: 0, bytesAdded: 0, bytesRemoved: 0, changesColumns: false, details });

describe('a line of history', () => {
  it.each([
    ['DELETE', { predicate: '["id > 3","site = \'x\'"]' }, "id > 3 AND site = 'x'"],
    ['UPDATE', { predicate: '(id = 4)' }, '(id = 4)'],
    ['WRITE', { mode: 'Overwrite', predicate: '[]' }, 'overwrite'],
    ['WRITE', { mode: 'Append' }, ''],
    ['RESTORE', { version: '8' }, 'to version 8'],
    ['ADD COLUMNS', { columns: '["depth"]' }, 'depth'],
  ])('%s says its condition', (operation, details, words) => {
    expect(predicateWords(entry(operation, details as Record<string, string>))).toBe(words);
  });

  it('counts rows by what happened to them', () => {
    expect(metricWords(entry('MERGE', { numTargetRowsInserted: '2', numTargetRowsUpdated: '0', numTargetRowsCopied: '7' }))).toBe('2 inserted, 7 copied along');
  });
});
