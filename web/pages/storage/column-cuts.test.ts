import { describe, expect, it } from 'vitest';
import { parseRuler, rulerText } from '../../../core/folder/column-ruler';
import { cutAt } from './column-cuts';

describe('cutting lines into columns', () => {
  it.each([
    ['cuts a column in two', 'place 1-10', 5, 'place 1-4, field_2 5-10'],
    ['joins what was cut there', 'place 1-4, at 5-10', 5, 'place 1-10'],
    ['begins a column where none was', 'place 1-4', 7, 'place 1-4, field_2 7-20'],
    ['ends it before the next', 'place 1-4, at 12-20', 7, 'place 1-4, field_3 7-11, at 12-20'],
    ['leaves the first character alone', 'place 1-4', 1, 'place 1-4'],
  ])('%s', (_, before, at, after) => {
    expect(rulerText(cutAt(parseRuler(before), at, 20))).toBe(after);
  });
});
