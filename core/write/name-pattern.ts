/** Names of files and folders that are made from a row's values: `soundings-{site}-{number:3}`, `year={year}/{site}`. */
import { LakeError } from '../errors';

type Part = { kind: 'text'; text: string } | { kind: 'word'; word: Word; digits: number } | { kind: 'column'; column: string };

/** What stands between braces and is no column. */
const WORDS = ['number', 'of', 'key', 'date', 'time', 'id'] as const;
type Word = (typeof WORDS)[number];

/** Parts of one name, or of one step of a folder path. */
export type NamePattern = readonly Part[];

/** What the words stand for, of one file. `key` values by column; null where a row has none. */
export interface NameValues {
  /** Of the file in its folder, from 1. */
  number: number;
  /** Files in its folder. */
  of: number;
  values: ReadonlyMap<string, string | null>;
  /** Columns whose values together are the file's key. */
  key: readonly string[];
  /** When the write began, in UTC. */
  at: Date;
  /** Short and of this write alone. */
  id: string;
}

const PIECE = /\{([^{}]*)\}|[^{}]+|[{}]/g;

/** `columnOf` gives a column as it is spelled. Fails on a word that is neither one of ours nor a column. */
export function readNamePattern(text: string, columnOf: (name: string) => string | undefined): NamePattern {
  const parts = [...text.matchAll(PIECE)].map(([piece, inside]): Part => {
    if (inside === undefined) {
      if (piece === '{' || piece === '}') throw new LakeError('bad-request', `The pattern "${text}" has a "${piece}" by itself.`, { hint: 'Names of columns and words stand between braces: {number}, {site}.' });
      return { kind: 'text', text: piece };
    }
    const [name = '', digits] = inside.split(':');
    const word = WORDS.find((each) => each === name.trim().toLowerCase());
    if (word) return { kind: 'word', word, digits: digitsOf(digits, text) };
    const column = columnOf(name.trim());
    if (column === undefined) throw new LakeError('bad-request', `The pattern "${text}" names {${name}}, which is neither a column of the rows nor one of ${WORDS.map((each) => `{${each}}`).join(', ')}.`);
    return { kind: 'column', column };
  });
  if (parts.length === 0) throw new LakeError('bad-request', 'A pattern of names is empty.');
  return parts;
}

/** Steps between slashes. */
export function readFolderPattern(text: string, columnOf: (name: string) => string | undefined): NamePattern[] {
  return text.split('/').filter((step) => step !== '').map((step) => {
    const parts = readNamePattern(step, columnOf);
    const word = parts.find((part) => part.kind === 'word' && !['date', 'time', 'id'].includes(part.word));
    if (word?.kind === 'word') throw new LakeError('bad-request', `{${word.word}} tells files apart and cannot stand in the path of a folder.`);
    return parts;
  });
}

function digitsOf(text: string | undefined, pattern: string): number {
  if (text === undefined) return 0;
  const digits = Number(text);
  if (!Number.isInteger(digits) || digits < 1 || digits > 12) throw new LakeError('bad-request', `In the pattern "${pattern}" the number of digits is 1 to 12, not "${text}".`);
  return digits;
}

export function columnsOf(patterns: readonly NamePattern[]): string[] {
  return [...new Set(patterns.flatMap((parts) => parts.flatMap((part) => (part.kind === 'column' ? [part.column] : []))))];
}

/** Whether files of one folder are told apart by it, whatever their number. */
export function isNumbered(pattern: NamePattern): boolean {
  return pattern.some((part) => part.kind === 'word' && part.word === 'number');
}

export function nameFrom(pattern: NamePattern, values: NameValues): string {
  const name = pattern.map((part, index) => {
    if (part.kind === 'text') return safe(part.text);
    if (part.kind === 'word') return wordText(part, values);
    const before = pattern[index - 1];
    // `site=…`: common practice of folders that tell a column's value.
    return valueText(values.values.get(part.column) ?? null, before?.kind === 'text' && before.text.endsWith('='));
  }).join('');
  return name.replace(/^\.+/, (dots) => '%2E'.repeat(dots.length));
}

function wordText({ word, digits }: Extract<Part, { kind: 'word' }>, { number, of, key, values, at, id }: NameValues): string {
  const iso = at.toISOString();
  switch (word) {
    case 'number':
      return String(number).padStart(digits, '0');
    case 'of':
      return String(of).padStart(digits, '0');
    case 'key':
      return key.map((column) => valueText(values.get(column) ?? null, false)).join('-') || 'all';
    case 'date':
      return iso.slice(0, 10);
    case 'time':
      return iso.slice(11, 19).replaceAll(':', '');
    case 'id':
      return id;
  }
}

function valueText(value: string | null, isPartition: boolean): string {
  if (value === null) return isPartition ? '__HIVE_DEFAULT_PARTITION__' : 'null';
  return value === '' ? '%00' : safe(value);
}

/** Characters that a path cannot have, or that mean something in one, are percent-encoded; no two values become one. */
function safe(text: string): string {
  return text.replace(/[%/\\:*?"<>|\p{Cc}]/gu, (mark) => [...new TextEncoder().encode(mark)].map((byte) => `%${byte.toString(16).toUpperCase().padStart(2, '0')}`).join(''));
}
