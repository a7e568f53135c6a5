/** Parquet files of a scan plan as SQL: constants from partitions, columns by id or name, rows left out by position. */
import path from 'node:path';
import { LakeError } from '../../core/errors';
import type { ColumnMatch, DataFile, RowFilter } from '../../core/scan/plan';
import { hasTwins, isNested, physicalName, type Field, type LogicalType } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteName, quoteText } from '../../core/sql/tokens';
import { formatValue } from '../../core/values/text';
import { projectRoot } from '../program-files';
import { quoteList } from './instances';
import { literal } from './literal';

/** Up to so many different partition values each get a branch of their own, with the values as constants; more are joined. */
export const BRANCH_LIMIT = 30;
/** The same for files of which rows are left out: a bitmap that is a constant costs least, but each branch has its price. */
const FILTER_LIMIT = 64;
/** Lists up to so long stand in the query itself; longer ones in a variable, so that they are parsed once. */
const INLINE_FILES = 50;

export interface ParquetScan {
  /** Unlike that of any other scan of the query; names what the setup makes. */
  name: string;
  fields: readonly Field[];
  match: ColumnMatch;
  files: readonly DataFile[];
  localPath: (file: DataFile) => string;
  /** The listed rows of each file that has a row filter, by its key. */
  rows: ReadonlyMap<string, Uint32Array>;
  /** Adds the columns of `POSITION` to every row. */
  withPositions: boolean;
  /** The number that a file's rows give; its place in `files` where absent. */
  numberOf?: (file: DataFile) => number;
  /** Files that have the columns as the table has them, which the engine reads best by itself. */
  plain?: ReadonlySet<DataFile>;
}

/** The number of a row's file in the scan's list, and of the row in its file. */
export const POSITION = { file: '__file', row: '__row' } as const;

/** How to read exactly the files of a plan. */
export interface Scan {
  /** Statements to run before. */
  setup: string[];
  /** SQL that stands in a table's place. */
  relation: string;
}

interface Numbered {
  file: DataFile;
  /** Its place in the scan's list. */
  number: number;
}

export function parquetScan(scan: ParquetScan): Scan {
  const setup: string[] = [];
  const selects: string[] = [];
  for (const files of bySignature(scan).values()) {
    const constants = scan.fields.filter((field) => field.name in files[0]!.file.constants);
    const whole = files.filter(({ file }) => !file.rowFilter);
    const groups = byConstants(whole, constants);
    if (groups.length <= BRANCH_LIMIT) selects.push(...groups.map((group) => branch(scan, group, constants, setup)));
    else selects.push(joined(scan, whole, constants, setup));
    for (const listed of ['left-out', 'kept'] as const) {
      const filtered = files.filter(({ file }) => file.rowFilter?.listed === listed);
      if (filtered.length === 0) continue;
      for (const { file } of filtered) setup.push(bitmap(scan, file.rowFilter!));
      if (filtered.length <= FILTER_LIMIT) selects.push(...filtered.map((each) => branch(scan, [each], constants, setup, each.file.rowFilter)));
      else selects.push(joined(scan, filtered, constants, setup, listed));
    }
  }
  return { setup, relation: `(${selects.join(' UNION ALL ')})` };
}

/** Files that hold the same columns as constants are read alike. */
function bySignature({ files, fields, numberOf, plain }: ParquetScan): Map<string, Numbered[]> {
  const groups = new Map<string, Numbered[]>();
  for (const [index, file] of files.entries()) {
    const number = numberOf?.(file) ?? index;
    const key = `${fields.map((field) => (field.name in file.constants ? '1' : '0')).join('')} ${file.columns?.key ?? ''} ${plain?.has(file) ? 'plain' : ''}`;
    const group = groups.get(key);
    if (group) group.push({ file, number });
    else groups.set(key, [{ file, number }]);
  }
  return groups;
}

function byConstants(files: readonly Numbered[], constants: readonly Field[]): Numbered[][] {
  const groups = new Map<string, Numbered[]>();
  for (const each of files) {
    const key = JSON.stringify(constants.map((field) => literal(field.type, each.file.constants[field.name] ?? null)));
    const group = groups.get(key);
    if (group) group.push(each);
    else groups.set(key, [each]);
  }
  return [...groups.values()];
}

/**
 * A Parquet file without rows. With a schema given the engine does not look at the first file beforehand, and takes a list
 * of one for one piece of work; beside a second file it divides a large one among its threads.
 */
export const NO_ROWS_FILE = path.join(projectRoot, 'server/engine/no-rows.parquet');
/** Rows of the engine's own row groups, below which there is nothing to divide. */
const DIVISIBLE_ROWS = 122_880;

function isDivisible({ rows, bytes }: DataFile): boolean {
  return rows === undefined ? bytes > 4e6 : rows > DIVISIBLE_ROWS;
}

/** Files with the same constants. */
function branch(scan: ParquetScan, group: readonly Numbered[], constants: readonly Field[], setup: string[], filter?: RowFilter): string {
  const { all, match, isConstant } = fieldsIn(scan, group[0]!.file, constants);
  const inFile = all.filter((field) => !isConstant(field));
  const isPlain = scan.plain?.has(group[0]!.file) === true && !filter;
  const divides = !isPlain && group.length === 1 && inFile.length > 0 && isDivisible(group[0]!.file);
  const list = fileList(`${scan.name}_files_${group[0]!.number}`, [...group.map(({ file }) => scan.localPath(file)), ...(divides ? [NO_ROWS_FILE] : [])], setup);
  const columns = all.map((field) => (isConstant(field) ? `${literal(field.type, group[0]!.file.constants[field.name] ?? null)} AS ${quoteName(field.name)}` : `${logical(field, quoteName(field.name))} AS ${quoteName(field.name)}`));
  if (scan.withPositions) columns.push(`${fileNumber(group)} AS ${POSITION.file}`, `file_row_number AS ${POSITION.row}`);
  const where = filter ? ` WHERE ${bitTest(scan, filter)}` : '';
  return `SELECT ${columns.join(', ')} FROM ${isPlain ? plainReader(inFile, list) : parquetReader(inFile, list, group.map(({ file }) => file), match)}${where}`;
}

/** The scan's columns as a file has them. */
function fieldsIn({ fields, match }: ParquetScan, { columns }: DataFile, constants: readonly Field[]): { all: Field[]; match: ColumnMatch; isConstant: (field: Field) => boolean } {
  const names = new Set(constants.map((field) => field.name));
  return { all: fields.map((field) => columns?.fields.find((each) => each.name === field.name) ?? field), match: columns ? 'name' : match, isConstant: (field) => names.has(field.name) };
}

function fileNumber(group: readonly Numbered[]): string {
  if (group.length === 1) return `${group[0]!.number}::UBIGINT`;
  return `list_extract([${group.map(({ number }) => number).join(', ')}]::UBIGINT[], file_index::BIGINT + 1)`;
}

/** Many partitions: their values stand in a small table, joined by the file's index in the list. */
function joined(scan: ParquetScan, files: readonly Numbered[], constants: readonly Field[], setup: string[], listed?: RowFilter['listed']): string {
  const suffix = `${files[0]!.number}`;
  const parts = `${scan.name}_parts_${suffix}`;
  const { all, match, isConstant } = fieldsIn(scan, files[0]!.file, constants);
  const inFile = all.filter((field) => !isConstant(field));
  const columns = all.map((field) => (isConstant(field) ? `p.${quoteName(field.name)}` : `${logical(field, `f.${quoteName(field.name)}`)} AS ${quoteName(field.name)}`));
  if (scan.withPositions) columns.push(`p.the_number AS ${POSITION.file}`, `f.file_row_number AS ${POSITION.row}`);
  const values = constantLists(files.map(({ file }) => file), constants);
  // The engine skips files by this join only if the key is an unsigned 64-bit integer.
  setup.push(`CREATE TEMP TABLE ${quoteName(parts)} AS SELECT unnest(range(${files.length}))::UBIGINT AS file_number, unnest([${files.map(({ number }) => number).join(', ')}])::UBIGINT AS the_number${values ? `, ${values}` : ''}`);
  const list = fileList(`${scan.name}_files_${suffix}`, files.map(({ file }) => scan.localPath(file)), setup);
  const isPlain = scan.plain?.has(files[0]!.file) === true && !listed;
  const from = `${isPlain ? plainReader(inFile, list) : parquetReader(inFile, list, files.map(({ file }) => file), match)} AS f JOIN ${quoteName(parts)} AS p ON f.file_index = p.file_number`;
  if (!listed) return `SELECT ${columns.join(', ')} FROM ${from}`;
  const rows = `${scan.name}_rows_${suffix}`;
  setup.push(`CREATE TEMP TABLE ${quoteName(rows)} AS ${files.map(({ file }, index) => `SELECT ${index}::UBIGINT AS file_number, r AS row_number FROM range(${bitsOf(scan, file.rowFilter!)}) numbers(r) WHERE get_bit(getvariable(${quoteText(variable(scan, file.rowFilter!))}), r::INTEGER) = 1`).join(' UNION ALL ')}`);
  return `SELECT ${columns.join(', ')} FROM ${from} ${listed === 'left-out' ? 'ANTI' : 'SEMI'} JOIN ${quoteName(rows)} AS l ON f.file_index = l.file_number AND f.file_row_number = l.row_number`;
}

/** Each file's partition values, as columns of a select. */
export function constantLists(files: readonly DataFile[], constants: readonly Field[]): string {
  return constants.map((field) => `unnest([${files.map((file) => literal(field.type, file.constants[field.name] ?? null)).join(', ')}]) AS ${quoteName(field.name)}`).join(', ');
}

/** The list as SQL: as it is, or by way of a variable that `setup` sets. */
export function fileList(name: string, files: readonly string[], setup: string[]): string {
  if (files.length <= INLINE_FILES) return quoteList(files);
  setup.push(`SET VARIABLE ${quoteName(name)} = ${quoteList(files)}`);
  return `getvariable(${quoteText(name)})`;
}

function variable(scan: ParquetScan, filter: RowFilter): string {
  return `${scan.name}_bits_${filter.listed}_${filter.key}`;
}

/** Bits that a filter's bitmap has: one for every row where their number is known, else up to the last one listed. */
function bitsOf(scan: ParquetScan, filter: RowFilter): number {
  const rows = scan.rows.get(filter.key);
  if (!rows) throw new Error(`the rows of ${filter.key} were not loaded`);
  return Math.max(filter.physicalRows ?? 0, (rows.at(-1) ?? -1) + 1);
}

/** A variable that holds one bit a row, the first row in the highest bit of the first byte. */
function bitmap(scan: ParquetScan, filter: RowFilter): string {
  const bytes = Buffer.alloc(Math.max(1, Math.ceil(bitsOf(scan, filter) / 8)));
  for (const row of scan.rows.get(filter.key)!) bytes[row >> 3]! |= 0x80 >> (row & 7);
  return `SET VARIABLE ${quoteName(variable(scan, filter))} = from_hex('${bytes.toString('hex')}')::BIT`;
}

function bitTest(scan: ParquetScan, filter: RowFilter): string {
  const test = `get_bit(getvariable(${quoteText(variable(scan, filter))}), file_row_number::INTEGER) = ${filter.listed === 'left-out' ? 0 : 1}`;
  if (filter.physicalRows !== undefined) return test;
  // The number of rows is not known, so there may be rows beyond the last bit.
  return `CASE WHEN file_row_number < ${bitsOf(scan, filter)} THEN ${test} ELSE ${filter.listed === 'left-out'} END`;
}

export function parquetReader(fields: readonly Field[], files: string, list: readonly DataFile[], match: ColumnMatch): string {
  // Without a column of its own a file still has rows to count; row numbers then stand in.
  if (fields.length === 0) return `read_parquet(${files}, file_row_number = true)`;
  // By names of its own, since it would find the first of several that only case tells apart.
  if (match === 'name' && hasTwins(fields)) return `read_parquet(${files}, union_by_name = true, hive_partitioning = false)`;
  const entries = fields.map((field) => {
    const key = match === 'field-id' ? fieldId(field) : quoteText(physicalName(field));
    return `${key}: {name: ${quoteText(field.name)}, type: ${quoteText(typeName(physicalType(field.type)))}, default_value: ${defaultText(field)}}`;
  });
  // With a schema given the engine would guess 1,000 rows a file, and join in the wrong order.
  const rows = list.reduce((sum, file) => sum + (file.rows ?? Math.max(1, Math.round(file.bytes / 40))), 0);
  return `read_parquet(${files}, schema = MAP {${entries.join(', ')}}, explicit_cardinality = ${Math.max(1, rows)}, can_have_nan = ${fields.some((field) => hasFloats(field.type))})`;
}

/** The types are those of the files, so that the engine takes row counts and bounds from their footers. */
function plainReader(fields: readonly Field[], files: string): string {
  return `read_parquet(${files}, hive_partitioning = false, can_have_nan = ${fields.some((field) => hasFloats(field.type))})`;
}

/** Defaults of one reader must be of one type, so they are texts, which the reader casts. */
function defaultText({ type, initialDefault }: Field): string {
  if (initialDefault === undefined) return 'NULL';
  const text = formatValue(type, initialDefault);
  return quoteText(initialDefault instanceof Uint8Array ? text.replace(/../g, (pair) => `\\x${pair}`) : text);
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

/** A type with the names that its fields have in files. */
export function physicalType(type: LogicalType): LogicalType {
  switch (type.kind) {
    case 'struct':
      return { kind: 'struct', fields: type.fields.map((field) => ({ ...field, name: physicalName(field), type: physicalType(field.type) })) };
    case 'list':
      return { kind: 'list', element: { ...type.element, type: physicalType(type.element.type) } };
    case 'map':
      return { kind: 'map', key: { ...type.key, type: physicalType(type.key.type) }, value: { ...type.value, type: physicalType(type.value.type) } };
    default:
      return type;
  }
}

/** A value as the file has it, with the names that people see. */
function logical(field: Field, sql: string): string {
  return renamed(field.type, sql, (each) => physicalName(each), (each) => each.name, 0);
}

/** A value as people name its fields, with the names that files have. */
export function physical(field: Field, sql: string): string {
  return renamed(field.type, sql, (each) => each.name, (each) => physicalName(each), 0);
}

function renamed(type: LogicalType, sql: string, from: (field: Field) => string, to: (field: Field) => string, depth: number): string {
  if (!isNested(type) || !hasOtherNames(type)) return sql;
  const item = `x${depth}`;
  switch (type.kind) {
    case 'struct':
      return `CASE WHEN ${sql} IS NULL THEN NULL ELSE struct_pack(${type.fields.map((field) => `${quoteName(to(field))} := ${renamed(field.type, `struct_extract(${sql}, ${quoteText(from(field))})`, from, to, depth)}`).join(', ')}) END`;
    case 'list':
      return `list_transform(${sql}, lambda ${item}: ${renamed(type.element.type, item, from, to, depth + 1)})`;
    case 'map':
      return `map_from_entries(list_transform(map_entries(${sql}), lambda ${item}: struct_pack(key := ${renamed(type.key.type, `${item}.key`, from, to, depth + 1)}, "value" := ${renamed(type.value.type, `${item}."value"`, from, to, depth + 1)})))`;
  }
}

function hasOtherNames(type: LogicalType): boolean {
  if (!isNested(type)) return false;
  if (type.kind === 'struct') return type.fields.some((field) => physicalName(field) !== field.name || hasOtherNames(field.type));
  return type.kind === 'list' ? hasOtherNames(type.element.type) : hasOtherNames(type.key.type) || hasOtherNames(type.value.type);
}
