/** Compiles a scan plan to SQL that stands in its table's place in a one-use instance. */
import { LakeError } from '../../core/errors';
import { optionsOfCopy } from '../../core/folder/read-options';
import { filesToRead, type DataFile, type ScanPlan } from '../../core/scan/plan';
import { isNested, type Field, type LogicalType } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteName, quoteText } from '../../core/sql/tokens';
import { formatValue } from '../../core/values/text';
import type { Value } from '../../core/values/value';
import { quoteList } from './instances';
import { csvReader, FILE_COLUMN, jsonReader, jsonReaderOfCopy, lineReader } from './text-readers';

export interface ScanInput {
  /** Unlike that of any other scan of the query; names what the setup makes. */
  name: string;
  plan: ScanPlan;
  /** Where a file of the plan, or the copy of it that was made for the engine, can be opened on this machine. */
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
  if (groups.length <= BRANCH_LIMIT) return branches(input, groups, constantColumns);
  return input.plan.reader.kind === 'parquet' ? joined(input, files, constantColumns) : joinedByName(input, files, constantColumns);
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
    const columns = plan.fields.map((field) => (constantColumns.includes(field) ? `${literal(field.type, group.constants[field.name] ?? null)} AS ${quoteName(field.name)}` : sourceColumn(field, group.header)));
    return `SELECT ${columns.join(', ')} FROM ${reader(plan, inFile, list, group, 'rows')}`;
  });
  return { setup, relation: `(${selects.join(' UNION ALL ')})` };
}

/** The list as SQL: as it is, or by way of a variable that `setup` sets. */
function fileList(variable: string, files: readonly string[], setup: string[]): string {
  if (files.length <= INLINE_FILES) return quoteList(files);
  setup.push(`SET VARIABLE ${quoteName(variable)} = ${quoteList(files)}`);
  return `getvariable(${quoteText(variable)})`;
}

/** Each file's partition values, as columns of a select. */
function constantLists(files: readonly DataFile[], constantColumns: readonly Field[]): string {
  return constantColumns.map((field) => `unnest([${files.map((file) => literal(field.type, file.constants[field.name] ?? null)).join(', ')}]) AS ${quoteName(field.name)}`).join(', ');
}

/** Many partitions: their values stand in a small table, joined by the file's index in the list. */
function joined(input: ScanInput, files: DataFile[], constantColumns: Field[]): Scan {
  const { name, plan } = input;
  const parts = `${name}_parts`;
  const inFile = plan.fields.filter((field) => !constantColumns.includes(field));
  const columns = plan.fields.map((field) => `${constantColumns.includes(field) ? 'p' : 'f'}.${quoteName(field.name)}`);
  // The engine skips files by this join only if the key is an unsigned 64-bit integer.
  const setup = [`CREATE TEMP TABLE ${quoteName(parts)} AS SELECT unnest(range(${files.length}))::UBIGINT AS file_number, ${constantLists(files, constantColumns)}`];
  const list = fileList(`${name}_files`, files.map(input.localPath), setup);
  return { setup, relation: `(SELECT ${columns.join(', ')} FROM ${reader(plan, inFile, list, { files, constants: {} }, 'rows')} AS f JOIN ${quoteName(parts)} AS p ON f.file_index = p.file_number)` };
}

/** The same for text, whose readers tell the file by its name alone; one branch for each header. */
function joinedByName(input: ScanInput, files: DataFile[], constantColumns: Field[]): Scan {
  const { name, plan } = input;
  const parts = `${name}_parts`;
  const inFile = plan.fields.filter((field) => !constantColumns.includes(field));
  const setup = [`CREATE TEMP TABLE ${quoteName(parts)} AS SELECT unnest(${quoteList(files.map(input.localPath))}) AS file_name${constantColumns.length > 0 ? `, ${constantLists(files, constantColumns)}` : ''}`];
  const selects = groupFiles(files, [], input.headers).map((group, index) => {
    const list = fileList(`${name}_files_${index}`, group.files.map(input.localPath), setup);
    const columns = plan.fields.map((field) => (constantColumns.includes(field) ? `p.${quoteName(field.name)}` : sourceColumn(field, group.header)));
    return `SELECT ${columns.join(', ')} FROM ${reader(plan, inFile, list, group, 'rows and file')} AS f JOIN ${quoteName(parts)} AS p ON f.${FILE_COLUMN} = p.file_name`;
  });
  return { setup, relation: `(${selects.join(' UNION ALL ')})` };
}

function reader(plan: ScanPlan, inFile: Field[], files: string, group: Group, gives: 'rows' | 'rows and file'): string {
  const { reader } = plan;
  if (reader.kind === 'parquet') return parquetReader(inFile, files, group.files, reader.match);
  if (reader.kind === 'source') throw new Error('rows of a database are fetched before they are read');
  const options = reader.kind === 'copy' ? reader.options : (optionsOfCopy(reader.options) ?? reader.options);
  const withFile = gives === 'rows and file';
  switch (options.format) {
    case 'csv':
      return csvReader(inFile, files, options, group.header, withFile ? [`filename = '${FILE_COLUMN}'`] : []);
    case 'json':
      return reader.kind === 'text' && options === reader.options ? jsonReader(inFile, files, options, withFile) : jsonReaderOfCopy(inFile, files, options, withFile);
    case 'fixed':
    case 'pattern':
      return lineReader(inFile, files, options, withFile);
    default:
      return parquetReader(inFile, files, group.files, 'name');
  }
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

/** A column as the reader gives it; null where a delimited file's header lacks it. */
function sourceColumn(field: Field, header: string[] | undefined): string {
  if (!header) return quoteName(field.name);
  const found = header.find((name) => name === field.name) ?? header.find((name) => name.toLowerCase() === field.name.toLowerCase());
  return found === undefined ? `NULL::${typeName(field.type)} AS ${quoteName(field.name)}` : `${quoteName(found)} AS ${quoteName(field.name)}`;
}

/** A typed constant: `'2026-03-14'::date`. */
export function literal(type: LogicalType, value: Value | null): string {
  if (value === null) return `NULL::${typeName(type)}`;
  if (value instanceof Uint8Array) return `from_hex(${quoteText(formatValue(type, value))})`;
  return `${quoteText(formatValue(type, value))}::${typeName(type)}`;
}
