/** A file's own look: what it seems to be and why, its first rows, and as it stands in the file. */
import { describeOptions, type ReadOptions } from '../../core/folder/read-options';
import { kindByName, type FileKind } from '../../core/crawl/kinds';
import { containerKind } from '../../core/storage/members';
import { LakeError } from '../../core/errors';
import { planScan, type ScanPlan } from '../../core/scan/plan';
import { TRUE } from '../../core/scan/predicate';
import { typeName } from '../../core/schema/type-names';
import { quoteText } from '../../core/sql/tokens';
import type { ColumnGuess } from '../../core/text/column-forms';
import type { ObjectInfo } from '../../core/storage/object-store';
import { baseName, below, parentPath } from '../../core/storage/paths';
import type { EngineCalls } from '../engine/engine';
import { translateError } from '../engine/translate';
import { unpackHead } from '../storage/unpack';
import { folderDefinition } from './files-as-table';
import { groundsOf } from './grounds';
import { prove, type Proof } from './proof';
import { READABLE, rootsOf, type Inspector } from './inspect';
import type { OpenStorage } from './lake';
import { meaningOf, type FileMeaning } from './file-meaning';
import { misfitsOf, type Misfits } from './misfits';
import { plainHead, withPlainFile } from './plain-file';
import { scanRows, type ScanTools } from './scan-rows';

export interface FileLook {
  name: string;
  path: string;
  bytes: number;
  modified: number;
  kind: FileKind;
  /** How it is read, in words, and what that rests on. */
  read: string;
  options: ReadOptions | null;
  /** `why`: on what the type rests, where the file does not tell it. */
  columns: { name: string; type: string; why?: string }[];
  /** What was passed over, repaired, or read as missing, in words. */
  notes: string[];
  rows: unknown[][];
  rowCount: number | null;
  /** The beginning as text, for text files. */
  lines: string[];
  parquet: { createdBy: string; rowGroups: { rows: number; bytes: number; columns: number; compression: string }[]; columns: { name: string; type: string; encodings: string; bytes: number; nulls: number | null; min: string | null; max: string | null }[] } | null;
  /** What is in an archive, a spreadsheet or a database file, by path. */
  members: { path: string; name: string; bytes: number; kind: FileKind }[] | null;
  /** What a file of metadata means. */
  meaning: FileMeaning | null;
  /** Lines that do not fit how the file is read; null for what has no lines. */
  misfits: Misfits | null;
  /** Why lines were not held against how the file is read, where they were not. */
  unchecked: string | null;
  problem: string | null;
}

const FIRST_ROWS = 50;
const FIRST_LINES = 40;
const CHECKED_BYTES = 256e6;
const PACKED_HEAD = 16 * 1024;
const MOST_PACKED = 100;

/** With `given` the file is read like that instead of as it seems. */
export async function lookAtFile(storage: OpenStorage, filePath: string, inspector: Inspector, given?: ReadOptions): Promise<FileLook> {
  const info = await storage.store.head(filePath);
  if (!info) throw new LakeError('not-found', `There is no file ${filePath} in ${storage.storage.name}.`, { path: filePath });
  const kind = await inspector.kindOf(storage, info);
  const meaning = given ? null : await meaningOf(storage.store, filePath);
  const look: FileLook = {
    name: baseName(filePath), path: filePath, bytes: info.bytes, modified: info.modified, kind,
    read: '', options: null, columns: [], notes: [], rows: [], rowCount: null, lines: [], parquet: null, members: null, meaning, misfits: null, unchecked: null, problem: null,
  };
  if (['csv', 'json', 'yaml', 'text', 'xml', 'other'].includes(kind)) look.lines = await firstLines(inspector, storage, info, given && 'encoding' in given ? given.encoding : 'utf-8');
  if (!given && containerKind(filePath)) return { ...look, ...(await insideOf(storage, filePath)) };
  if (!given && kind === 'archive') return { ...look, read: 'By its first bytes it is a zip archive; give it a name that ends in .zip, and what is in it is read.' };
  if (!given && !READABLE.has(kind)) return { ...look, read: kind === 'other' ? 'Nothing is known of this kind of file.' : `Seems to be ${kind}; there is no reader for it yet.` };
  const [facts] = await inspector.inspect(storage, kind, [info], given ? { given } : {});
  if (!facts || facts.problem) return { ...look, problem: facts?.problem ?? 'The file could not be read.' };
  const { definition: seen, inference } = folderDefinition({ kind: 'files', root: parentPath(filePath), files: [info], fileKind: kind, pattern: '*', partitions: [] }, [facts]);
  const isLarge = seen.options.format !== 'parquet' && (await isTooLarge(inspector, storage, info));
  const { definition, proof } = given ? { definition: seen, proof: null } : await prove(inspector, storage, seen, [info], { name: baseName(filePath), mostBytes: isLarge ? 0 : CHECKED_BYTES });
  const filled = { ...look, options: given ?? definition.options, read: describeOptions(definition.options), columns: definition.fields.map((field) => ({ name: field.name, type: typeName(field.type), ...why(inference.guesses.get(field.name)) })), notes: [...(facts.notes ?? []), ...(proof?.repairs ?? []), ...missingNotes(proof)], rowCount: proof?.rows ?? facts.rows ?? null };
  try {
    const file = { ...info, partition: {}, constants: {}, partitionStats: () => undefined, stats: () => undefined };
    const hasLines = ['csv', 'fixed', 'pattern', 'json'].includes(definition.options.format);
    // Whatever is said of lines that do not fit, the others are shown, and those are counted.
    const options = hasLines ? { ...definition.options, misfits: 'set-aside' as const } as ReadOptions : definition.options;
    const plan = planScan(options.format === 'parquet' ? { kind: 'parquet', match: 'name' } : { kind: 'text', options }, definition.fields, [file], TRUE);
    const rows = await scanRows(inspector, storage, plan, baseName(filePath), (relation) => `SELECT * FROM ${relation} LIMIT ${FIRST_ROWS}`);
    const all = allFit(proof, definition.options);
    const checked = all ? { misfits: all, unchecked: null } : hasLines && !(options.format === 'json' && options.shape === 'array') ? await checkLines(inspector, storage, plan, isLarge) : { misfits: null, unchecked: null };
    return { ...filled, rows, ...checked, parquet: kind === 'parquet' ? await rowGroups(storage, info, inspector) : null };
  } catch (error) {
    if (error instanceof LakeError) return { ...filled, problem: error.message };
    throw error;
  }
}

/** A file that was read to its end by a definition that lets no line be set aside has none that does not fit. */
function allFit(proof: Proof | null, options: ReadOptions): Misfits | undefined {
  if (!proof || proof.problem || proof.files !== 1 || proof.rows === null || !('misfits' in options) || options.misfits !== 'stop') return undefined;
  return { count: 0, lines: proof.rows, files: 1, of: 1, some: [] };
}

function why(guesses: readonly ColumnGuess[] | undefined): { why?: string } {
  const grounds = groundsOf(guesses);
  return grounds.why === undefined ? {} : { why: grounds.why };
}

function missingNotes(proof: Proof | null): string[] {
  return (proof?.missing ?? []).map(({ column, values, texts }) => `${values.toLocaleString('en')} ${values === 1 ? 'value' : 'values'} of ${column} read as missing: ${texts.map((text) => `"${text}"`).join(', ')}`);
}

async function insideOf({ store }: OpenStorage, filePath: string): Promise<Pick<FileLook, 'members' | 'read' | 'problem' | 'notes'>> {
  try {
    const members = (await store.list(filePath)).map(({ path, bytes }) => ({ path, name: below(filePath, path)!, bytes, kind: kindByName(path) }));
    const what = { zip: 'file', tar: 'file', spreadsheet: 'sheet', database: 'table' }[containerKind(filePath)!];
    return { members, problem: null, notes: await store.containerNotes?.(filePath) ?? [], read: `Holds ${members.length.toLocaleString('en')} ${what}${members.length === 1 ? '' : 's'}, each of which is read like a file of its own` };
  } catch (error) {
    if (error instanceof LakeError) return { members: null, read: '', notes: [], problem: error.message };
    throw error;
  }
}

/** A look goes through every line of a file that is not large; how large a packed one is shows in its beginning. */
async function isTooLarge(inspector: Inspector, storage: OpenStorage, info: ObjectInfo): Promise<boolean> {
  const [head, bytes] = await withPlainFile(inspector.local, storage, info, undefined, async (plain) => {
    const part = plain.compression === 'none' ? undefined : await unpackHead(await plain.read({ start: 0, end: PACKED_HEAD }), plain.compression);
    return [part, part ? (plain.bytes / Math.min(plain.bytes, PACKED_HEAD)) * part.length : plain.bytes] as const;
  });
  // What is packed a hundred times and more could be any size.
  return bytes > CHECKED_BYTES || (head !== undefined && head.length > MOST_PACKED * PACKED_HEAD);
}

async function checkLines(inspector: Inspector, storage: OpenStorage, plan: ScanPlan, isLarge: boolean): Promise<Pick<FileLook, 'misfits' | 'unchecked'>> {
  const tooLarge = { misfits: null, unchecked: 'The file is too large to hold every line of it against this here; its first rows fit.' };
  if (isLarge) return tooLarge;
  try {
    return { misfits: await misfitsOf(inspector, storage, plan), unchecked: null };
  } catch (error) {
    if (error instanceof LakeError && error.kind === 'limit') return tooLarge;
    throw error;
  }
}

async function firstLines({ local }: ScanTools, storage: OpenStorage, file: ObjectInfo, encoding: string): Promise<string[]> {
  const head = await plainHead(local, storage, file, 32 * 1024).catch((error: unknown) => {
    if (error instanceof LakeError && error.kind === 'bad-file') return new Uint8Array();
    throw error;
  });
  const text = new TextDecoder(encoding).decode(head);
  return text === '' ? [] : text.split(/\r?\n/).slice(0, FIRST_LINES).map((line) => line.slice(0, 2000));
}

async function rowGroups(storage: OpenStorage, info: ObjectInfo, { engine, local }: ScanTools): Promise<FileLook['parquet']> {
  const lease = await local.lease(storage, [info]);
  try {
    return await groupsOf(engine, quoteText(lease.pathOf(info)));
  } catch (error) {
    throw translateError(error, { roots: rootsOf(storage), copies: lease.copies, names: new Map([['', `${storage.storage.name}:${info.path}`]]) });
  } finally {
    lease.release();
  }
}

async function groupsOf(engine: EngineCalls, file: string): Promise<FileLook['parquet']> {
  const [groups, meta, columns] = await Promise.all([
    engine.call('run', { sql: `SELECT row_group_id, any_value(row_group_num_rows), sum(total_compressed_size)::bigint, count(*), string_agg(DISTINCT compression, ', ') FROM parquet_metadata(${file}) GROUP BY 1 ORDER BY 1` }),
    engine.call('run', { sql: `SELECT created_by FROM parquet_file_metadata(${file})` }),
    engine.call('run', {
      sql: `SELECT path_in_schema, any_value(type), string_agg(DISTINCT lower(replace(encodings, '_', ' ')), '; '), sum(total_compressed_size)::bigint, sum(stats_null_count)::bigint, CASE WHEN count(DISTINCT row_group_id) = 1 THEN any_value(stats_min_value) END, CASE WHEN count(DISTINCT row_group_id) = 1 THEN any_value(stats_max_value) END
            FROM parquet_metadata(${file}) GROUP BY path_in_schema ORDER BY min(column_id)`,
    }),
  ]);
  return {
    createdBy: String(meta.rows[0]?.[0] ?? ''),
    columns: (columns.rows as [string, string, string, number, number | null, string | null, string | null][]).map(([name, type, encodings, bytes, nulls, min, max]) => ({ name: name.replaceAll(', ', '.'), type: type.toLowerCase(), encodings, bytes: Number(bytes), nulls: nulls === null ? null : Number(nulls), min, max })),
    rowGroups: (groups.rows as [number, number, number, number, string][]).map(([, rows, bytes, columns, compression]) => ({ rows: Number(rows), bytes: Number(bytes), columns: Number(columns), compression })),
  };
}
