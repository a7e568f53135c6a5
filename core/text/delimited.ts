/** A delimited text's columns and how they are read, from what was seen of it. */
import type { CsvOptions } from '../folder/read-options';
import { fullOptions } from '../folder/read-options';
import type { LogicalType } from '../schema/types';
import { guessColumn, type ColumnGuess } from './column-forms';
import { readRecords, type TextDialect, type TextRecord } from './records';
import { layoutOf, type LayoutInput, type TextLayout } from './structure';

export interface DelimitedColumn {
  name: string;
  type: LogicalType;
  guess: ColumnGuess;
}

export interface Delimited {
  options: CsvOptions;
  columns: DelimitedColumn[];
  layout: TextLayout;
}

export interface DelimitedInput extends LayoutInput {
  /** Whole lines from further on in the file. */
  middles: readonly string[];
  encoding: string;
  compression: CsvOptions['compression'];
  /** How it is read, where that was said. */
  options?: CsvOptions;
}

const LONG_RECORD = 100_000;
/** By so many rows, spread over those that were read, the types of columns are judged; the rest is held against that when it is all read. */
const JUDGED_ROWS = 2500;

/** Undefined where the text is not delimited. */
export function readDelimited(input: DelimitedInput): Delimited | undefined {
  const { options: said } = input;
  const found = layoutOf({ ...input, ...(said ? { given: said, isNamedSo: true } : {}) });
  if (!found) return undefined;
  const { layout, records, openQuote, used } = found;
  const { dialect } = layout;
  // The last record of what was read may well end further on.
  const isOpen = openQuote !== undefined && !(input.isCut && input.text.length - used < LONG_RECORD);
  const first = records.findIndex(({ line }) => line > layout.skip) + layout.headerRecords;
  const head = input.isCut || layout.skipEnd === 0 ? records.slice(first) : records.slice(first, records.length - layout.skipEnd);
  const later = [...input.middles, ...(input.tail === undefined ? [] : [input.tail])].flatMap((part) => readRecords(part, dialect).records);
  const rows = [...head, ...(input.isCut && layout.skipEnd > 0 ? later.slice(0, -layout.skipEnd) : later)].filter(({ cells }) => cells.length === layout.names.length || (layout.pads && cells.length < layout.names.length));
  const judged = rows.length <= JUDGED_ROWS ? rows : Array.from({ length: JUDGED_ROWS }, (_, index) => rows[Math.floor((index * rows.length) / JUDGED_ROWS)]!);
  const columns = layout.names.flatMap((name, index): DelimitedColumn[] => {
    if (layout.hasTrailing && index === layout.names.length - 1) return [];
    const guess = guessColumn(judged.map(({ cells }) => cells[index] ?? null), name);
    return [{ name, type: guess.type, guess }];
  });
  const options = said ?? optionsOf(layout, input, records, isOpen);
  return { options, columns, layout };
}

/** Forms of single columns are decided over all files together, so they are not among these. */
function optionsOf(layout: TextLayout, { text, encoding, compression }: DelimitedInput, records: readonly TextRecord[], hasOpenQuote: boolean): CsvOptions {
  const { dialect } = layout;
  return fullOptions({
    format: 'csv', ...dialect, header: layout.headerRecords > 0, headerLines: Math.max(1, layout.headerRecords), skip: layout.skip, skipEnd: layout.skipEnd, pads: layout.pads, encoding, compression,
    rewrite: hasOpenQuote || needsRewriting(text, dialect, records, layout),
  }) as CsvOptions;
}

/** What the engine's reader (1.5.5) reads otherwise or refuses: mixed ends of lines, quotes within values, a header over several lines. */
function needsRewriting(text: string, { quote, delimiter }: TextDialect, records: readonly TextRecord[], layout: TextLayout): boolean {
  const windows = text.split('\r\n').length - 1;
  const unix = text.split('\n').length - 1 - windows;
  const mac = text.replace(/\r$/, '').split('\r').length - 1 - windows;
  if ([windows, unix, mac].filter((ends) => ends > 0).length > 1) return true;
  if (layout.pads && records.some((record) => record.quoted && record.cells.some((cell) => /[\r\n]/.test(cell)))) return true;
  const header = records.find(({ line }) => line > layout.skip);
  if (layout.headerRecords > 0 && header?.cells.some((cell) => /[\r\n]/.test(cell)) && (layout.headerRecords > 1 || layout.skip > 0)) return true;
  if (quote === '') return false;
  // Text after a quote that closes, or blanks before one that opens: the readers differ there.
  const mark = delimiter.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');
  if (records.some((record) => record.quoted) && new RegExp(`(^|${mark}|\\n)[ \\t]+${quote}`).test(text)) return true;
  return new RegExp(`[^${quote}\\n\\r${delimiter.length === 1 ? mark : ''}]${quote}[^${quote}\\r\\n${delimiter.length === 1 ? mark : ''}]`).test(text.slice(0, 2_000_000)) && records.some(({ cells }) => cells.some((cell) => cell.includes(quote)));
}
