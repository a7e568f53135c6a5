/**
 * A definition proves itself: the files are read by exactly what would be kept, to their ends where they are small. A
 * column with a value that does not fit becomes wider, or text; whatever still does not read is told.
 */
import { LakeError } from '../../core/errors';
import type { FolderDefinition } from '../../core/folder/table';
import { DOUBLE_DIGITS } from '../../core/text/column-forms';
import { isMissingText, ISO_TIMESTAMP } from '../../core/text/value-forms';
import { planScan } from '../../core/scan/plan';
import { TRUE } from '../../core/scan/predicate';
import { findField, type Field, type LogicalType } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteName } from '../../core/sql/tokens';
import type { ObjectInfo } from '../../core/storage/object-store';
import type { OpenStorage } from './lake';
import { scanRows, type ScanTools } from './scan-rows';

export interface Proof {
  /** Counted in the files that were read. */
  rows: number | null;
  files: number;
  of: number;
  /** What was changed since the first reading did not fit, in words. */
  repairs: string[];
  /** Columns with texts that are not empty and were read as missing, and how many. */
  missing: { column: string; values: number; texts: string[] }[];
  /** Why it cannot be read. */
  problem: { path: string; problem: string; line?: number } | null;
}

export interface Proven {
  definition: FolderDefinition;
  proof: Proof;
}

/** Files of no more bytes than this together are read to their ends. */
export const PROVEN_BYTES = 100e6;
const PROVEN_FILES = 100;
/** Of a single file of more bytes. */
const PART_ROWS = 100_000;
const MOST_REPAIRS = 60;

/** Parquet tells its types itself, so nothing of it is proved. */
export async function prove(tools: ScanTools, storage: OpenStorage, definition: FolderDefinition, files: readonly ObjectInfo[], { name, mostBytes = PROVEN_BYTES, mostFiles = PROVEN_FILES, mostRepairs = MOST_REPAIRS }: { name: string; mostBytes?: number; mostFiles?: number; mostRepairs?: number }): Promise<Proven> {
  const read = someOf(files, mostBytes, mostFiles);
  const isPart = read[0] !== undefined && read[0].bytes > mostBytes;
  const proof: Proof = { rows: null, files: isPart ? 0 : read.length, of: files.length, repairs: [], missing: [], problem: null };
  if (definition.options.format === 'parquet') return { definition, proof: { ...proof, files: 0 } };
  let now = definition;
  for (let attempt = 0; ; attempt++) {
    try {
      if (!isPart) return { definition: now, proof: { ...proof, ...(await counted(tools, storage, now, read, name)) } };
      await scan(tools, storage, now, read, name, inFiles(now), (relation) => `SELECT count(*) FROM (SELECT * FROM ${relation} LIMIT ${PART_ROWS}) AS t WHERE hash(t) IS NULL`);
      return { definition: now, proof };
    } catch (error) {
      if (!(error instanceof LakeError) || ['cancelled', 'unavailable'].includes(error.kind)) throw error;
      // What takes too long or too much to read to its end is not proved, and no worse for that.
      if (error.kind === 'limit') return { definition: now, proof: { ...proof, files: 0 } };
      const repaired = attempt < mostRepairs ? repair(now, error) : undefined;
      if (!repaired) return { definition: now, proof: { ...proof, problem: { path: error.details.path ?? files[0]!.path, problem: error.message, ...(error.details.line === undefined ? {} : { line: error.details.line }) } } };
      proof.repairs.push(repaired.why);
      now = repaired.definition;
    }
  }
}

/** All where they are small, else the first, the last and some between. */
function someOf(files: readonly ObjectInfo[], mostBytes: number, mostFiles: number): ObjectInfo[] {
  const total = files.reduce((sum, file) => sum + file.bytes, 0);
  if (total <= mostBytes && files.length <= mostFiles) return [...files];
  const some = new Set<ObjectInfo>();
  let bytes = 0;
  const order = [0, files.length - 1, ...Array.from({ length: PROVEN_FILES }, (_, index) => Math.floor((index * files.length) / PROVEN_FILES))];
  for (const index of order) {
    const file = files[index]!;
    if (some.has(file) || (some.size > 0 && bytes + file.bytes > mostBytes)) continue;
    some.add(file);
    bytes += file.bytes;
  }
  return files.filter((file) => some.has(file));
}

async function counted(tools: ScanTools, storage: OpenStorage, definition: FolderDefinition, files: readonly ObjectInfo[], name: string): Promise<Pick<Proof, 'rows' | 'missing'>> {
  const fields = inFiles(definition);
  const [counts] = await scan(tools, storage, definition, files, name, fields, (relation) => `SELECT count(*), ${fields.map((each) => `count(${quoteName(each.name)})`).join(', ') || '0'} FROM ${relation}`);
  const [rows, ...values] = counts!.map(Number);
  return { rows: rows!, missing: await readAsMissing(tools, storage, definition, files, name, new Map(fields.map((each, index) => [each.name, values[index]!]))) };
}

/** Columns whose form takes some texts for missing: as many values fewer than there are texts. */
async function readAsMissing(tools: ScanTools, storage: OpenStorage, definition: FolderDefinition, files: readonly ObjectInfo[], name: string, values: ReadonlyMap<string, number>): Promise<Proof['missing']> {
  const { options } = definition;
  if (!('forms' in options)) return [];
  const concerned = inFiles(definition).filter((each) => options.forms[each.name]?.missing || options.nullTexts.some((text) => text !== ''));
  if (concerned.length === 0) return [];
  const asText = { ...definition, options: { ...options, forms: {}, nullTexts: [''] }, fields: definition.fields.map((each) => (concerned.includes(each) ? { ...each, type: { kind: 'string' } as const } : each)) };
  const [counts] = await scan(tools, storage, asText, files, name, inFiles(asText), (relation) => `SELECT ${concerned.map((each) => `count(*) FILTER (WHERE trim(${quoteName(each.name)}) <> '')`).join(', ')} FROM ${relation}`);
  return concerned.flatMap((each, index) => {
    const missing = Number(counts![index]) - values.get(each.name)!;
    return missing > 0 ? [{ column: each.name, values: missing, texts: [...(options.forms[each.name]?.missing ?? []), ...options.nullTexts].filter((text) => text !== '') }] : [];
  });
}

function inFiles({ fields, partitionColumns }: FolderDefinition): Field[] {
  return fields.filter((each) => !partitionColumns.includes(each.name));
}

async function scan(tools: ScanTools, storage: OpenStorage, { options }: FolderDefinition, files: readonly ObjectInfo[], name: string, fields: readonly Field[], sql: (relation: string) => string): Promise<unknown[][]> {
  const data = files.map((file) => ({ ...file, partition: {}, constants: {}, partitionStats: () => undefined, stats: () => undefined }));
  return scanRows(tools, storage, planScan(options.format === 'parquet' ? { kind: 'parquet', match: 'name' } : { kind: 'text', options }, [...fields], data, TRUE), name, sql);
}

/** A type that reads what was read so far, and the text at hand too; undefined where only text does. */
function widerType(type: LogicalType, text: string | undefined): LogicalType | undefined {
  const plain = text?.trim() ?? '';
  if (!/^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$/.test(plain) || /^[+-]?0\d/.test(plain)) return (type.kind === 'date' || type.kind === 'timestamp') && ISO_TIMESTAMP.test(plain) ? { kind: 'timestamptz' } : undefined;
  const digits = plain.replace(/[eE].*$/, '').replace(/\D/g, '').replace(/^0+/, '').length;
  if (type.kind === 'long') return /^[+-]?\d+$/.test(plain) ? (digits <= 38 ? { kind: 'decimal', precision: 38, scale: 0 } : undefined) : digits <= DOUBLE_DIGITS ? { kind: 'double' } : undefined;
  if (type.kind === 'decimal' && type.scale > 0) return digits <= DOUBLE_DIGITS ? { kind: 'double' } : undefined;
  return undefined;
}

/** The columns with one within another made wider: `path` has its names with dots between. Undefined where there is none such. */
function widenedWithin(fields: readonly Field[], path: string, text: string): Field[] | undefined {
  const found = fields.find(({ name }) => path.startsWith(`${name}.`));
  if (!found) return undefined;
  const type = widenedAt(found.type, path.slice(found.name.length + 1), text);
  return type && fields.map((each) => (each === found ? { ...each, type } : each));
}

function widenedAt(type: LogicalType, path: string, text: string): LogicalType | undefined {
  if (path === '') return type.kind === 'struct' || type.kind === 'list' || type.kind === 'map' ? undefined : widerType(type, text) ?? { kind: 'string' };
  const within = (part: Field, rest: string) => {
    const inner = widenedAt(part.type, rest, text);
    return inner && { ...part, type: inner };
  };
  if (type.kind === 'struct') {
    const own = type.fields.find(({ name }) => path === name || path.startsWith(`${name}.`));
    const wide = own && within(own, path.slice(own.name.length + 1));
    return wide && { kind: 'struct', fields: type.fields.map((each) => (each === own ? wide : each)) };
  }
  const rest = path.replace(/^(element|value)\.?/, '');
  if (type.kind === 'list') {
    const element = within(type.element, rest);
    return element && { kind: 'list', element };
  }
  if (type.kind === 'map') {
    const value = within(type.value, rest);
    return value && { kind: 'map', key: type.key, value };
  }
  return undefined;
}

/** A column whose value does not fit is of a wider type, text at the end; a text that the engine's reader does not cut is cut by us. */
function repair(definition: FolderDefinition, { message, details }: LakeError): { definition: FolderDefinition; why: string } | undefined {
  const { options } = definition;
  const field = details.field === undefined ? undefined : findField(definition.fields, details.field);
  if (field && field.type.kind !== 'string' && 'forms' in options && details.value !== undefined && (isMissingText(details.value) || details.value.trim() === '')) {
    const form = options.forms[field.name];
    const missing = [...(form?.missing ?? []), details.value.trim()];
    return { definition: { ...definition, options: { ...options, forms: { ...options.forms, [field.name]: { ...form, missing } } } }, why: `${details.value.trim() === '' ? 'blanks stand' : `"${details.value.trim()}" stands`} for missing in ${field.name}` };
  }
  if (field && field.type.kind !== 'string' && (details.value !== undefined || 'forms' in options)) {
    const { [field.name]: form, ...others } = 'forms' in options ? options.forms : {};
    const type = widerType(field.type, details.value) ?? { kind: 'string' };
    const forms = type.kind === 'string' || !form ? others : { ...others, [field.name]: form };
    return {
      definition: { ...definition, options: 'forms' in options ? { ...options, forms } : options, fields: definition.fields.map((each) => (each === field ? { ...each, type } : each)) },
      why: `${field.name} is ${type.kind === 'string' ? 'text' : typeName(type)} and not ${typeName(field.type)}: ${message}`,
    };
  }
  const widened = details.field === undefined || details.value === undefined ? undefined : widenedWithin(definition.fields, details.field, details.value);
  if (widened && !field) return { definition: { ...definition, fields: widened }, why: `${details.field} is wider than it seemed: ${message}` };
  if (options.format === 'pattern' && options.misfits === 'stop' && (details.field === undefined || details.field === '')) return { definition: { ...definition, options: { ...options, misfits: 'set-aside' } }, why: `lines that do not fit are set aside: ${message}` };
  if (options.format === 'csv' && !options.rewrite) return { definition: { ...definition, options: { ...options, rewrite: true } }, why: 'the lines are cut in the one way that fits all of them' };
  return undefined;
}
