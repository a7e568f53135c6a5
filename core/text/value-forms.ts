/** How single values are written in text: numbers, dates, times, truth. What is found here is what the readers are told. */
import type { LogicalType } from '../schema/types';

/** How one column's texts become values. Absent parts are the plain way: a point, ISO 8601, `true` and `false`. */
export interface ValueForm {
  /** Texts for a missing value, besides the empty one. */
  missing?: string[];
  number?: NumberForm;
  /** Ways in which dates and times are written, as in C's strptime, tried in order. */
  formats?: string[];
  /** Language (BCP 47) of month names that are not English. */
  months?: string;
  booleans?: { yes: string[]; no: string[] };
  /** The number counts from 1970-01-01 UTC, in this unit. */
  epoch?: EpochUnit;
}

export type EpochUnit = 's' | 'ms' | 'us' | 'ns';

/** Units in which programs count from 1970, by how many of them a second has (POSIX; the rest is common practice). */
export const EPOCH_UNITS: readonly { unit: EpochUnit; perSecond: number; words: string }[] = [
  { unit: 's', perSecond: 1, words: 'seconds' }, { unit: 'ms', perSecond: 1e3, words: 'milliseconds' }, { unit: 'us', perSecond: 1e6, words: 'microseconds' }, { unit: 'ns', perSecond: 1e9, words: 'nanoseconds' },
];

/** The unit in which whole numbers would all be times between 1990 and 2100; that range is of four different sizes, so there is one at most. */
export function epochUnit(texts: readonly string[]): EpochUnit | undefined {
  const seconds = (text: string, perSecond: number) => Number(text) / perSecond;
  return EPOCH_UNITS.find(({ perSecond }) => texts.every((text) => seconds(text, perSecond) >= 631_152_000 && seconds(text, perSecond) < 4_102_444_800))?.unit;
}

export interface NumberForm {
  decimal: '.' | ',';
  /** What stands between groups of three digits; '' for nothing. */
  group: string;
  /** Marks beside the digits that are left out: signs of currencies, `%`. */
  marks: string[];
  /** Whether a number in parentheses is negative. */
  parentheses: boolean;
}

/** Texts that say that a value is missing, where the rest of the column is numbers, dates or the like. Common practice. */
export const MISSING_TEXTS: ReadonlySet<string> = new Set(['na', 'n/a', '#n/a', 'n.a.', '<na>', 'null', '(null)', '\\n', 'none', 'nil', 'nan', '-nan', '-', '--', '---', '–', '.', '..', '?', '#null!', 'missing', 'unknown', 'n/d', 'nd', 'k.a.', 's/d', '*']);

export function isMissingText(text: string): boolean {
  return MISSING_TEXTS.has(text.trim().toLowerCase());
}

/** Pairs of words for yes and no, in languages people write tables in. */
const TRUTH: readonly (readonly [yes: string, no: string])[] = [
  ['true', 'false'], ['yes', 'no'], ['y', 'n'], ['t', 'f'], ['on', 'off'], ['ja', 'nein'], ['wahr', 'falsch'], ['oui', 'non'], ['vrai', 'faux'], ['si', 'no'], ['sí', 'no'], ['sim', 'não'], ['ja', 'nej'], ['ja', 'nee'], ['tak', 'nie'], ['ano', 'ne'], ['да', 'нет'], ['evet', 'hayır'], ['kyllä', 'ei'],
];

/** The pair that the texts are words of. `true` and `false` may stand alone; of the others both must be there. */
export function truthWords(texts: readonly string[]): { yes: string[]; no: string[] } | undefined {
  const words = new Set(texts.map((text) => text.trim().toLowerCase()));
  const pair = TRUTH.find(([yes, no], index) => [...words].every((word) => word === yes || word === no) && (index === 0 || (words.has(yes) && words.has(no))));
  return pair && { yes: [pair[0]], no: [pair[1]] };
}

const CURRENCY = '[$€£¥₹₽₩₺₴₪฿]|R\\$|kr\\.?|zł|Kč|Ft|CHF|USD|EUR|GBP|JPY|CAD|AUD|NOK|SEK|DKK|PLN|CZK|HUF|INR|CNY|Fr\\.';
const MARKED = new RegExp(`^(\\()?\\s*([+-])?\\s*(${CURRENCY})?\\s*([+-])?\\s*([\\d.,'’\\s\\u00a0\\u202f]*\\d[\\d.,'’\\s\\u00a0\\u202f]*?(?:[eE][+-]?\\d+)?)\\s*(${CURRENCY}|%|‰)?\\s*(\\))?$`);

/** A number with marks and groups is no longer than this. */
const MOST_CHARACTERS = 60;

export interface NumberParts {
  /** Digits with whatever stands between them, and a sign before. */
  bare: string;
  mark: string | undefined;
  parentheses: boolean;
}

/** The digits of a number, and what stands around them; undefined for what is no number in any writing. */
export function numberParts(text: string): NumberParts | undefined {
  const plain = text.trim();
  if (/^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$/.test(plain)) return { bare: plain, mark: undefined, parentheses: false };
  if (plain.length > MOST_CHARACTERS) return undefined;
  const match = MARKED.exec(plain);
  if (!match || Boolean(match[1]) !== Boolean(match[7]) || (match[2] && match[4]) || (match[3] && match[6])) return undefined;
  const sign = match[2] ?? match[4] ?? '';
  if (match[1] && sign !== '') return undefined;
  return { bare: `${sign}${match[5]!.trim()}`, mark: match[3] ?? match[6], parentheses: match[1] !== undefined };
}

const GROUPS = [',', '.', ' ', '\u00a0', '\u202f', "'", '’'];

/** Ways in which the digits can be meant, the likeliest first: each with what the value looks like. */
const WRITINGS: readonly { decimal: '.' | ','; group: string; pattern: RegExp }[] = (['.', ','] as const).flatMap((decimal) => {
  const point = decimal === '.' ? '\\.' : ',';
  const plain = { decimal, group: '', pattern: new RegExp(`^[+-]?(\\d+(${point}\\d*)?|${point}\\d+)([eE][+-]?\\d+)?$`) };
  const grouped = GROUPS.filter((group) => group !== decimal).map((group) => {
    const mark = group === '.' ? '\\.' : group;
    return { decimal, group, pattern: new RegExp(`^[+-]?(\\d{1,3}(${mark}\\d{3})+|\\d+)(${point}\\d*)?$`) };
  });
  return [plain, ...grouped];
});

/** The writings that fit all of the bare numbers. */
export function writingsOf(bare: readonly string[]): { decimal: '.' | ','; group: string }[] {
  const all = WRITINGS.filter(({ pattern }) => bare.every((text) => pattern.test(text)));
  // A group that never stands anywhere says nothing, and a number of one group may as well be a fraction.
  const used = all.filter(({ group, decimal }) => (group === '' || bare.some((text) => text.includes(group))) && (decimal === '.' || bare.some((text) => text.includes(','))));
  const isGrouped = (text: string, group: string) => new RegExp(`^[+-]?[1-9]\\d{0,2}(\\${group}\\d{3})+$`).test(text);
  // `1,234` throughout: groups of three digits are the common way, a fraction of exactly three digits everywhere is not.
  if (used.some(({ group }) => group === ',') && bare.some((text) => text.includes(',')) && bare.every((text) => !text.includes(',') || isGrouped(text, ','))) return used.sort((a, b) => Number(b.group === ',') - Number(a.group === ','));
  if (used.some(({ group }) => group === '.') && bare.some((text) => text.split('.').length > 2)) return used.filter(({ group }) => group === '.');
  return used;
}

/** The number in plain digits with a point: `-1234.5`. Undefined where the form does not fit. */
export function plainNumber(text: string, form: NumberForm | undefined): string | undefined {
  const plain = text.trim();
  if (!form) return /^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$/.test(plain) ? plain : undefined;
  const parts = numberParts(plain);
  if (!parts || (parts.mark !== undefined && !form.marks.includes(parts.mark)) || (parts.parentheses && !form.parentheses)) return undefined;
  const writing = WRITINGS.find((each) => each.decimal === form.decimal && each.group === form.group)!;
  if (!writing.pattern.test(parts.bare)) return undefined;
  const digits = (form.group === '' ? parts.bare : parts.bare.replaceAll(form.group, '')).replace(',', '.');
  return parts.parentheses ? `-${digits}` : digits;
}

/** Parts of a way to write dates, as regular expressions. */
const STEPS: Record<string, string> = {
  '%Y': '(?<Y>[12]\\d{3})', '%y': '(?<y>\\d\\d)', '%m': '(?<m>0?[1-9]|1[0-2])', '%d': '(?<d>0?[1-9]|[12]\\d|3[01])', '%H': '(?<H>[01]?\\d|2[0-3])', '%I': '(?<I>0?[1-9]|1[0-2])', '%M': '(?<M>[0-5]\\d)', '%S': '(?<S>[0-5]\\d|60)', '%f': '(?<f>\\d{1,6})', '%p': '(?<p>[AaPp][Mm])',
  '%z': '(?<z>[+-]\\d\\d:?\\d\\d)', '%b': '(?<b>[\\p{L}]{3,4})', '%B': '(?<B>[\\p{L}]{3,12})', '%a': '\\p{L}{3}', '%A': '\\p{L}{5,10}',
};

const compiled = new Map<string, RegExp>();

function patternOf(format: string): RegExp {
  const known = compiled.get(format);
  if (known) return known;
  const source = format.replace(/%[A-Za-z]|[.*+?^${}()|[\]\\/]/g, (part) => STEPS[part] ?? `\\${part}`);
  const pattern = new RegExp(`^${source}$`, 'u');
  compiled.set(format, pattern);
  return pattern;
}

export interface TimeParts {
  year: number;
  month: number;
  day: number;
  /** Microseconds of the day. */
  micros: number;
}

/** Undefined where the text is not written like that, or names no day of the calendar. */
export function parseTime(text: string, format: string, months: readonly (readonly string[])[] = ENGLISH): TimeParts | undefined {
  const groups = patternOf(format).exec(text.trim())?.groups;
  if (!groups) return undefined;
  const named = groups.b ?? groups.B;
  const month = named === undefined ? Number(groups.m ?? 1) : months.findIndex((names) => names.includes(named.toLowerCase())) + 1;
  const short = Number(groups.y);
  // As POSIX has it: 69 to 99 are of the last century.
  const year = groups.Y !== undefined ? Number(groups.Y) : groups.y === undefined ? 1900 : short + (short < 69 ? 2000 : 1900);
  const day = Number(groups.d ?? 1);
  if (month < 1 || day > daysIn(year, month)) return undefined;
  const half = groups.p?.toLowerCase();
  const hour = groups.I === undefined ? Number(groups.H ?? 0) : (Number(groups.I) % 12) + (half === 'pm' ? 12 : 0);
  return { year, month, day, micros: ((hour * 60 + Number(groups.M ?? 0)) * 60 + Number(groups.S ?? 0)) * 1_000_000 + Number((groups.f ?? '').padEnd(6, '0')) };
}

function daysIn(year: number, month: number): number {
  return new Date(Date.UTC(year, month, 0)).getUTCDate();
}

const monthNames = new Map<string, string[][]>();

/** Short and long names of the months, in lower case, without a dot at the end. */
export function monthsOf(language: string): string[][] {
  const known = monthNames.get(language);
  if (known) return known;
  const names = Array.from({ length: 12 }, (_, index) => {
    const day = new Date(Date.UTC(2001, index, 15));
    const written = (['short', 'long'] as const).flatMap((month) => [
      new Intl.DateTimeFormat(language, { month, timeZone: 'UTC' }).format(day),
      // Some languages bend the name beside a day.
      new Intl.DateTimeFormat(language, { month, day: 'numeric', timeZone: 'UTC' }).formatToParts(day).find((part) => part.type === 'month')?.value ?? '',
    ]);
    return [...new Set(written.map((name) => name.toLowerCase().replace(/\.$/, '')).filter((name) => /^\p{L}/u.test(name)))];
  });
  monthNames.set(language, names);
  return names;
}

const ENGLISH = monthsOf('en').map((names, index) => (index === 8 ? [...names, 'sep', 'sept'] : names));

export const MONTH_LANGUAGES = ['de', 'fr', 'es', 'it', 'pt', 'nl', 'sv', 'da', 'nb', 'fi', 'pl', 'cs', 'hu', 'tr', 'ro', 'ru'];

export function monthsIn(language: string | undefined): readonly (readonly string[])[] {
  return language === undefined ? ENGLISH : monthsOf(language);
}

const STEP_WORDS: Record<string, string> = { '%Y': 'year', '%y': 'yy', '%m': 'month', '%d': 'day', '%b': 'month name', '%B': 'month name', '%H': 'hour', '%I': 'hour', '%M': 'minute', '%S': 'second', '%f': 'fraction', '%p': 'am/pm', '%z': 'zone', '%a': 'weekday', '%A': 'weekday' };

/** A way of writing dates in words: `%d/%m/%Y` is `day/month/year`. */
export function formatWords(format: string): string {
  return format.replace(/%[A-Za-z]/g, (step) => STEP_WORDS[step] ?? step);
}

const DATES = ['-', '/', '.', ' '].flatMap((mark) => [['%Y', '%m', '%d'], ['%d', '%m', '%Y'], ['%m', '%d', '%Y'], ['%d', '%m', '%y'], ['%m', '%d', '%y'], ['%d', '%b', '%Y'], ['%d', '%B', '%Y'], ['%d', '%b', '%y'], ['%Y', '%b', '%d']].map((steps) => steps.join(mark)));
const WORDED = ['%b %d, %Y', '%B %d, %Y', '%b %d %Y', '%B %d %Y', '%d. %b %Y', '%d. %B %Y', '%d %b, %Y', '%d %B, %Y', '%d%b%Y', '%d%b%y', '%a, %d %b %Y', '%A, %B %d, %Y', '%a %d %b %Y'];
/** All ways of writing a date that are looked for, the likeliest first. Where both could be meant, the day goes first but between slashes. */
export const DATE_FORMATS: readonly string[] = [...DATES.filter((format) => format.startsWith('%Y')), ...DATES.filter((format) => !format.startsWith('%Y')).sort((a, b) => Number(b.startsWith('%m/')) - Number(a.startsWith('%m/'))), ...WORDED];
export const COMPACT_DATE = '%Y%m%d';
export const TIME_FORMATS: readonly string[] = ['%H:%M:%S', '%H:%M', '%H:%M:%S.%f', '%I:%M %p', '%I:%M:%S %p', '%I:%M%p', '%H.%M.%S', '%H.%M', '%H:%M:%S,%f'];
const ZONES = ['', '%z', ' %z', 'Z', ' UTC', ' GMT'];

/** Ways of writing a point in time whose date is written like one of these. */
export function timestampFormats(dates: readonly string[]): string[] {
  // Web servers put a colon between a day with the name of its month and the time.
  return dates.flatMap((date) => [' ', 'T', ', ', '-', '  ', ...(date.includes('%b') ? [':'] : [])].flatMap((mark) => TIME_FORMATS.flatMap((time) => ZONES.map((zone) => `${date}${mark}${time}${zone}`))));
}

/** ISO 8601 as the engine reads it without being told. */
export const ISO_DATE = '%Y-%m-%d';
export const ISO_TIMESTAMP = /^\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d{1,6})?)?(Z| ?UTC|[+-]\d\d(:?\d\d)?)?$/;

export type Form = { type: LogicalType; form?: ValueForm };
