/** Compiles a scan plan to SQL that stands in its table's place in a one-use instance. */
import { LakeError } from '../../core/errors';
import type { CsvOptions, JsonOptions } from '../../core/folder/read-options';
import { filesToRead, type DataFile, type ScanPlan } from '../../core/scan/plan';
import { findField, isNested, type Field, type LogicalType } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteName, quoteText } from '../../core/sql/tokens';
import { formatValue } from '../../core/values/text';
import type { Value } from '../../core/values/value';
import { quoteList } from './instances';

export interface ScanInput {
  /** Unlike that of any other scan of the query; names what the setup makes. */
  name: string;
  plan: ScanPlan;
  /** Where a file of the plan can be opened on this machine. */
  localPath: (file: DataFile) => string;
  /** The header of a delimited file, for reading columns by name. */
  headers?: Map<string, string[]>;
}

/** Up to so many different partition values each get a branch of their own, with the values as constants; more are joined. */
const BRANCH_LIMIT = 30;

/** How to read exactly the files of a plan. */
export interface Scan {
  /** Statements to run before. */
  setup: string[];
  /** SQL that stands in a table's place. */
  relation: string;
}

/** Lists up to so long stand in the query itself; longer ones in a variable, so that they are parsed once. */
const INLINE_FILES = 50;

export function scanOf(input: ScanInput): Scan {
  const files = filesToRead(input.plan);
  const { fields } = input.plan;
  if (files.length === 0) return { setup: [], relation: `(${emptySelect(fields)})` };
  const constantColumns = fields.filter((field) => files.some((file) => field.name in file.constants));
  const groups = groupFiles(files, constantColumns, input.headers);
  if (groups.length <= BRANCH_LIMIT || input.plan.reader.kind !== 'parquet') return branches(input, groups, constantColumns);
  return joined(input, files, constantColumns);
}

function emptySelect(fields: readonly Field[]): string {
  return `SELECT ${fields.map((field) => `NULL::${typeName(field.type)} AS ${quoteName(field.name)}`).join(', ')} WHERE false`;
}

interface Group {
  files: DataFile[];
  constants: DataFile['constants'];
  header?: string[];
}

/** Files with the same constants, and for delimited text the same header. */
function groupFiles(files: readonly DataFile[], constantColumns: readonly Field[], headers: Map<string, string[]> | undefined): Group[] {
  const groups = new Map<string, Group>();
  for (const file of files) {
    const header = headers?.get(file.path);
    const key = JSON.stringify([constantColumns.map((field) => literal(field.type, file.constants[field.name] ?? null)), header]);
    const group = groups.get(key) ?? { files: [], constants: file.constants, ...(header ? { header } : {}) };
    group.files.push(file);
    groups.set(key, group);
  }
  return [...groups.values()];
}

function branches(input: ScanInput, groups: Group[], constantColumns: Field[]): Scan {
  const { name, plan } = input;
  const setup: string[] = [];
  const selects = groups.map((group, index) => {
    const list = fileList(`${name}_files_${index}`, group.files.map(input.localPath), setup);
    const inFile = plan.fields.filter((field) => !constantColumns.includes(field));
    const columns = plan.fields.map((field) => (constantColumns.includes(field) ? `${literal(field.type, group.constants[field.name] ?? null)} AS ${quoteName(field.name)}` : sourceColumn(field, group.header, plan)));
    return `SELECT ${columns.join(', ')} FROM ${reader(plan, inFile, list, group)}`;
  });
  return { setup, relation: `(${selects.join(' UNION ALL ')})` };
}

/** The list as SQL: as it is, or by way of a variable that `setup` sets. */
function fileList(variable: string, files: readonly string[], setup: string[]): string {
  if (files.length <= INLINE_FILES) return quoteList(files);
  setup.push(`SET VARIABLE ${quoteName(variable)} = ${quoteList(files)}`);
  return `getvariable(${quoteText(variable)})`;
}

/** Many partitions: their values stand in a small table, joined by the file's index in the list. */
function joined(input: ScanInput, files: DataFile[], constantColumns: Field[]): Scan {
  const { name, plan } = input;
  const parts = `${name}_parts`;
  const inFile = plan.fields.filter((field) => !constantColumns.includes(field));
  const lists = constantColumns.map((field) => `unnest([${files.map((file) => literal(field.type, file.constants[field.name] ?? null)).join(', ')}]) AS ${quoteName(field.name)}`);
  const columns = plan.fields.map((field) => `${constantColumns.includes(field) ? 'p' : 'f'}.${quoteName(field.name)}`);
  // The engine skips files by this join only if the key is an unsigned 64-bit integer.
  const setup = [`CREATE TEMP TABLE ${quoteName(parts)} AS SELECT unnest(range(${files.length}))::UBIGINT AS file_number, ${lists.join(', ')}`];
  const list = fileList(`${name}_files`, files.map(input.localPath), setup);
  return { setup, relation: `(SELECT ${columns.join(', ')} FROM ${reader(plan, inFile, list, { files, constants: {} })} AS f JOIN ${quoteName(parts)} AS p ON f.file_index = p.file_number)` };
}

function reader(plan: ScanPlan, inFile: Field[], files: string, group: Group): string {
  const { reader } = plan;
  if (reader.kind === 'parquet') return parquetReader(inFile, files, group.files, reader.match);
  const { options } = reader;
  if (options.format === 'csv') return csvReader(inFile, files, options, group.header);
  if (options.format === 'json') return jsonReader(inFile, files, options);
  return parquetReader(inFile, files, group.files, 'name');
}

function parquetReader(fields: Field[], files: string, list: readonly DataFile[], match: 'field-id' | 'name'): string {
  // Without a column of its own a file still has rows to count; row numbers then stand in.
  if (fields.length === 0) return `read_parquet(${files}, file_row_number = true)`;
  const entries = fields.map((field) => {
    const key = match === 'field-id' ? fieldId(field) : quoteText(field.name);
    return `${key}: {name: ${quoteText(field.name)}, type: ${quoteText(typeName(field.type))}, default_value: NULL}`;
  });
  // With a schema given the engine would guess 1,000 rows a file, and join in the wrong order.
  const rows = list.reduce((sum, file) => sum + (file.rows ?? Math.max(1, Math.round(file.bytes / 40))), 0);
  return `read_parquet(${files}, schema = MAP {${entries.join(', ')}}, explicit_cardinality = ${Math.max(1, rows)}, can_have_nan = ${fields.some((field) => hasFloats(field.type))})`;
}

function fieldId(field: Field): number {
  if (field.id === undefined) throw new LakeError('bad-file', `The column ${field.name} has no field id in the table's metadata.`);
  return field.id;
}

function hasFloats(type: LogicalType): boolean {
  if (!isNested(type)) return type.kind === 'float' || type.kind === 'double';
  if (type.kind === 'struct') return type.fields.some((field) => hasFloats(field.type));
  return type.kind === 'list' ? hasFloats(type.element.type) : hasFloats(type.value.type);
}

function csvReader(fields: Field[], files: string, options: CsvOptions, header: string[] | undefined): string {
  // Columns are matched by the header's names; one that the table does not know is read as text and left out.
  const columns = header
    ? header.map((name) => `${quoteText(name)}: ${quoteText(findField(fields, name) ? typeName(findField(fields, name)!.type) : 'varchar')}`)
    : fields.map((field) => `${quoteText(field.name)}: ${quoteText(typeName(field.type))}`);
  const settings = [
    `columns = {${columns.join(', ')}}`, `auto_detect = false`, `delim = ${quoteText(options.delimiter)}`, `header = ${options.header}`, `skip = ${options.skip}`,
    `quote = ${quoteText(options.quote)}`, `escape = ${quoteText(options.escape)}`, `nullstr = ${quoteText(options.nullText)}`, `compression = ${quoteText(options.compression)}`,
  ];
  return `read_csv(${files}, ${settings.join(', ')})`;
}

function jsonReader(fields: Field[], files: string, options: JsonOptions): string {
  const columns = fields.map((field) => `${quoteText(field.name)}: ${quoteText(typeName(field.type))}`);
  return `read_json(${files}, columns = {${columns.join(', ')}}, format = '${options.shape === 'lines' ? 'newline_delimited' : 'array'}', compression = '${jsonCompression(options.compression)}', maximum_object_size = 67108864)`;
}

/** The engine's JSON reader has its own word for files that are not packed. */
export function jsonCompression(compression: 'none' | 'gzip'): string {
  return compression === 'none' ? 'uncompressed' : compression;
}

/** A column as the reader gives it; null where a delimited file's header lacks it. */
function sourceColumn(field: Field, header: string[] | undefined, plan: ScanPlan): string {
  if (plan.reader.kind !== 'text' || !header) return quoteName(field.name);
  const found = header.find((name) => name === field.name) ?? header.find((name) => name.toLowerCase() === field.name.toLowerCase());
  return found === undefined ? `NULL::${typeName(field.type)} AS ${quoteName(field.name)}` : `${quoteName(found)} AS ${quoteName(field.name)}`;
}

/** A typed constant: `'2026-03-14'::date`. */
export function literal(type: LogicalType, value: Value | null): string {
  if (value === null) return `NULL::${typeName(type)}`;
  if (value instanceof Uint8Array) return `from_hex(${quoteText(formatValue(type, value))})`;
  return `${quoteText(formatValue(type, value))}::${typeName(type)}`;
}
