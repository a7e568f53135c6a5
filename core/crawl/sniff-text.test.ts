/** Guesses about text: fixed width, types, decimal marks, the record of XML. */
import { describe, expect, it } from 'vitest';
import { parseRuler, rulerText } from '../folder/column-ruler';
import { guessRecord } from '../folder/xml-records';
import { typeName } from '../schema/type-names';
import { guessFixedWidth } from './fixed-width';
import { inferObjects } from './infer-objects';
import { inferTextType } from './text-types';

describe('fixed width', () => {
  const tides = ['place        at                kind  height', 'Low Scar     2026-03-14 02:10  high    4.91', 'Whinny Sands 2026-03-14 08:22  low     0.7', 'Holm Quay    2026-03-14 14:35  high    4.88'];
  it('is found by gutters of two spaces; a single space may stand within a value', () => {
    const spaced = tides.map((line) => line.replace(/^(.{13})/, '$1  '));
    expect(guessFixedWidth(spaced)).toEqual({ header: true, columns: parseRuler('place 1-15, at 16-33, kind 34-39, height 40-45') });
    expect(guessFixedWidth(spaced.slice(1))).toBeUndefined(); // three lines could line up by chance
  });

  it.each([['fields between single spaces', ['a 1 x', 'bb 2 y', 'c 3 z', 'd 4 w']], ['prose', ['One line.  And more.', 'Another  here', 'third one', 'fourth  line is long']]])('is not seen in %s', (_, lines) => {
    expect(guessFixedWidth(lines)).toBeUndefined();
  });
});

describe('a ruler', () => {
  it('is written as people say it, and says what is wrong', () => {
    expect(rulerText(parseRuler('place 1 - 14,flag 15'))).toBe('place 1-14, flag 15');
    for (const [text, why] of [['place', 'first and last'], ['a 1-5, b 5-9', 'overlap at character 5'], ['a 1-2, A 3-4', 'Two columns'], ['a 9-3', 'first and last'], ['', 'no column']] as const) expect(() => parseRuler(text)).toThrow(why);
  });
});

describe('types of texts', () => {
  it.each([[['true', 'FALSE'], 'boolean'], [['1', '-20', null], 'bigint'], [['007', '12'], 'varchar'], [['1', '2.5', '1e3'], 'double'], [['2026-01-01'], 'date'], [['2026-01-01', '2026-01-01 10:00'], 'timestamptz'], [['12', 'n/a'], 'varchar'], [[null], 'varchar'], [['-', '1'], 'varchar']])('%j is %s', (texts, type) => {
    expect(typeName(inferTextType(texts))).toBe(type);
  });
});

describe('XML', () => {
  it('has its rows in the element that comes most often below the root', () => {
    expect(guessRecord('<?xml version="1.0"?><!-- <x> --><n:list><meta/><n:row id="1"><a>1</a></n:row><n:row id="2"/>')).toBe('row');
    expect(guessRecord('<empty/>')).toBeUndefined();
  });

  it('has lists where an element comes again anywhere, and parts beside text', () => {
    const fields = inferObjects([{ id: '1', m: 'x', p: { lat: '1.5' } }, { id: '2', m: ['y', 'z'], p: 'here' }]);
    expect(fields.map(({ name, type }) => `${name} ${typeName(type)}`)).toEqual(['id bigint', 'm varchar[]', 'p struct(lat double, text varchar)']);
  });
});
