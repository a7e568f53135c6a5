/** Compiles a scan plan to SQL that stands in its table's place in a one-use instance. */
import { optionsOfCopy } from '../../core/folder/read-options';
import { readingTable } from '../../core/fault-words';
import { filesToRead, type DataFile, type ScanPlan } from '../../core/scan/plan';
import type { Field } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteName } from '../../core/sql/tokens';
import { quoteList } from './instances';
import { literal } from './literal';
import { BRANCH_LIMIT, constantLists, fileList, parquetReader, parquetScan, POSITION, type Scan } from './parquet-scan';
import { csvReader, FILE_COLUMN, jsonReader, jsonReaderOfCopy, lineReader } from './text-readers';

export { literal } from './literal';
export type { Scan } from './parquet-scan';

export interface ScanInput {
  /** Unlike that of any other scan of the query; names what the setup makes. */
  name: string;
  plan: ScanPlan;
  /** Where a file of the plan, or the copy of it that was made for the engine, can be opened on this machine. */
  localPath: (file: DataFile) => string;
  /** The header of a delimited file, for reading columns by name. */
  headers?: Map<string, string[]>;
  /** What `loadRowFilters` gave for the plan. */
  rows?: ReadonlyMap<string, Uint32Array>;
  /** Every row tells which row of which file it is (`POSITION`); for tables of Parquet files. */
  withPositions?: boolean;
  /** The number that a file's rows give; its place among the files that are read, where absent. */
  numberOf?: (file: DataFile) => number;
  /** Of Parquet: files that have the columns as the table has them. */
  plain?: ReadonlySet<DataFile>;
}

/** The lists of the plan's files of which only some rows are read. */
export async function loadRowFilters(plan: ScanPlan): Promise<Map<string, Uint32Array>> {
  const rows = new Map<string, Uint32Array>();
  await Promise.all(filesToRead(plan).map(async ({ rowFilter, path }) => {
    if (rowFilter) rows.set(rowFilter.key, await readingTable(`The list of deleted rows of ${path}`, () => rowFilter.load()));
  }));
  return rows;
}

export function scanOf(input: ScanInput): Scan {
  const { plan } = input;
  const files = filesToRead(plan);
  const { fields } = plan;
  if (files.length === 0) return { setup: [], relation: `(${emptySelect(fields, input.withPositions ?? false)})` };
  if (plan.reader.kind === 'parquet') {
    return parquetScan({ name: input.name, fields, match: plan.reader.match, files, localPath: input.localPath, rows: input.rows ?? new Map(), withPositions: input.withPositions ?? false, ...(input.plain ? { plain: input.plain } : {}), ...(input.numberOf ? { numberOf: input.numberOf } : {}) });
  }
  const constantColumns = fields.filter((field) => files.some((file) => field.name in file.constants));
  const groups = groupFiles(files, constantColumns, input.headers);
  return groups.length <= BRANCH_LIMIT ? branches(input, groups, constantColumns) : joinedByName(input, files, constantColumns);
}

function emptySelect(fields: readonly Field[], withPositions: boolean): string {
  const columns = fields.map((field) => `NULL::${typeName(field.type)} AS ${quoteName(field.name)}`);
  if (withPositions) columns.push(`0::UBIGINT AS ${POSITION.file}`, `0::BIGINT AS ${POSITION.row}`);
  return `SELECT ${columns.join(', ')} WHERE false`;
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
    return `SELECT ${columns.join(', ')} FROM ${textReader(plan, inFile, list, group, 'rows')}`;
  });
  return { setup, relation: `(${selects.join(' UNION ALL ')})` };
}

/** Many partitions of text, whose readers tell the file by its name alone; one branch for each header. */
function joinedByName(input: ScanInput, files: DataFile[], constantColumns: Field[]): Scan {
  const { name, plan } = input;
  const parts = `${name}_parts`;
  const inFile = plan.fields.filter((field) => !constantColumns.includes(field));
  const setup = [`CREATE TEMP TABLE ${quoteName(parts)} AS SELECT unnest(${quoteList(files.map(input.localPath))}) AS file_name${constantColumns.length > 0 ? `, ${constantLists(files, constantColumns)}` : ''}`];
  const selects = groupFiles(files, [], input.headers).map((group, index) => {
    const list = fileList(`${name}_files_${index}`, group.files.map(input.localPath), setup);
    const columns = plan.fields.map((field) => (constantColumns.includes(field) ? `p.${quoteName(field.name)}` : sourceColumn(field, group.header)));
    return `SELECT ${columns.join(', ')} FROM ${textReader(plan, inFile, list, group, 'rows and file')} AS f JOIN ${quoteName(parts)} AS p ON f.${FILE_COLUMN} = p.file_name`;
  });
  return { setup, relation: `(${selects.join(' UNION ALL ')})` };
}

function textReader(plan: ScanPlan, inFile: Field[], files: string, group: Group, gives: 'rows' | 'rows and file'): string {
  const { reader } = plan;
  if (reader.kind === 'source' || reader.kind === 'parquet') throw new Error(`${reader.kind} is read in another way`);
  const options = reader.kind === 'copy' ? reader.options : (optionsOfCopy(reader.options) ?? reader.options);
  const withFile = gives === 'rows and file';
  switch (options.format) {
    case 'csv':
      return csvReader(inFile, files, options, group.header, withFile ? [`filename = '${FILE_COLUMN}'`] : []);
    case 'json':
      return reader.kind === 'text' && !['avro', 'arrow'].includes(reader.options.format) ? jsonReader(inFile, files, options, withFile) : jsonReaderOfCopy(inFile, files, options, withFile);
    case 'fixed':
    case 'pattern':
      return lineReader(inFile, files, options, withFile);
    default:
      return parquetReader(inFile, files, group.files, 'name');
  }
}

/** A column as the reader gives it; null where a delimited file's header lacks it. */
function sourceColumn(field: Field, header: string[] | undefined): string {
  if (!header) return quoteName(field.name);
  const found = header.find((name) => name === field.name) ?? header.find((name) => name.toLowerCase() === field.name.toLowerCase());
  return found === undefined ? `NULL::${typeName(field.type)} AS ${quoteName(field.name)}` : `${quoteName(found)} AS ${quoteName(field.name)}`;
}
