import { describe, expect, it } from 'vitest';
import { guessColumn } from './column-forms';
import { mergeForms } from './merge-forms';

const guesses = (...files: string[][]) => files.map((texts) => guessColumn(texts));
const merged = (...files: string[][]) => {
  const all = guesses(...files);
  return mergeForms(all, all[0]!.type);
};

describe('forms of one column in several files', () => {
  it('are the one that all of them fit', () => {
    // One file alone could be read either way.
    expect(merged(['03/04/2024', '05/06/2024'], ['25/04/2024', '26/04/2024'])?.form).toEqual({ formats: ['%d/%m/%Y'] });
    expect(merged(['NA', '1'], ['-', '2'])?.form).toEqual({ missing: ['NA', '-'] });
  });
  it('are none where files contradict each other', () => {
    expect(merged(['25/04/2024', '26/04/2024'], ['04/25/2024', '04/26/2024'])).toBeUndefined();
    expect(merged(['1,5', '2,25'], ['1.5', '2.25'])).toBeUndefined();
  });
});
