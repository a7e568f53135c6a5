/**
 * SQL that makes values of texts: null where the text is missing or does not fit. Nothing is rounded and nothing is cut
 * off on the way: the engine's own casts make 2 of `1.5` as a bigint and a day of a time, so each is held against what
 * its type can say.
 */
import { monthsOf, type NumberForm, type ValueForm } from '../../core/text/value-forms';
import type { ValueOptions } from '../../core/folder/read-options';
import type { LogicalType } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteText } from '../../core/sql/tokens';

/** Ways of one column: its own form, else what holds for the whole file. */
export type Ways = Pick<ValueOptions, 'decimal' | 'dateFormat' | 'timestampFormat' | 'nullTexts'>;

/** Blanks that may stand around a value that is no text. */
const BLANKS = "' \t\u00a0\u202f'";

export function trimmed(text: string): string {
  return `trim(${text}, ${BLANKS})`;
}

/** The texts that stand for a missing value, as a list of literals. */
export function missingTexts(form: ValueForm | undefined, { nullTexts }: Pick<Ways, 'nullTexts'>): string {
  return [...new Set(['', ...nullTexts, ...(form?.missing ?? [])])].map(quoteText).join(', ');
}

/** SQL for the text, null where it stands for a missing value. */
export function presentText(text: string, form: ValueForm | undefined, ways: Pick<Ways, 'nullTexts'>): string {
  return `CASE WHEN ${text} IN (${missingTexts(form, ways)}) THEN NULL ELSE ${text} END`;
}

/** SQL for the value of a text that may have blanks around it, which few have: they are looked for where it does not fit as it is. */
export function valueOfText(type: LogicalType, text: string, form: ValueForm | undefined, ways: Ways): string {
  return type.kind === 'string' ? text : `coalesce(${valueSql(type, text, form, ways)}, ${valueSql(type, trimmed(text), form, ways)})`;
}

/** SQL for the value of a text that `presentText` gave; null where it does not fit the type. */
export function valueSql(type: LogicalType, text: string, form: ValueForm | undefined, ways: Ways): string {
  switch (type.kind) {
    case 'string':
      return text;
    case 'byte':
    case 'short':
    case 'int':
    case 'long':
      return form?.number ? exactNumber(type, text, form.number) : `CASE WHEN regexp_full_match(${text}, '[+-]?[0-9]+') THEN TRY_CAST(${text} AS ${typeName(type)}) END`;
    case 'decimal':
    case 'double':
    case 'float':
      return exactNumber(type, text, form?.number ?? (ways.decimal === ',' ? { decimal: ',', group: '', marks: [], parentheses: false } : undefined));
    case 'boolean':
      return form?.booleans ? `CASE WHEN lower(${text}) IN (${form.booleans.yes.map(quoteText).join(', ')}) THEN true WHEN lower(${text}) IN (${form.booleans.no.map(quoteText).join(', ')}) THEN false END` : `TRY_CAST(${text} AS BOOLEAN)`;
    case 'date': {
      const formats = formatsOf(form, ways.dateFormat);
      return formats ? `${parsed(text, formats, form)}::DATE` : `CASE WHEN length(${text}) <= 10 THEN TRY_CAST(${text} AS DATE) END`;
    }
    case 'time':
      return form?.formats ? `${parsed(text, form.formats, form)}::TIME` : `TRY_CAST(${text} AS TIME)`;
    case 'timestamp_ns':
      return form?.epoch ? `CASE WHEN regexp_full_match(${text}, '[+-]?[0-9]+') THEN make_timestamp_ns(TRY_CAST(${text} AS BIGINT)) END` : `TRY_CAST(${text} AS ${typeName(type)})`;
    case 'timestamp':
    case 'timestamptz': {
      if (form?.epoch) return `CASE WHEN regexp_full_match(${text}, '[+-]?[0-9]{1,18}') THEN make_timestamp(TRY_CAST(${text} AS BIGINT) * ${{ s: 1_000_000, ms: 1000, us: 1, ns: 0 }[form.epoch]})::${typeName(type)} END`;
      const formats = formatsOf(form, ways.timestampFormat);
      if (formats) return `${parsed(text, formats, form)}::${typeName(type)}`;
      const loses = type.kind === 'timestamp' ? `regexp_matches(${text}, '\\.\\d{7}|:\\d\\d(\\.\\d+)?\\s*[+-]\\d\\d(:?\\d\\d)?$')` : `regexp_matches(${text}, '\\.\\d{7}')`;
      return `CASE WHEN length(${text}) <= 19 OR NOT ${loses} THEN TRY_CAST(${text} AS ${typeName(type)}) END`;
    }
    default:
      return `TRY_CAST(${text} AS ${typeName(type)})`;
  }
}

function formatsOf(form: ValueForm | undefined, common: string): string[] | undefined {
  return form?.formats ?? (common === '' ? undefined : [common]);
}

/** Each format by itself: those with a zone and those without are of two types. */
function parsed(text: string, formats: readonly string[], form: ValueForm | undefined): string {
  const [source, plain] = form?.months === undefined ? [text, formats] : [numberedMonths(text, form.months), formats.map((format) => format.replace(/%[bB]/g, '%m'))];
  const each = plain.map((format) => `try_strptime(${source}, ${quoteText(format)})`);
  return each.length === 1 ? each[0]! : `coalesce(${each.map((one) => `${one}::TIMESTAMPTZ`).join(', ')})`;
}

/** The text with its month's name in another language made a number; the longest name first, since some begin with others. */
function numberedMonths(text: string, language: string): string {
  const names = monthsOf(language).flatMap((all, index) => all.map((name) => ({ name, number: String(index + 1).padStart(2, '0') }))).sort((a, b) => b.name.length - a.name.length);
  return names.reduce((sql, { name, number }) => `replace(${sql}, ${quoteText(name)}, ${quoteText(number)})`, `lower(${text})`);
}

/** The number without marks and groups, held against its writing and against what its type keeps. */
function exactNumber(type: LogicalType, text: string, form: NumberForm | undefined): string {
  const cast = (digits: string) => `TRY_CAST(${digits} AS ${typeName(type)})`;
  if (!form) return type.kind === 'decimal' ? `CASE WHEN regexp_full_match(${text}, ${quoteText(exactPattern(type.scale))}) THEN ${cast(text)} END` : cast(text);
  const bare = bareNumber(text, form);
  const digits = `replace(${form.group === '' ? bare : `replace(${bare}, ${quoteText(form.group)}, '')`}, ',', '.')`;
  const group = form.group === '.' ? '\\.' : form.group;
  const point = form.decimal === '.' ? '\\.' : ',';
  const whole = form.group === '' ? '\\d*' : `(\\d{1,3}(${group}\\d{3})+|\\d*)`;
  const scale = type.kind === 'decimal' ? `{0,${type.scale}}0*` : isWhole(type) ? '{0}0*' : '*';
  const exponent = type.kind === 'double' || type.kind === 'float' ? '([eE][+-]?\\d+)?' : '';
  return `CASE WHEN regexp_full_match(${bare}, ${quoteText(`[+-]?${whole}(${point}\\d${scale})?${exponent}`)}) THEN ${cast(digits)} END`;
}

function isWhole({ kind }: LogicalType): boolean {
  return kind === 'long' || kind === 'int' || kind === 'short' || kind === 'byte';
}

function exactPattern(scale: number): string {
  return `[+-]?\\d*(\\.\\d{0,${scale}}0*)?`;
}

function bareNumber(text: string, { marks, parentheses, group }: NumberForm): string {
  let sql = marks.reduce((inner, mark) => `replace(${inner}, ${quoteText(mark)}, '')`, text);
  // Blanks between a sign, a mark and the digits; those between groups of digits stay where they are what groups them.
  sql = group === ' ' || group === '\u00a0' || group === '\u202f' ? trimmed(sql) : `replace(${sql}, ' ', '')`;
  return parentheses ? `CASE WHEN starts_with(${sql}, '(') AND ends_with(${sql}, ')') THEN concat('-', substr(${sql}, 2, length(${sql}) - 2)) ELSE ${sql} END` : sql;
}

/** Types whose texts the engine's reader of delimited text turns by itself just as `valueSql` would. */
export function isReadPlainly(type: LogicalType, form: ValueForm | undefined, ways: Ways): boolean {
  return form === undefined && (type.kind === 'string' || ((type.kind === 'double' || type.kind === 'float') && ways.decimal === '.'));
}

