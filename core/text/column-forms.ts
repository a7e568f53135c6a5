/** What type a column's texts are of, and how they are written: decided over all of them, with what else was possible. */
import { isJson } from '../json';
import { typeName } from '../schema/type-names';
import type { LogicalType } from '../schema/types';
import { COMPACT_DATE, DATE_FORMATS, EPOCH_UNITS, epochUnit, formatWords, ISO_DATE, ISO_TIMESTAMP, isMissingText, MONTH_LANGUAGES, monthsIn, numberParts, parseTime, plainNumber, TIME_FORMATS, timestampFormats, truthWords, writingsOf, type Form, type NumberForm, type TimeParts, type ValueForm } from './value-forms';

/** A column's type, and on what it rests. */
export interface ColumnGuess extends Form {
  /** Values that were looked at, the missing ones apart. */
  values: number;
  missing: number;
  /** Why this type, in words. */
  why: string;
  /** What else the values could be, each fitting all of them or nearly all. */
  others: OtherForm[];
  /** Both a day first and a month first fit every value. */
  isAmbiguous?: boolean;
}

export interface OtherForm extends Form {
  label: string;
  /** Values that would not fit, and some of them. */
  misfits: number;
  examples: string[];
}

/** The same as a finding tells it, with the type's name. */
export interface OtherWay extends Omit<OtherForm, 'type'> {
  type: string;
}

/** A kind of value that all texts, or most of them, are of. */
interface Fit extends Form {
  what: string;
  fits: (text: string) => boolean;
  isAmbiguous?: boolean;
  others?: Form[];
}

const STRING: LogicalType = { kind: 'string' };
/** Digits that every double tells apart. */
export const DOUBLE_DIGITS = 17;
/** So much of the values must fit before a type is offered although some do not. */
const NEARLY = 0.9;
/** Different texts by which a column is judged. */
const MOST_DISTINCT = 20_000;

/** `texts`: every value of the column as it stands in the text, in order; '' or null for none. `name` helps where digits alone could be a date. */
export function guessColumn(texts: readonly (string | null)[], name = ''): ColumnGuess {
  const counts = new Map<string, number>();
  let empty = 0;
  for (const text of texts) {
    if (text === null || text.trim() === '') empty++;
    else if (counts.size < MOST_DISTINCT || counts.has(text)) counts.set(text, (counts.get(text) ?? 0) + 1);
  }
  const present = [...counts.keys()];
  const missing = present.filter(isMissingText);
  // Nothing but blanks, where the engine's reader would look for a value.
  const blank = texts.some((text) => text !== null && text !== '' && text.trim() === '') ? [''] : [];
  const core = present.filter((text) => !isMissingText(text));
  const count = (some: readonly string[]) => some.reduce((sum, text) => sum + counts.get(text)!, 0);
  if (core.length === 0) return { type: STRING, values: count(present), missing: empty, why: present.length === 0 ? 'no value is there' : 'only texts that may stand for a missing value', others: [] };
  const fit = fitOf(core, name);
  if (fit) {
    const form: ValueForm = { ...fit.form, ...(missing.length + blank.length > 0 ? { missing: [...missing, ...blank] } : {}) };
    return {
      type: fit.type, ...(Object.keys(form).length > 0 ? { form } : {}), values: count(core), missing: empty + count(missing),
      why: `${count(core)} of ${count(core)} values are ${fit.what}${missing.length > 0 ? `; ${missing.map((text) => `"${text}"`).join(', ')} stand for missing (${count(missing)})` : ''}`,
      others: [...(fit.others ?? []).map((other): OtherForm => ({ ...other, form: { ...other.form, ...(missing.length > 0 ? { missing } : {}) }, label: labelOf(other), misfits: 0, examples: [] })), { type: STRING, label: 'text', misfits: 0, examples: [] }],
      ...(fit.isAmbiguous ? { isAmbiguous: true } : {}),
    };
  }
  const near = nearFit(core, counts);
  const all = count(present);
  if (!near) return { type: STRING, values: all, missing: empty, why: whatText(core, all), others: [] };
  const odd = core.filter((text) => !near.fits(text));
  const form: ValueForm = { ...near.form, ...(missing.length > 0 ? { missing } : {}) };
  const examples = odd.slice(0, 5);
  return {
    type: STRING, values: all, missing: empty,
    why: `${all - count(odd)} of ${all} values are ${near.what}, and ${count(odd)} are not: ${examples.map((text) => `"${text.slice(0, 40)}"`).join(', ')}`,
    others: [
      { type: near.type, ...(Object.keys(form).length > 0 ? { form } : {}), label: `${labelOf(near)}, lines with others set aside`, misfits: count(odd), examples },
      ...(odd.length <= 5 ? [{ type: near.type, form: { ...form, missing: [...missing, ...odd] }, label: `${labelOf(near)}, with ${examples.map((text) => `"${text.slice(0, 20)}"`).join(', ')} for missing`, misfits: 0, examples: [] }] : []),
    ],
  };
}

/** `date as day/month/year`. */
export function labelOf({ type, form }: Form): string {
  const unit = EPOCH_UNITS.find((each) => each.unit === form?.epoch);
  return `${typeName(type)}${unit ? ` as ${unit.words} since 1970` : ''}${form?.formats ? ` as ${form.formats.map(formatWords).join(' or ')}` : ''}`;
}

function whatText(texts: readonly string[], all: number): string {
  if (texts.every((text) => /^[[{]/.test(text.trim()) && isJson(text))) return `${all} of ${all} values are JSON, kept as text`;
  if (texts.every((text) => /^0\d+$/.test(text.trim()) || /^\d+$/.test(text.trim()))) return 'numbers with leading zeros are codes, kept as text';
  return 'the values are text';
}

/** What all texts are. */
function fitOf(texts: readonly string[], name: string): Fit | undefined {
  const words = truthWords(texts);
  if (words) return { type: { kind: 'boolean' }, ...(words.yes[0] === 'true' ? {} : { form: { booleans: words } }), what: `"${words.yes[0]}" or "${words.no[0]}"`, fits: () => true };
  return integers(texts, name) ?? numbers(texts) ?? times(texts) ?? uuids(texts);
}

function uuids(texts: readonly string[]): Fit | undefined {
  const fits = (text: string) => /^[0-9a-f]{8}-([0-9a-f]{4}-){3}[0-9a-f]{12}$/.test(text);
  return texts.every(fits) ? { type: { kind: 'uuid' }, what: 'UUIDs', fits } : undefined;
}

function integers(texts: readonly string[], name: string): Fit | undefined {
  const fits = (text: string) => /^[+-]?(0|[1-9]\d*)$/.test(text.trim());
  if (!texts.every(fits)) return undefined;
  const digits = Math.max(...texts.map((text) => text.trim().replace(/^[+-]/, '').length));
  if (digits > 38) return undefined;
  const isLong = digits <= 18;
  const compact = isLong && texts.every((text) => parseTime(text, COMPACT_DATE) !== undefined && /^(19|20)\d{6}$/.test(text.trim()));
  const asDate: Form = { type: { kind: 'date' }, form: { formats: [COMPACT_DATE] } };
  const asLong: Form = { type: isLong ? { kind: 'long' } : { kind: 'decimal', precision: 38, scale: 0 } };
  if (compact && /date|day|dat(um|a)\b|fecha|jour|tag|ymd|^dt|_dt/i.test(name)) return { ...asDate, what: 'days written as YYYYMMDD', fits, others: [asLong] };
  // A count of seconds is a number like any other, so that it is a time is offered and not decided.
  const unit = compact ? undefined : epochUnit(texts);
  const asTime: Form[] = unit === undefined ? [] : [{ type: { kind: unit === 'ns' ? 'timestamp_ns' : 'timestamptz' }, form: { epoch: unit } }];
  return { ...asLong, what: isLong ? 'whole numbers' : 'whole numbers of more than 18 digits', fits, ...(compact ? { others: [asDate] } : asTime.length > 0 ? { others: asTime } : {}) };
}

function numbers(texts: readonly string[]): Fit | undefined {
  const isNumber = (text: string) => /^[+-]?(inf|infinity)$/i.test(text.trim());
  const finite = texts.filter((text) => !isNumber(text));
  if (finite.length === 0) return undefined;
  const parts = finite.map(numberParts);
  if (parts.includes(undefined)) return undefined;
  const known = parts as NonNullable<(typeof parts)[number]>[];
  const marks = [...new Set(known.flatMap(({ mark }) => (mark === undefined ? [] : [mark])))];
  const bare = known.map((part) => part.bare);
  const [writing] = writingsOf(bare);
  // A code with leading zeros is no number, and two currencies are no sum.
  if (!writing || marks.length > 1) return undefined;
  const parentheses = known.some((part) => part.parentheses);
  const form: NumberForm = { decimal: writing.decimal, group: writing.group, marks, parentheses };
  const isPlain = writing.decimal === '.' && writing.group === '' && marks.length === 0 && !parentheses;
  const digits = bare.map((text) => plainNumber(text, { ...form, marks: [], parentheses: false })!);
  if (digits.some((text) => /^[+-]?0\d/.test(text))) return undefined;
  const type = numberType(digits, marks.some((mark) => mark !== '%' && mark !== '‰'), finite.length < texts.length);
  const fits = (text: string) => isNumber(text) || plainNumber(text, isPlain ? undefined : form) !== undefined;
  return { type, ...(isPlain ? {} : { form: { number: form } }), what: numberWords(form), fits };
}

function numberWords({ decimal, group, marks, parentheses }: NumberForm): string {
  const how = [
    ...(decimal === ',' ? ['a decimal comma'] : []), ...(group === '' ? [] : [`${GROUP_NAMES[group] ?? group} between thousands`]),
    ...(marks.length > 0 ? [`${marks.join(', ')} left out`] : []), ...(parentheses ? ['parentheses for negative ones'] : []),
  ];
  return `numbers${how.length > 0 ? ` with ${how.join(', ')}` : ''}`;
}

const GROUP_NAMES: Record<string, string> = { ',': 'commas', '.': 'points', ' ': 'spaces', '\u00a0': 'spaces', '\u202f': 'narrow spaces', "'": 'apostrophes', '’': 'apostrophes' };

/** Whole numbers, exact decimals for money and for more digits than a double holds, else doubles. */
function numberType(digits: readonly string[], isMoney: boolean, hasInfinity: boolean): LogicalType {
  if (hasInfinity || digits.some((text) => /e/i.test(text))) return { kind: 'double' };
  let [before, scale, significant] = [1, 0, 0];
  for (const text of digits) {
    const [whole = '', fraction = ''] = text.replace(/^[+-]/, '').split('.');
    before = Math.max(before, whole.length);
    scale = Math.max(scale, fraction.length);
    significant = Math.max(significant, `${whole}${fraction}`.replace(/^0+/, '').length);
  }
  if (scale === 0) return before <= 18 ? { kind: 'long' } : before <= 38 ? { kind: 'decimal', precision: 38, scale: 0 } : { kind: 'double' };
  if (isMoney && scale <= 4 && before + scale <= 18) return { kind: 'decimal', precision: 18, scale: Math.max(2, scale) };
  if (significant > DOUBLE_DIGITS && before + scale <= 38) return { kind: 'decimal', precision: 38, scale };
  return { kind: 'double' };
}

function times(texts: readonly string[]): Fit | undefined {
  const trimmed = texts.map((text) => text.trim());
  // Anything else would be tried against hundreds of ways of writing for nothing.
  if (!trimmed.every((text) => text.length <= 45 && /\d/.test(text))) return undefined;
  if (trimmed.every((text) => parseTime(text, ISO_DATE) !== undefined)) {
    const isExact = trimmed.every((text) => text.length === 10);
    return { type: { kind: 'date' }, ...(isExact ? {} : { form: { formats: [ISO_DATE] } }), what: 'days as ISO 8601 writes them', fits: (text) => parseTime(text, ISO_DATE) !== undefined };
  }
  const isIso = (text: string) => ISO_TIMESTAMP.test(text.trim()) && isMoment(text.trim());
  const isIsoOrDay = (text: string) => isIso(text) || (text.trim().length === 10 && parseTime(text, ISO_DATE) !== undefined);
  if (trimmed.every(isIsoOrDay)) return { type: { kind: 'timestamptz' }, what: 'times as ISO 8601 writes them', fits: isIsoOrDay };
  return written(trimmed, 'date', DATE_FORMATS, 'days') ?? written(trimmed, 'time', TIME_FORMATS, 'times of day') ?? writtenTimes(trimmed);
}

function isMoment(text: string): boolean {
  return parseTime(text.slice(0, 10), ISO_DATE) !== undefined && /^([01]\d|2[0-3]):[0-5]\d(:([0-5]\d|60))?/.test(text.slice(11));
}

function writtenTimes(texts: readonly string[]): Fit | undefined {
  const date = (format: string) => new RegExp(`^${format.replace(/[.]/g, '\\.').replace(/%Y/g, '\\d{4}').replace(/%[mdy]/g, '\\d{1,2}').replace(/%[bBaA]/g, '\\p{L}+\\.?')}[ T,:-]`, 'u').test(texts[0]!);
  const found = written(texts, 'timestamp', timestampFormats([...DATE_FORMATS, COMPACT_DATE].filter(date)), 'times');
  // Without a zone UTC is meant, as it is where ISO 8601 says nothing.
  return found && { ...found, type: { kind: 'timestamptz' }, others: (found.others ?? []).map((other) => ({ ...other, type: { kind: 'timestamptz' } })) };
}

/** One way of writing that fits all, else up to three that do together. */
function written(texts: readonly string[], kind: 'date' | 'time' | 'timestamp', formats: readonly string[], words: string): Fit | undefined {
  for (const months of [undefined, ...(texts.some((text) => /\p{L}{3}/u.test(text)) && kind !== 'time' ? MONTH_LANGUAGES : [])]) {
    const names = monthsIn(months);
    const fitsFormat = (format: string) => texts.every((text) => parseTime(text, format, names) !== undefined);
    const all = formats.filter((format) => parseTime(texts[0]!, format, names) !== undefined && fitsFormat(format));
    const chosen = all.length > 0 ? [likelier(texts, all)] : together(texts, formats, names);
    if (!chosen) continue;
    const [only] = chosen;
    const other = chosen.length === 1 ? all.find((format) => format !== only && daysFirst(format) !== daysFirst(only!) && differs(texts, format, only!, names)) : undefined;
    const form = (some: string[]): ValueForm => ({ formats: some, ...(months === undefined ? {} : { months }) });
    return {
      type: { kind }, form: form(chosen), what: `${words} written as ${chosen.map(formatWords).join(' or ')}${other === undefined ? '' : `, or as ${formatWords(other)}: both fit all of them`}`,
      fits: (text) => chosen.some((format) => parseTime(text, format, names) !== undefined),
      ...(other === undefined ? {} : { isAmbiguous: true, others: [{ type: { kind }, form: form([other]) }] }),
    };
  }
  return undefined;
}

function daysFirst(format: string): boolean {
  return format.indexOf('%d') < format.indexOf('%m');
}

function differs(texts: readonly string[], a: string, b: string, names: readonly (readonly string[])[]): boolean {
  return texts.some((text) => orderOf(parseTime(text, a, names)!) !== orderOf(parseTime(text, b, names)!));
}

function orderOf({ year, month, day, micros }: TimeParts): number {
  return (Date.UTC(year, month - 1, day)) * 1000 + micros;
}

/** Of several that fit, one by which the values stand in order, where only one does that. */
function likelier(texts: readonly string[], formats: readonly string[]): string {
  const [first] = formats;
  const rival = formats.find((format) => daysFirst(format) !== daysFirst(first!));
  if (rival === undefined || texts.length < 3) return first!;
  const inOrder = (format: string) => {
    const times = texts.map((text) => orderOf(parseTime(text, format)!));
    return times.every((time, index) => index === 0 || time >= times[index - 1]!) || times.every((time, index) => index === 0 || time <= times[index - 1]!);
  };
  return inOrder(rival) && !inOrder(first!) ? rival : first!;
}

const MOST_FORMATS = 3;

/** A few ways of writing that fit every value together, none of them the other of two that day and month tell apart. */
function together(texts: readonly string[], formats: readonly string[], names: readonly (readonly string[])[]): string[] | undefined {
  const chosen: string[] = [];
  let rest = [...texts];
  while (rest.length > 0 && chosen.length < MOST_FORMATS) {
    const best = formats.filter((format) => parseTime(rest[0]!, format, names) !== undefined && !chosen.some((each) => sameMarks(each, format)))
      .map((format) => ({ format, left: rest.filter((text) => parseTime(text, format, names) === undefined) })).sort((a, b) => a.left.length - b.left.length)[0];
    if (!best) return undefined;
    chosen.push(best.format);
    rest = best.left;
  }
  return rest.length === 0 && chosen.length > 1 ? chosen : undefined;
}

function sameMarks(a: string, b: string): boolean {
  const marks = (format: string) => format.replace(/%d/g, '%m');
  return marks(a) === marks(b);
}

/** What nearly all texts are, where not all are. */
function nearFit(texts: readonly string[], counts: ReadonlyMap<string, number>): Fit | undefined {
  const total = texts.reduce((sum, text) => sum + counts.get(text)!, 0);
  const plain = texts.filter((text) => numberParts(text) !== undefined && !/^[+-]?0\d/.test(text.trim()));
  const dates = texts.filter((text) => text.length <= 45 && /\d.*\d/.test(text) && /[-/.: ]/.test(text) && plain.length < texts.length / 2);
  for (const some of [plain, dates]) {
    const share = some.reduce((sum, text) => sum + counts.get(text)!, 0) / total;
    if (share < NEARLY || share === 1) continue;
    const fit = integers(some, '') ?? numbers(some) ?? times(some);
    if (fit) return fit;
  }
  return undefined;
}
