/** SQL by which the engine reads text: delimited, JSON, and lines that are cut by place or by a regular expression. */
import { ENGINE_ENCODINGS, groupNames, type Compression, type CsvOptions, type JsonOptions, type LineOptions } from '../../core/folder/read-options';
import { field, hasTwins, leaves, type Field, type LogicalType } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteName, quoteText } from '../../core/sql/tokens';
import { quoteList } from './instances';
import { isReadPlainly, missingTexts, presentText, trimmed, valueOfText, valueSql, type Ways } from './value-sql';

/** Largest JSON object, in bytes. */
const MOST_BYTES = 67_108_864;

/** Name of the column that says which file a row is from, when one is asked for. */
export const FILE_COLUMN = '__file';

/** Marks an error that a reader of lines raised itself, whose text is JSON. */
export const MISFIT = 'kind-harbor-misfit';

/** Delimited text; columns are matched by the header's names where there is one. `files` is SQL for a list. */
export function csvReader(fields: readonly Field[], files: string, options: CsvOptions, header: readonly string[] | undefined, more: readonly string[] = []): string {
  const { source, typed, columns } = delimitedTexts(fields, files, options, header, more);
  if (typed.length === 0) return source;
  const { delimiter, quote, escape, comment, skip } = options;
  const values = typed.map((each) => {
    const { field: of, index, text, value } = each;
    const refused = refusal(of, text, { cut: { index, delimiter, quote, escape, comment, skip } });
    return `${options.misfits === 'stop' ? `CASE WHEN ${text} IS NOT NULL THEN coalesce(${value}, CASE WHEN NOT ${isMissing(each)} THEN ${refused} END) END` : value} AS ${text}`;
  });
  return `(SELECT ${replacing(columns, new Map(typed.map((each, index) => [each.text, values[index]!])))} FROM ${source}${options.misfits === 'set-aside' ? ` WHERE ${fitting(typed)}` : ''})`;
}

/** SQL that stops with the value, in place of one of the column's type; `place` says where in a line to look for it. */
function refusal({ name, type }: Field, text: string, place: Record<string, unknown>): string {
  const known = JSON.stringify({ line: null, column: name, type: typeName(type), ...place }).slice(0, -1);
  return `error(concat(${quoteText(`${MISFIT} ${known},"file":`)}, to_json(${FILE_COLUMN}), ',"value":', to_json(${text}), '}'))::${typeName(type)}`;
}

/** Rows of delimited text that have a value which is not of its column's type: file, place of the first such column, its text, and why. */
export function delimitedMisfits(fields: readonly Field[], files: string, options: CsvOptions, header: readonly string[] | undefined): string {
  const { source, typed } = delimitedTexts(fields, files, { ...options, misfits: 'set-aside' }, header, [`filename = '${FILE_COLUMN}'`]);
  if (typed.length === 0) return `SELECT NULL::VARCHAR AS file, 0 AS index, '' AS value, '' AS why WHERE false`;
  const pick = (give: (each: TypedText) => string) => `CASE ${typed.map((each) => `WHEN NOT ${fits(each)} THEN ${give(each)}`).join(' ')} END`;
  const why = typed.map((each) => `CASE WHEN NOT ${fits(each)} THEN concat('"', ${each.text}, ${quoteText(`" in ${each.field.name} is not a ${typeName(each.field.type)}`)}) END`);
  return `SELECT ${FILE_COLUMN} AS file, ${pick(({ index }) => String(index))} AS index, ${pick(({ text }) => text)} AS value, concat_ws('; ', ${why.join(', ')}) AS why FROM ${source} WHERE NOT (${fitting(typed)})`;
}

/** A column whose text is made a value here and not by the engine's reader. */
interface TypedText {
  field: Field;
  /** Its place in the line. */
  index: number;
  /** SQL for its text, null where that is just a text for a missing value, and for its value, null where that does not fit. */
  text: string;
  value: string;
  /** Texts for a missing value, with blanks around them too. */
  missing: string;
}

function isMissing({ text, missing }: TypedText): string {
  return `(${trimmed(text)} IN (${missing}))`;
}

function fits(each: TypedText): string {
  return `(${each.text} IS NULL OR ${each.value} IS NOT NULL OR ${isMissing(each)})`;
}

function fitting(typed: readonly TypedText[]): string {
  return typed.map(fits).join(' AND ');
}

/** The columns with some replaced; written out, since the engine takes quadratic time for a star of many. */
function replacing(columns: readonly string[], by: ReadonlyMap<string, string>): string {
  return columns.map((name) => by.get(name) ?? name).join(', ');
}

function delimitedTexts(fields: readonly Field[], files: string, options: CsvOptions, header: readonly string[] | undefined, more: readonly string[]): { source: string; typed: TypedText[]; columns: string[] } {
  const names = header ?? fields.map((each) => each.name);
  const [exact, folded] = [new Map(fields.map((each) => [each.name, each])), new Map([...fields].reverse().map((each) => [each.name.toLowerCase(), each]))];
  const known = names.map((name) => exact.get(name) ?? folded.get(name.toLowerCase()));
  const isPlain = (of: Field | undefined) => of !== undefined && isReadPlainly(of.type, options.forms[of.name], options);
  // Of a column that the table does not know the text is read and left out.
  const columns = names.map((name, index) => `${quoteText(name)}: ${quoteText(isPlain(known[index]) ? typeName(known[index]!.type) : 'varchar')}`);
  const converts = names.flatMap((name, index) => (known[index] && !isPlain(known[index]) ? [{ name, index, field: known[index] }] : []));
  const isText = (of: Field) => of.type.kind === 'string';
  const typed = converts.filter((each) => !isText(each.field)).map(({ name, index, field: of }) => ({ field: of, index, text: quoteName(name), value: valueOfText(of.type, quoteName(name), options.forms[of.name], options), missing: missingTexts(options.forms[of.name], options) }));
  const withFile = typed.length > 0 && options.misfits === 'stop' ? [`filename = '${FILE_COLUMN}'`] : [];
  const reader = `read_csv(${files}, ${[`columns = {${columns.join(', ')}}`, ...csvSettings(options), `ignore_errors = ${options.misfits === 'set-aside'}`, ...new Set([...withFile, ...more])].join(', ')})`;
  // What the engine's reader makes null by itself is the same for all columns.
  const texts = converts.filter(({ field: of }) => missingTexts(options.forms[of.name], options) !== missingTexts(undefined, options)).map(({ name, field: of }) => [quoteName(name), `CASE WHEN ${quoteName(name)} IN (${missingTexts(options.forms[of.name], options)}) THEN NULL ELSE ${quoteName(name)} END AS ${quoteName(name)}`] as const);
  const all = [...names.map(quoteName), ...(withFile.length > 0 || more.some((each) => each.startsWith('filename')) ? [FILE_COLUMN] : [])];
  return { source: texts.length === 0 ? reader : `(SELECT ${replacing(all, new Map(texts))} FROM ${reader})`, typed, columns: all };
}

/** All that is not about columns; also for the engine's sniffer, in which a header may be left open. */
function csvSettings(options: CsvOptions): string[] {
  const skip = options.skip + (options.header ? options.headerLines - 1 : 0);
  return ['auto_detect = false', `header = ${options.header}`, `skip = ${skip}`, ...(options.pads ? ['null_padding = true', 'parallel = false'] : []), `quote = ${quoteText(options.quote)}`, `escape = ${quoteText(options.escape)}`, ...dialect(options)];
}

/** What a person can say of delimited text that the engine's sniffer should take as given. */
export function dialect(options: CsvOptions): string[] {
  return [
    `delim = ${quoteText(options.delimiter)}`, `nullstr = ${quoteList(options.nullTexts.length > 0 ? options.nullTexts : [''])}`, `compression = ${quoteText(options.compression)}`, `encoding = ${quoteText(engineEncoding(options.encoding))}`,
    ...(options.comment === '' ? [] : [`comment = ${quoteText(options.comment)}`]), ...(options.decimal === '.' ? [] : [`decimal_separator = ','`]),
    ...(options.dateFormat === '' ? [] : [`dateformat = ${quoteText(options.dateFormat)}`]), ...(options.timestampFormat === '' ? [] : [`timestampformat = ${quoteText(options.timestampFormat)}`]),
  ];
}

/** JSON; the engine's own casts round numbers and cut times off, so values of such columns are made of their texts here. */
export function jsonReader(fields: readonly Field[], files: string, options: JsonOptions, withFile: boolean): string {
  if (options.misfits === 'set-aside' && options.shape === 'lines') return jsonLines(fields, files, options, withFile);
  if (!fields.some(({ type }) => hasExact(type)) || hasTwins(fields)) return plainJsonReader(fields, files, options, withFile);
  const asText = fields.map((each) => ({ ...each, type: exactAsText(each.type) }));
  const columns = fields.map((each) => {
    const text = quoteName(each.name);
    return hasExact(each.type) ? `${exactly(each, text)} AS ${text}` : text;
  });
  return `(SELECT ${[...columns, ...(withFile ? [FILE_COLUMN] : [])].join(', ')} FROM ${plainJsonReader(asText, files, options, true)})`;
}

/** Kinds of values that the engine makes of what says more. */
const EXACT: ReadonlySet<LogicalType['kind']> = new Set<LogicalType['kind']>(['byte', 'short', 'int', 'long', 'decimal', 'date', 'time', 'timestamp', 'timestamptz']);
const PLAIN_WAYS = { decimal: '.', dateFormat: '', timestampFormat: '', nullTexts: [] } as const satisfies Ways;

/** Whether there is anything in it that the engine makes of what says more. */
function hasExact(type: LogicalType): boolean {
  return leaves([field('', type)]).some((leaf) => EXACT.has(leaf.field.type.kind));
}

function exactAsText(type: LogicalType): LogicalType {
  return withInner(type, exactAsText) ?? (EXACT.has(type.kind) ? { kind: 'string' } : type);
}

/** The value of what was read with its exact parts as texts; one that does not fit stops, and is named by its path. */
function exactly(each: Field, text: string, depth = 0): string {
  const { name, type } = each;
  const item = `x${depth}`;
  switch (type.kind) {
    case 'struct':
      return `CASE WHEN ${text} IS NOT NULL THEN struct_pack(${type.fields.map((inner) => `${quoteName(inner.name)} := ${exactly({ ...inner, name: `${name}.${inner.name}` }, `${text}.${quoteName(inner.name)}`, depth)}`).join(', ')}) END`;
    case 'list':
      return hasExact(type.element.type) ? `list_transform(${text}, lambda ${item}: ${exactly({ ...type.element, name: `${name}.element` }, item, depth + 1)})` : text;
    case 'map':
      return hasExact(type.value.type) ? `CASE WHEN ${text} IS NOT NULL THEN map_from_entries(list_transform(map_entries(${text}), lambda ${item}: struct_pack("key" := ${item}."key", "value" := ${exactly({ ...type.value, name: `${name}.value` }, `${item}."value"`, depth + 1)}))) END` : text;
    default:
      return EXACT.has(type.kind) ? `CASE WHEN ${text} IS NOT NULL THEN coalesce(${valueSql(type, text, undefined, PLAIN_WAYS)}, ${refusal(each, text, { json: true })}) END` : text;
  }
}

/** As the engine casts: for what has its types from a schema of its own. */
function plainJsonReader(fields: readonly Field[], files: string, options: JsonOptions, withFile: boolean): string {
  const columns = fields.length === 0 ? '' : hasTwins(fields) ? ', union_by_name = true' : `, columns = {${fields.map((field) => `${quoteText(field.name)}: ${quoteText(typeName(field.type))}`).join(', ')}}`;
  return `read_json(${files}${columns}, ${jsonSettings(options)}${withFile ? `, filename = '${FILE_COLUMN}'` : ''})`;
}

/** Bytes stand in JSON as text with escapes; the reader of a copy casts them, also inside of others. */
export function jsonReaderOfCopy(fields: readonly Field[], files: string, options: JsonOptions, withFile: boolean): string {
  const binary = fields.filter(({ type }) => leaves([field('', type)]).some((leaf) => isBytes(leaf.field.type)));
  if (binary.length === 0) return plainJsonReader(fields, files, options, withFile);
  const asText = fields.map((each) => ({ ...each, type: bytesAsText(each.type) }));
  return `(SELECT * REPLACE (${binary.map(({ name, type }) => `${quoteName(name)}::${typeName(type)} AS ${quoteName(name)}`).join(', ')}) FROM ${plainJsonReader(asText, files, options, withFile)})`;
}

function isBytes({ kind }: LogicalType): boolean {
  return kind === 'binary' || kind === 'fixed';
}

function bytesAsText(type: LogicalType): LogicalType {
  return withInner(type, bytesAsText) ?? (isBytes(type) ? { kind: 'string' } : type);
}

/** A struct, list or map with what is in it made another type; undefined for what holds nothing. */
function withInner(type: LogicalType, change: (type: LogicalType) => LogicalType): LogicalType | undefined {
  const inner = (each: Field): Field => ({ ...each, type: change(each.type) });
  switch (type.kind) {
    case 'struct':
      return { kind: 'struct', fields: type.fields.map(inner) };
    case 'list':
      return { kind: 'list', element: inner(type.element) };
    case 'map':
      return { kind: 'map', key: type.key, value: inner(type.value) };
    default:
      return undefined;
  }
}

export function jsonSettings(options: JsonOptions): string {
  return `format = '${options.shape === 'lines' ? 'newline_delimited' : 'array'}', compression = '${options.compression === 'none' ? 'uncompressed' : options.compression}', maximum_object_size = ${MOST_BYTES}`;
}

/** The engine reads a broken line as nulls when told to go on, so lines are judged here before they are cut. */
function jsonLines(fields: readonly Field[], files: string, options: JsonOptions, withFile: boolean): string {
  const columns = fields.map((field) => `r.${quoteName(field.name)}`);
  return `(SELECT ${[...columns, ...(withFile ? [FILE_COLUMN] : [])].join(', ') || '1 AS present'} FROM (SELECT ${FILE_COLUMN}, line, ${jsonObject(fields)} AS r FROM ${rawLines(files, options)}) WHERE ${jsonFits(fields)})`;
}

/** The line as a struct of the fields, null where it is no object; values of another type are null in it. */
export function jsonObject(fields: readonly Field[]): string {
  const type = typeName({ kind: 'struct', fields: [...fields] });
  return `CASE WHEN json_valid(line) AND json_type(line) = 'OBJECT' THEN TRY_CAST(line::JSON AS ${type}) END`;
}

/** Whether no value was lost on the way to its type; looked at wherever a path without lists leads. SQL over `line` and `r`. */
export function jsonFits(fields: readonly Field[]): string {
  const paths = leaves(fields).map(({ path, field: { type } }) => ({ path, type })).filter(({ path }) => !path.some((step) => step === 'element' || step === 'key' || step === 'value'));
  const kept = paths.map(({ path, type }) => {
    const json = quoteText(`$${path.map((step) => `."${step.replaceAll('"', '\\"')}"`).join('')}`);
    const value = EXACT.has(type.kind) ? valueSql(type, `json_extract_string(line, ${json})`, undefined, PLAIN_WAYS) : `r.${path.map(quoteName).join('.')}`;
    return `(${value} IS NOT NULL OR coalesce(json_type(line, ${json}), 'NULL') = 'NULL')`;
  });
  return ['r IS NOT NULL', ...kept].join(' AND ');
}

/** Lines of text that are cut by place or by a regular expression, as the fields. */
export function lineReader(fields: readonly Field[], files: string, options: LineOptions, withFile: boolean): string {
  const values = fields.map((field) => ({ field, raw: rawName(field.name) }));
  const shown = values.map(({ field, raw }) => `${options.misfits === 'stop' ? checked(field, raw, options) : converted(field, raw, options)} AS ${quoteName(field.name)}`);
  const select = [...shown, ...(withFile ? [FILE_COLUMN] : [])].join(', ') || '1 AS present';
  const fits = options.misfits === 'set-aside' ? values.filter(({ field }) => field.type.kind !== 'string').map(({ field, raw }) => `(${raw} IS NULL OR ${converted(field, raw, options)} IS NOT NULL)`) : [];
  return `(SELECT ${select} FROM (${cutLines(fields.map((field) => field.name), files, options)})${fits.length > 0 ? ` WHERE ${fits.join(' AND ')}` : ''})`;
}

/** The file, the line, and each column's text, null where it stands for a missing value. Lines that do not match are left out or stop. */
export function cutLines(columns: readonly string[], files: string, options: LineOptions): string {
  const texts = columns.map((name) => `${presentText(options.format === 'fixed' ? place(name, options) : `groups.${quoteName(name)}`, options.forms[name], options)} AS ${rawName(name)}`);
  const lines = dataLines(files, options);
  if (options.format === 'fixed') return `SELECT ${[FILE_COLUMN, 'line', ...texts].join(', ')} FROM (${lines})`;
  const pattern = quoteText(enginePattern(options.pattern));
  const matches = `regexp_full_match(line, ${pattern})`;
  const condition = options.misfits === 'stop' ? `CASE WHEN ${matches} THEN true ELSE ${raise("'column', ''", "'value', ''")}::BOOLEAN END` : matches;
  return `SELECT ${[FILE_COLUMN, 'line', ...texts].join(', ')} FROM (SELECT ${FILE_COLUMN}, line, regexp_extract(line, ${pattern}, ${quoteList(groupNames(options.pattern))}) AS groups FROM (${lines}) WHERE ${condition})`;
}

/** Lines that hold data: not blank, not a comment, not the header. */
export function dataLines(files: string, options: LineOptions): string {
  const skip = options.skip + (options.format === 'fixed' && options.header ? 1 : 0);
  return `SELECT ${FILE_COLUMN}, line FROM ${rawLines(files, { ...options, skip })} WHERE line IS NOT NULL AND trim(line) <> ''${options.comment === '' ? '' : ` AND NOT starts_with(line, ${quoteText(options.comment)})`}`;
}

/** Data lines that a pattern does not fit. */
export function unmatchedLines(files: string, options: Extract<LineOptions, { format: 'pattern' }>): string {
  return `SELECT * FROM (${dataLines(files, options)}) WHERE NOT regexp_full_match(line, ${quoteText(enginePattern(options.pattern))})`;
}

/** Every line with its file. No text holds the mark between fields, so a line is one field. */
export function rawLines(files: string, options: { compression: Compression; encoding: string; skip?: number }): string {
  return `read_csv(${files}, columns = {'line': 'VARCHAR'}, auto_detect = false, delim = '\x01', header = false, quote = '', escape = '', skip = ${options.skip ?? 0}, compression = ${quoteText(options.compression)}, encoding = ${quoteText(engineEncoding(options.encoding))}, filename = '${FILE_COLUMN}')`;
}

/** What is wrong with the values of a line, null or empty when nothing is. SQL over `cutLines` with misfits set aside. */
export function misfitReasons(fields: readonly Field[], options: LineOptions): string {
  const reasons = fields.filter((field) => field.type.kind !== 'string')
    .map((field) => `CASE WHEN ${rawName(field.name)} IS NOT NULL AND ${converted(field, rawName(field.name), options)} IS NULL THEN concat('"', ${rawName(field.name)}, ${quoteText(`" in ${field.name} is not a ${typeName(field.type)}`)}) END`);
  return reasons.length === 0 ? 'NULL' : `concat_ws('; ', ${reasons.join(', ')})`;
}

function rawName(column: string): string {
  return quoteName(`text of ${column}`);
}

function place(name: string, options: Extract<LineOptions, { format: 'fixed' }>): string {
  const column = options.columns.find((each) => each.name.toLowerCase() === name.toLowerCase());
  return column ? `trim(substr(line, ${column.from}, ${column.to - column.from + 1}))` : 'NULL::VARCHAR';
}

/** The text as a value of the field's type, null where it is none. */
function converted(column: Field, text: string, options: LineOptions): string {
  return valueSql(column.type, text, options.forms[column.name], options);
}

/** The value, or an error that names the file, the line and the column. */
function checked(field: Field, text: string, options: LineOptions): string {
  if (field.type.kind === 'string') return text;
  return `CASE WHEN ${text} IS NULL THEN NULL ELSE coalesce(${converted(field, text, options)}, ${raise(`'column', ${quoteText(field.name)}, 'type', ${quoteText(typeName(field.type))}`, `'value', ${text}`)}::${typeName(field.type)}) END`;
}

function raise(column: string, value: string): string {
  return `error(concat('${MISFIT} ', json_object('file', ${FILE_COLUMN}, 'line', line, ${column}, ${value})))`;
}

/** The engine's regular expressions write a named group with a P. */
function enginePattern(pattern: string): string {
  return pattern.replace(/\(\?<([A-Za-z_]\w*)>/g, '(?P<$1>');
}

function engineEncoding(encoding: string): string {
  return ENGINE_ENCODINGS[encoding] ?? 'utf-8';
}
