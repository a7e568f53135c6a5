/** How plain files become rows. Everything a guess decides is here, so that it can be shown, corrected, saved and reused. */
import { LakeError } from '../errors';
import { LOG_FORMS } from '../text/log-lines';
import { RUNS } from '../text/records';
import { EPOCH_UNITS, formatWords, type ValueForm } from '../text/value-forms';
import { twiceNamed } from '../schema/types';
import { rulerText, type RulerColumn } from './column-ruler';

export type ReadOptions = CsvOptions | FixedOptions | PatternOptions | JsonOptions | XmlOptions | AvroOptions | ArrowOptions | ParquetOptions;
export type ReadFormat = ReadOptions['format'];
/** `auto`: each file as its first bytes say. */
export const COMPRESSIONS = ['none', 'gzip', 'zstd', 'bzip2', 'xz', 'lz4', 'snappy', 'auto'] as const;
export type Compression = (typeof COMPRESSIONS)[number];

/** What becomes of a line that does not fit: the query stops and names it, or the line is set aside. */
export type Misfits = 'stop' | 'set-aside';

/** What all kinds of text have. */
interface TextOptions {
  compression: Compression;
  /** By its WHATWG label: `utf-8`, `windows-1252`, `utf-16le`. */
  encoding: string;
  misfits: Misfits;
}

/** Text whose lines hold values as text. */
export interface ValueOptions extends TextOptions {
  /** Lines to pass over before the header or first row. */
  skip: number;
  /** Lines that begin with it are passed over; '' for none. */
  comment: string;
  /** Texts that stand for a missing value. */
  nullTexts: string[];
  decimal: '.' | ',';
  /** With `%d`, `%m`, `%Y` and the like (common practice, as in C's strptime); '' for ISO 8601. */
  dateFormat: string;
  timestampFormat: string;
  /** How the texts of single columns are written, by name, where it is another way than the plain one or that of the whole file. */
  forms: Record<string, ValueForm>;
}

export interface CsvOptions extends ValueOptions {
  format: 'csv';
  /** One or more characters between fields. */
  delimiter: string;
  /** Whether the first line names the columns. */
  header: boolean;
  /** Lines of the header: a second one has units, or the lower of two levels of names. */
  headerLines: number;
  /** '' for none. */
  quote: string;
  escape: string;
  /** Lines below the last row that are none: totals, notes. */
  skipEnd: number;
  /** Whether lines with fewer fields are rows that have nothing in their last columns. */
  pads: boolean;
  /** Whether each file is cut in its own way, found out by its own text: delimiter, quotes, what stands above and below, encoding, packing. */
  perFile: boolean;
  /** Whether the text is cut into fields by us, into a copy, since the engine's reader would cut it in another way or not at all. */
  rewrite: boolean;
}

/** Columns by their place in the line. */
export interface FixedOptions extends ValueOptions {
  format: 'fixed';
  /** Whether the first line names the columns, and so is no row. */
  header: boolean;
  columns: RulerColumn[];
}

/** A regular expression that fits a whole line; each named group is a column. */
export interface PatternOptions extends ValueOptions {
  format: 'pattern';
  pattern: string;
}

export interface JsonOptions extends TextOptions {
  format: 'json';
  /**
   * One object a line; a list of objects; objects that follow each other; members of an object, by key; lists of cells; GeoJSON
   * features; a list of bare values.
   */
  shape: 'lines' | 'array' | 'sequence' | 'keyed' | 'cells' | 'features' | 'values';
  /** Where in the text the rows stand, as RFC 6901 writes it; '' for all of it. */
  at: string;
  /** Of `cells`: the names of the columns, and whether the first list has them. */
  names: string[];
  header: boolean;
  /** Of `keyed`: the column that has the key. */
  key: string;
  /** `pairs`: lines of keys with values, as in `level=info msg="it runs"`. */
  syntax: 'json' | 'yaml' | 'pairs';
}

export interface XmlOptions {
  format: 'xml';
  /** Name of the element that is one row. */
  record: string;
  /** Elements that are lists even where they come once, and those that have parts even where they hold only text, by dotted path. */
  lists: string[];
  structs: string[];
  compression: Compression;
}

export interface AvroOptions {
  format: 'avro';
}

/** Arrow files and streams, Feather among them. */
export interface ArrowOptions {
  format: 'arrow';
}

export interface ParquetOptions {
  format: 'parquet';
}

/** Formats whose lines are read as text first and cut by us. */
export type LineOptions = FixedOptions | PatternOptions;

/** Some options of one format, as a person, a query or an older version of this product gives them. */
export type GivenOptions = { format: ReadFormat } & Record<string, unknown>;

const TEXT = { compression: 'none', encoding: 'utf-8', misfits: 'stop' } as const;
const VALUES = { ...TEXT, skip: 0, comment: '', nullTexts: [''], decimal: '.', dateFormat: '', timestampFormat: '', forms: {} } as const;
const DEFAULTS: { [Format in ReadFormat]: Extract<ReadOptions, { format: Format }> } = {
  csv: { format: 'csv', delimiter: ',', header: true, headerLines: 1, quote: '"', escape: '"', skipEnd: 0, pads: false, perFile: false, rewrite: false, ...VALUES, nullTexts: [''] },
  fixed: { format: 'fixed', header: false, columns: [], ...VALUES, nullTexts: [''] },
  pattern: { format: 'pattern', pattern: WHOLE_LINE(), ...VALUES, nullTexts: [''] },
  json: { format: 'json', shape: 'lines', at: '', names: [], header: false, key: 'key', syntax: 'json', ...TEXT },
  xml: { format: 'xml', record: '', lists: [], structs: [], compression: 'none' },
  avro: { format: 'avro' },
  arrow: { format: 'arrow' },
  parquet: { format: 'parquet' },
};
export const READ_FORMATS = Object.keys(DEFAULTS) as ReadFormat[];

/** The pattern that takes any line as one column: for text of which nothing else is known. */
function WHOLE_LINE(): string {
  return '(?P<line>.*)';
}

/** The given options with the usual value of each that is missing. */
export function fullOptions(given: GivenOptions): ReadOptions {
  const { nullText, ...rest } = given;
  const defaults = DEFAULTS[given.format];
  return { ...defaults, ...('nullTexts' in defaults && typeof nullText === 'string' ? { nullTexts: [nullText] } : {}), ...rest } as ReadOptions;
}

/** The named groups of a pattern, in order. Fails when it has none, or two of a name. */
export function groupNames(pattern: string): string[] {
  const names = [...pattern.matchAll(/\(\?P?<([A-Za-z_]\w*)>/g)].map((match) => match[1]!);
  if (names.length === 0) throw new LakeError('bad-request', `The regular expression "${pattern}" has no named group, so it makes no column.`, { hint: 'Write a group as (?<name>…).' });
  const twice = twiceNamed(names);
  if (twice !== undefined) throw new LakeError('bad-request', `The regular expression has the group "${twice}" twice.`);
  return names;
}

/** Names of the columns that the options themselves give, in order; undefined where the files name them. */
export function givenColumns(options: ReadOptions): string[] | undefined {
  if (options.format === 'fixed') return options.columns.map((column) => column.name);
  return options.format === 'pattern' ? groupNames(options.pattern) : undefined;
}

/**
 * How a copy of the file that was made for the engine is read: kinds that the engine has no reader for become JSON
 * lines, encodings that it does not know become UTF-8. Undefined when the engine reads the file itself.
 */
export function optionsOfCopy(options: ReadOptions): ReadOptions | undefined {
  if (options.format === 'xml' || options.format === 'avro' || options.format === 'arrow') return fullOptions({ format: 'json' });
  if (options.format === 'parquet') return undefined;
  if (options.format === 'json' && isCutByUs(options)) return { ...options, ...ONE_A_LINE, encoding: 'utf-8', compression: 'none' };
  if (options.format === 'csv' && isCutByUs(options)) return { ...options, delimiter: ',', quote: '"', escape: '"', comment: '', skip: 0, skipEnd: 0, header: true, headerLines: 1, pads: false, perFile: false, rewrite: false, encoding: 'utf-8', compression: 'none' };
  const isKnown = options.format === 'json' ? options.encoding === 'utf-8' : ENGINE_ENCODINGS[options.encoding] !== undefined;
  if (isKnown && isUnpackedByEngine(options.compression)) return undefined;
  return { ...options, encoding: 'utf-8', compression: 'none' };
}

const ONE_A_LINE = { shape: 'lines', at: '', names: [] as string[], header: false, syntax: 'json' } as const;

/** Whether the engine's reader would cut the text in another way than these options say. */
export function isCutByUs(options: CsvOptions | JsonOptions): boolean {
  if (options.format === 'json') return options.syntax !== 'json' || options.at !== '' || !['lines', 'array'].includes(options.shape);
  const { rewrite, perFile, delimiter, skipEnd } = options;
  return rewrite || perFile || skipEnd > 0 || delimiter === RUNS || delimiter.length > 4;
}

/** Whether the engine unpacks such files itself; others are read from an unpacked copy. */
export function isUnpackedByEngine(compression: Compression): boolean {
  return compression === 'none' || compression === 'gzip' || compression === 'zstd';
}

/** Encodings that the engine reads, by label, as it names them. */
export const ENGINE_ENCODINGS: Record<string, string> = { 'utf-8': 'utf-8', 'iso-8859-1': 'latin-1', 'utf-16le': 'utf-16' };

export function describeOptions(options: ReadOptions): string {
  const parts = [mainWords(options)];
  if ('encoding' in options && options.encoding !== 'utf-8') parts.push(options.encoding);
  if ('compression' in options && options.compression !== 'none') parts.push(options.compression === 'auto' ? 'packed in several ways' : options.compression);
  if ('nullTexts' in options) {
    const texts = options.nullTexts.filter((text) => text !== '');
    if (texts.length > 0) parts.push(`${texts.map((text) => `"${text}"`).join(', ')} for missing`);
    if (options.skip > 0) parts.push(`${options.skip} ${options.skip === 1 ? 'line' : 'lines'} skipped`);
    if (options.comment !== '') parts.push(`lines after ${options.comment} passed over`);
    if (options.decimal === ',') parts.push('decimal comma');
    if (options.format === 'csv' && options.skipEnd > 0) parts.push(`${options.skipEnd} ${options.skipEnd === 1 ? 'line' : 'lines'} below the table left out`);
    if (options.format === 'csv' && options.pads) parts.push('shorter lines filled up');
    for (const [column, form] of Object.entries(options.forms)) {
      const unit = EPOCH_UNITS.find((each) => each.unit === form.epoch);
      if (form.formats) parts.push(`${column} as ${form.formats.map(formatWords).join(' or ')}`);
      if (unit) parts.push(`${column} as ${unit.words} since 1970`);
    }
  }
  if ('misfits' in options && options.misfits === 'set-aside') parts.push('what does not fit set aside');
  return parts.join(', ');
}

function mainWords(options: ReadOptions): string {
  switch (options.format) {
    case 'parquet':
      return 'Parquet';
    case 'avro':
      return 'Avro';
    case 'arrow':
      return 'Arrow';
    case 'xml':
      return `XML, a row for each <${options.record}>`;
    case 'json':
      return options.syntax === 'pairs' ? 'lines of keys with values' : `${options.syntax === 'yaml' ? 'YAML' : 'JSON'}, ${SHAPE_WORDS[options.shape]}${options.at === '' ? '' : ` under ${options.at}`}`;
    case 'csv':
      return `text, ${options.perFile ? 'each file with its own delimiter' : `${delimiterName(options.delimiter)} between fields`}, ${options.header ? (options.headerLines > 1 ? `header of ${options.headerLines} lines` : 'header') : 'no header'}`;
    case 'fixed':
      return `text of fixed width (${rulerText(options.columns)})${options.header ? ', header' : ''}`;
    case 'pattern':
      return options.pattern === WHOLE_LINE() ? 'text, a line a row' : `text${logName(options.pattern) ?? ` by the pattern ${options.pattern}`}`;
  }
}

function logName(pattern: string): string | undefined {
  const form = LOG_FORMS.find((each) => each.pattern === pattern);
  return form && `, ${form.name}`;
}

const SHAPE_WORDS: Record<JsonOptions['shape'], string> = {
  lines: 'one object a line', array: 'an array of objects', sequence: 'one object after the other', keyed: 'an object a row, by key', cells: 'a list of cells a row', features: 'a GeoJSON feature a row', values: 'a list of bare values',
};

export function delimiterName(delimiter: string): string {
  const names: Record<string, string> = { ',': 'comma', '|': 'pipe', ';': 'semicolon', '\t': 'tab', ' ': 'space', [RUNS]: 'blanks', ':': 'colon' };
  return names[delimiter] ?? `"${delimiter}"`;
}
