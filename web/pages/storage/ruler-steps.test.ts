import { describe, expect, it } from 'vitest';
import { choiceOf, columnOfStep, gapText, withChoice, withName } from './ruler-steps';

const step = { example: '14', values: 3, some: [], asThis: '14', asAny: '*', asColumn: '{day}' };

describe('steps of the path ruler', () => {
  it.each([['landing', 'this', undefined], ['*.log.gz', 'any', undefined], ['day={day}', 'column', 'day'], ['{date:year}', 'column', 'date']])('%s is %s', (text, choice, column) => {
    expect([choiceOf(text), columnOfStep(text)]).toEqual([choice, column]);
  });

  it('change one at a time; a date is renamed in all its steps', () => {
    expect(withChoice(['a', '*'], [step, step], 1, 'column')).toEqual(['a', '{day}']);
    expect(withName(['{date:year}', '{date:month}', '{x}'], 0, 'taken_on')).toEqual(['{taken_on:year}', '{taken_on:month}', '{x}']);
  });

  it('say what is missing', () => {
    const column = { name: 'day', type: 'date', values: 88, first: null, last: null, missingSome: [] };
    expect([gapText({ ...column, missing: 2 }), gapText({ ...column, missing: 0 }), gapText({ ...column, type: 'varchar', values: 1, missing: null })]).toEqual(['88 days, 2 missing', '88 days, none missing', '1 value']);
  });
});
