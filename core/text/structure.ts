/**
 * How a delimited text is laid out: delimiter, quotes, what stands above and below the rows, and the header. The choice
 * of the dialect follows G. J. J. van den Burg, A. Nazábal, C. Sutton, "Wrangling messy CSV files by detecting row and
 * type patterns" (2019), from memory: a score of how alike the rows are cut, times how many cells read as something.
 */
import { isMissingText, numberParts } from './value-forms';
import { readRecords, RUNS, type Records, type TextDialect, type TextRecord } from './records';

export interface TextLayout {
  dialect: TextDialect;
  /** Lines above the header, or above the first row where there is none. */
  skip: number;
  /** Records that name the columns; 0 for none. */
  headerRecords: number;
  /** Names as they are used, one for each column. */
  names: string[];
  /** Whether a delimiter ends each line, so that the last of the columns is none. */
  hasTrailing: boolean;
  /** Records below the rows that are none: totals and notes. */
  skipEnd: number;
  /** Whether shorter records are rows whose last cells are empty. */
  pads: boolean;
  /** Share of the records between that have as many cells as there are columns, 0 to 1. */
  agreement: number;
  /** What was seen and is worth telling. */
  notes: string[];
  /** Records that have more or fewer cells than there are columns. */
  ragged: { line: number; cells: number }[];
}

const DELIMITERS = [',', '\t', ';', '|', RUNS, ':', '^', '~', '||', '::', ';;', '¦', '\u0001', '\u001f'];
/** The others are looked at where none of these cuts the text well. */
const USUAL = [',', '\t', ';', '|', RUNS];
/** Records by which the dialect is judged. */
const JUDGED = 150;
/** The published score of a text of one column. */
const ALMOST_NOTHING = 1e-3;

export interface LayoutInput {
  text: string;
  /** The text goes on beyond what is given. */
  isCut: boolean;
  /** The last lines of the file, where they are not in the text. */
  tail?: string;
  /** By its name it is delimited text: then one column is possible too. */
  isNamedSo: boolean;
  /** What is known already. */
  given?: Partial<TextDialect>;
}

/** Undefined where no delimiter makes a table of the text. */
export function layoutOf(input: LayoutInput): (Records & { layout: TextLayout }) | undefined {
  const dialect = dialectOf(input);
  if (!dialect) return undefined;
  const read = readRecords(input.text, dialect, { isCut: input.isCut });
  return read.records.length === 0 ? undefined : { ...read, layout: layoutIn(read.records, dialect, input) };
}

function dialectOf({ text, isCut, isNamedSo, given = {} }: LayoutInput): TextDialect | undefined {
  const comment = given.comment ?? (/^#[^\n]*\n(?:#[^\n]*\n)*[^#\n]/.test(text) && !looksLikeHeaderAfterHash(text) ? '#' : '');
  const delimiters = given.delimiter === undefined ? DELIMITERS.filter((each) => mayDelimit(each, text)) : [given.delimiter];
  const scored = delimiters.flatMap((delimiter) => quotesFor(text, delimiter, given).map((quote) => {
    const escape = given.escape ?? (quote !== '' && text.includes(`\\${quote}`) && !text.includes(`${quote}${quote}`) ? '\\' : quote);
    const dialect = { delimiter, quote, escape, comment };
    const { records, openQuote } = readRecords(text, dialect, { most: JUDGED, isCut });
    return { dialect, openQuote, ...scoreOf(records, dialect) };
  })).filter(({ width }) => width > 1);
  const quote = given.quote ?? '"';
  const single = isNamedSo || given.delimiter !== undefined ? { delimiter: given.delimiter ?? ',', quote, escape: given.escape ?? quote, comment } : undefined;
  // Runs of blanks cut at tabs too; where tabs alone cut as many fields, a title with blanks in it is no row.
  const isTabs = (width: number) => scored.some((each) => each.dialect.delimiter === '\t' && each.width === width && each.agreement >= 0.7);
  const usual = scored.filter(({ dialect, agreement, width }) => USUAL.includes(dialect.delimiter) && agreement >= 0.7 && !(dialect.delimiter === RUNS && isTabs(width)));
  const best = (usual.length > 0 ? usual : scored).sort((a, b) => b.score - a.score || Number(a.openQuote !== undefined) - Number(b.openQuote !== undefined))[0];
  if (!best || best.score <= ALMOST_NOTHING) return single;
  // Text of unknown kind is a table only where nearly every line is cut alike; in prose blanks cut nothing alike.
  const least = isNamedSo ? (best.dialect.delimiter === RUNS ? 0.8 : 0.3) : 0.9;
  if (best.agreement < least) return single;
  // Where a single blank stands between all fields, the engine's reader cuts the text itself.
  return best.dialect.delimiter === RUNS && !/^[ \t]|[\r\n][ \t]|[ \t]{2}|[ \t][\r\n]|\t/.test(text) ? { ...best.dialect, delimiter: ' ' } : best.dialect;
}

function mayDelimit(delimiter: string, text: string): boolean {
  if (delimiter === RUNS) return text.includes(' ');
  if (!text.includes(delimiter)) return false;
  // A colon that stands in times or addresses delimits nothing.
  if (delimiter === ':') return !/\d:\d\d|:\/\//.test(text) && (text.split(/\r\n|\n|\r/, 1)[0] ?? '').includes(':');
  // `||` between all fields is one delimiter and not two with nothing between.
  const count = (mark: string) => text.split(mark).length - 1;
  return delimiter.length > 1 || count(delimiter) !== 2 * count(delimiter + delimiter);
}

/** `#name,age` names columns and is no comment: as many cells as the rows have. */
function looksLikeHeaderAfterHash(text: string): boolean {
  const [first = '', second = '', third = ''] = text.split(/\r?\n/, 3);
  if (second.startsWith('#')) return false;
  return [',', '\t', ';', '|'].some((mark) => first.includes(mark) && first.split(mark).length === second.split(mark).length && second.split(mark).length === third.split(mark).length);
}

function quotesFor(text: string, delimiter: string, given: Partial<TextDialect>): string[] {
  if (given.quote !== undefined) return [given.quote];
  const mark = delimiter === RUNS ? ' ' : delimiter;
  const opens = (quote: string) => text.startsWith(quote) || text.includes(`${mark}${quote}`) || text.includes(`\n${quote}`);
  return ['"', ...(opens("'") ? ["'"] : []), ...(opens('"') && !isWellQuoted(text, delimiter) ? [''] : [])];
}

/** Whether every quote opens a field or closes one. */
function isWellQuoted(text: string, delimiter: string): boolean {
  const { records, openQuote } = readRecords(text, { delimiter, quote: '"', escape: '"', comment: '' }, { most: JUDGED, isCut: true });
  return openQuote === undefined && !records.some(({ cells }) => cells.some((cell) => cell.includes('"')));
}

function scoreOf(records: readonly TextRecord[], dialect: TextDialect): { score: number; agreement: number; width: number } {
  const counts = new Map<number, number>();
  for (const { cells } of records) counts.set(cells.length, (counts.get(cells.length) ?? 0) + 1);
  if (counts.size === 0) return { score: 0, agreement: 0, width: 0 };
  const alike = [...counts].reduce((sum, [cells, times]) => sum + (times * Math.max(ALMOST_NOTHING, cells - 1)) / cells, 0) / (records.length * counts.size);
  let [known, all] = [0, 0];
  for (const record of records) for (const cell of record.cells) {
    all++;
    if (isKnown(cell, dialect.quote)) known++;
  }
  const [width, times] = [...counts].sort((a, b) => b[1] - a[1] || b[0] - a[0])[0]!;
  // A header that lacks the name of the first column is cut alike.
  const header = records[0]!.cells.length === width - 1 && width > 2 ? 1 : 0;
  return { score: alike * Math.max(1e-10, known / all), agreement: (times + header) / records.length, width };
}

/** Whether a cell reads as something: a number, a time, a name, nothing. A quote at its end was cut through. */
function isKnown(cell: string, quote: string): boolean {
  const text = cell.trim();
  if (text === '' || isMissingText(text)) return true;
  if ((quote !== '"' && /^".*"$/.test(text)) || (quote !== "'" && /^'.*'$/.test(text))) return false;
  if (quote === '' && /^["']|["']$/.test(text)) return false;
  if (numberParts(text) !== undefined) return true;
  if (/^[\d/:.\-T ]+([+-]\d\d:?\d\d|Z| ?[AaPp][Mm])?$/.test(text) && /\d/.test(text)) return true;
  if (/^[\w.+-]+@[\w.-]+$|^https?:\/\/\S+$/.test(text)) return true;
  return /^[\p{L}\p{N}\p{M}\s_.'’()&/%#+*!?°:$@-]+$/u.test(text);
}

function layoutIn(records: readonly TextRecord[], dialect: TextDialect, { tail, isCut }: LayoutInput): TextLayout {
  const notes: string[] = [];
  const width = usualWidth(records);
  const start = startOf(records, width);
  let body = records.slice(start);
  const { headerRecords, columns, isRowNames } = headerOf(body, width);
  const names = namesOf(body.slice(0, headerRecords), columns, isRowNames);
  const rows = body.slice(headerRecords);
  const hasTrailing = headerRecords > 0 && columns > 2 && rows.length > 0 && (body[0]!.cells[columns - 1] ?? '').trim() === '' && !isRowNames && rows.every(({ cells }) => cells.length < columns || cells[columns - 1]!.trim() === '');
  if (hasTrailing) notes.push('a delimiter ends each line; no column is made of it');
  const end = isCut && tail === undefined ? 0 : endOf(isCut ? readRecords(tail!, dialect).records.slice(1) : rows, columns);
  body = isCut || end === 0 ? rows : rows.slice(0, -end);
  const uneven = body.filter(({ cells }) => cells.length !== columns);
  const short = uneven.filter(({ cells }) => cells.length < columns);
  const pads = short.length > 0 && short.length === uneven.length;
  if (start > 0) notes.push(`${records[start]!.line - 1} lines above the table are passed over`);
  if (end > 0) notes.push(`${end} ${end === 1 ? 'line' : 'lines'} below the table, totals or notes, ${end === 1 ? 'is' : 'are'} left out`);
  if (pads) notes.push(`${short.length} shorter lines have nothing in their last columns`);
  const skip = start === 0 ? 0 : (records[start]!.line - 1);
  return {
    dialect, skip, headerRecords, names, hasTrailing, skipEnd: end, pads, notes, ragged: uneven.slice(0, 50).map(({ line, cells }) => ({ line, cells: cells.length })),
    agreement: body.length === 0 ? 1 : (body.length - uneven.length) / body.length,
  };
}

/** Cells of most records, those further down counting more: above a table stand titles and notes. */
function usualWidth(records: readonly TextRecord[]): number {
  const counts = new Map<number, number>();
  for (const [index, { cells }] of records.entries()) counts.set(cells.length, (counts.get(cells.length) ?? 0) + (index < records.length / 10 ? 0.5 : 1));
  return [...counts].sort((a, b) => b[1] - a[1] || b[0] - a[0])[0]![0];
}

const filled = ({ cells }: TextRecord) => cells.filter((cell) => cell.trim() !== '').length;

/**
 * The first record of the table: as wide as the rows, and with something in at least half of its cells. Whatever stands
 * above it must look like a title or a note, that is have next to nothing in it: no row is ever passed over.
 */
function startOf(records: readonly TextRecord[], width: number): number {
  if (width === 1) return 0;
  const isAsWide = ({ cells }: TextRecord) => cells.length >= width - 1 && cells.length <= width + 1;
  const isTitle = (record: TextRecord) => record.cells.length < width - 1 || (width < 3 ? record.cells.length < width : filled(record) <= 1);
  for (let at = 0; at < Math.min(records.length - 1, MOST_TITLES); at++) {
    const record = records[at]!;
    const next = records.slice(at + 1, at + 4);
    if (isAsWide(record) && (width > 2 || record.cells.length === width) && (width < 3 || filled(record) >= Math.max(2, width / 2)) && next.filter(isAsWide).length >= Math.min(next.length, 2)) return at;
    if (!isTitle(record)) return 0;
  }
  return 0;
}

const MOST_TITLES = 60;
const LOOKED = 200;

interface Header {
  headerRecords: number;
  /** Of the rows. */
  columns: number;
  /** The header lacks the name of the first column, as R writes it. */
  isRowNames: boolean;
}

function headerOf(body: readonly TextRecord[], width: number): Header {
  const [first, second] = body;
  if (!first) return { headerRecords: 0, columns: width, isRowNames: false };
  const rows = body.slice(1, LOOKED);
  const columns = columnCount(first, rows, width);
  const isRowNames = lacksFirstName(first, rows) && first.cells.length === columns - 1;
  if (!looksLikeHeader(first, rows, isRowNames ? 1 : 0)) return { headerRecords: 0, columns, isRowNames: false };
  // A second line of the header: units, or the lower of two levels. Where the rows below are numbers, it is none.
  if (second && rows.length > 3) {
    const below = rows.slice(1);
    const numeric = second.cells.map((_, index) => isNumeric(below.map(({ cells }) => cells[index] ?? '')));
    const of = numeric.flatMap((is, index) => (is ? [index] : []));
    const isWord = (cell: string) => cell.trim() !== '' && numberParts(cell) === undefined && !isMissingText(cell) && !/\d{4}/.test(cell);
    if (of.length > 0 && of.every((index) => isWord(second.cells[index] ?? '')) && of.length >= second.cells.length / 3) return { headerRecords: 2, columns, isRowNames };
  }
  return { headerRecords: 1, columns, isRowNames };
}

/** A header that names more columns than most rows have: those rows have nothing in the last ones. */
function columnCount(header: TextRecord, rows: readonly TextRecord[], width: number): number {
  const isWider = header.cells.length > width && filled(header) === header.cells.length;
  return Math.max(width, rows.length === 0 || isWider ? header.cells.length : 0);
}

/** Rows have a first cell that the header does not name; a cell too many at their end, always empty, is a delimiter too many. */
function lacksFirstName({ cells: header }: TextRecord, rows: readonly TextRecord[]): boolean {
  return rows.length > 0 && rows.every(({ cells }) => cells.length === header.length + 1) && rows.some(({ cells }) => cells.at(-1)!.trim() !== '');
}

/** Records below the header that tell whether it names all columns. */
const BESIDE_HEADER = 50;

/** The names of all columns of one file by its own header, as `layoutOf` gives them; the text is its beginning. */
export function headerNames(text: string, dialect: TextDialect, { skip, headerLines }: { skip: number; headerLines: number }): string[] {
  const { records } = readRecords(afterLines(text.replace(/^\ufeff/, ''), skip), dialect, { most: headerLines + BESIDE_HEADER, isCut: true });
  const [header, rows] = [records.slice(0, headerLines), records.slice(headerLines)];
  if (headerLines === 0) return namesOf([], Math.max(0, ...rows.map(({ cells }) => cells.length)), false);
  if (header.length === 0) return namesOf(readRecords(afterLines(text, skip), dialect, { most: headerLines }).records, undefined, false);
  const isRowNames = lacksFirstName(header[0]!, rows);
  return namesOf(header, columnCount(header[0]!, rows, rows.length === 0 ? 0 : usualWidth(rows)), isRowNames);
}

function afterLines(text: string, lines: number): string {
  let at = 0;
  for (let line = 0; line < lines; line++) {
    const end = /\r\n|\n|\r/g;
    end.lastIndex = at;
    const found = end.exec(text);
    if (!found) return '';
    at = end.lastIndex;
  }
  return text.slice(at);
}

function isNumeric(cells: readonly string[]): boolean {
  const present = cells.filter((cell) => cell.trim() !== '' && !isMissingText(cell));
  return present.length > 0 && present.every((cell) => numberParts(cell) !== undefined);
}

/** What kind of thing a cell is, roughly: enough to tell names from values. */
function shapeOf(cell: string): string {
  const text = cell.trim();
  if (text === '' || isMissingText(text)) return '';
  if (numberParts(text) !== undefined) return 'number';
  if (/^\d{1,4}[-/.]\d{1,2}[-/.]\d{1,4}/.test(text) || /^\d{1,2}:\d\d/.test(text)) return 'time';
  if (/^(true|false)$/i.test(text)) return 'truth';
  return 'text';
}

/** Whether the first record names the columns, by how it differs from what stands below it. */
function looksLikeHeader({ cells }: TextRecord, rows: readonly TextRecord[], shift: number): boolean {
  if (shift > 0) return true;
  // The corner above names of rows is empty, and nothing else of the header is.
  if (cells.length > 1 && cells[0]!.trim() === '' && cells.slice(1).every((cell) => cell.trim() !== '') && rows.length > 0 && rows.every((row) => (row.cells[0] ?? '').trim() !== '')) return true;
  // Names are not numbers; years across the top are, and then something above or beside them is not.
  if (rows.length === 0) return cells.every((cell) => shapeOf(cell) === 'text');
  let [yes, no] = [0, 0];
  for (const [index, cell] of cells.entries()) {
    const below = rows.map((row) => row.cells[index + shift] ?? '').filter((each) => shapeOf(each) !== '');
    const name = cell.trim();
    if (name === '') continue;
    if (below.length === 0) {
      if (shapeOf(name) === 'text') yes += 0.5;
      continue;
    }
    const shapes = new Map<string, number>();
    for (const each of below) shapes.set(shapeOf(each), (shapes.get(shapeOf(each)) ?? 0) + 1);
    const [usual, times] = [...shapes].sort((a, b) => b[1] - a[1])[0]!;
    const isUsual = times / below.length > 0.8;
    const shape = shapeOf(name);
    if (isUsual && usual !== 'text') {
      // Numbers under a number: it is one of them, unless it is a year above values of another size.
      if (shape === 'text') yes++;
      else if (shape === usual) no += isYear(name) && !below.some(isYear) ? -0.5 : 1;
      continue;
    }
    if (shape !== 'text') no += 0.5;
    else if (below.some((each) => each.trim() === name)) no += 0.6;
    else yes += likeName(name, below) ? 0.5 : 0.1;
  }
  return yes > no;
}

function isYear(text: string): boolean {
  return /^(1[5-9]|20|21)\d\d$/.test(text.trim());
}

/** Text above text: a name is a word or a few, where values are of another length. */
function likeName(name: string, below: readonly string[]): boolean {
  const lengths = below.map((each) => each.trim().length);
  const isEven = lengths.every((each) => each === lengths[0]);
  if (isEven && name.length !== lengths[0]) return true;
  return /^[\p{L}_][\p{L}\p{N}_ .()/%#-]*$/u.test(name) && name.length <= 60;
}

/** Names by the header's lines, joined where there are several; what has none is called by its place. */
function namesOf(header: readonly TextRecord[], wanted: number | undefined, isRowNames: boolean): string[] {
  const columns = wanted ?? Math.max(0, ...header.map(({ cells }) => cells.length));
  if (header.length === 0) return distinctNames(Array.from({ length: columns }, () => ''), 'field');
  const lines = header.map(({ cells }) => (isRowNames ? ['', ...cells] : cells));
  const upper = lines.length > 1 ? fillRight(lines[0]!, lines[1]!) : undefined;
  const joined = Array.from({ length: columns }, (_, index) => (upper ? [upper[index] ?? '', lines[1]![index] ?? ''] : [lines[0]![index] ?? '']).map(plainName).filter((part, at, all) => part !== '' && (lines.length === 1 || /[\p{L}\p{N}]/u.test(part)) && all.indexOf(part) === at).join(' '));
  return distinctNames(joined);
}

/** A name above several columns stands over the first of them. */
function fillRight(upper: readonly string[], lower: readonly string[]): string[] {
  if (!upper.some((cell, index) => cell.trim() === '' && (lower[index] ?? '').trim() !== '' && index > 0)) return [...upper];
  let last = '';
  return lower.map((_, index) => (last = (upper[index] ?? '').trim() || last));
}

export function plainName(text: string): string {
  return text.replace(/^\ufeff/, '').replace(/\s+/g, ' ').trim();
}

/**
 * Names as columns have them: without blanks around, line breaks as blanks, `column_3` for one that has none, and a
 * number after one that an earlier column has, by the engine's own count.
 */
export function distinctNames(names: readonly string[], unnamed = 'column'): string[] {
  const taken = new Set<string>();
  return names.map((name, index) => {
    const plain = plainName(name) || `${unnamed}_${index + 1}`;
    let distinct = plain;
    for (let n = 1; taken.has(distinct.toLowerCase()); n++) distinct = `${plain}_${n}`;
    taken.add(distinct.toLowerCase());
    return distinct;
  });
}

/** Records at the end that are no rows: fewer cells than the table has and nothing but words, or a total. */
function endOf(rows: readonly TextRecord[], columns: number): number {
  if (columns < 2 || rows.length < 3) return 0;
  // Where rows with next to nothing in them stand elsewhere too, those at the end are rows.
  const sparse = rows.slice(0, -30).some((record) => filled(record) <= 1);
  let end = 0;
  while (end < Math.min(30, rows.length - 2)) {
    const record = rows[rows.length - 1 - end]!;
    const isNote = (!sparse && filled(record) <= 1 && columns >= 3 && shapeOf(record.cells.find((cell) => cell.trim() !== '') ?? '') !== 'number') || (record.cells.length < columns && record.cells.length === 1);
    const isTotal = /^(grand )?(total|totals|sum|summe|gesamt|insgesamt|suma|somme|totale|source|sources|quelle|note|notes)\b/i.test(record.cells[0]!.trim()) && filled(record) < columns;
    if (!isNote && !isTotal) break;
    end++;
  }
  return end;
}
