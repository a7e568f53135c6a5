/** A file's own look: what it seems to be and why, its first rows, and as it stands in the file. */
import path from 'node:path';
import { describeOptions, type ReadOptions } from '../../core/folder/read-options';
import { isGzip, type FileKind } from '../../core/crawl/kinds';
import { LakeError } from '../../core/errors';
import { planScan } from '../../core/scan/plan';
import { TRUE } from '../../core/scan/predicate';
import { typeName } from '../../core/schema/type-names';
import { quoteText } from '../../core/sql/tokens';
import { baseName } from '../../core/storage/paths';
import type { EngineCalls } from '../engine/engine';
import { scanOf } from '../engine/scan-sql';
import { translateError } from '../engine/translate';
import { csvHeaders, readHeadBytes } from './csv-headers';
import { folderDefinition } from './files-as-table';
import type { Inspector } from './inspect';
import type { OpenStorage } from './lake';

export interface FileLook {
  name: string;
  path: string;
  bytes: number;
  modified: number;
  kind: FileKind;
  /** How it is read, in words, and what that rests on. */
  read: string;
  options: ReadOptions | null;
  columns: { name: string; type: string }[];
  rows: unknown[][];
  rowCount: number | null;
  /** The beginning as text, for text files. */
  lines: string[];
  parquet: { createdBy: string; rowGroups: { rows: number; bytes: number; columns: number; compression: string }[] } | null;
  problem: string | null;
}

const FIRST_ROWS = 50;
const FIRST_LINES = 40;
const READABLE: FileKind[] = ['parquet', 'csv', 'json', 'text'];

export async function lookAtFile(storage: OpenStorage, filePath: string, inspector: Inspector, engine: EngineCalls): Promise<FileLook> {
  const info = await storage.store.head(filePath);
  if (!info) throw new LakeError('not-found', `There is no file ${filePath} in ${storage.storage.name}.`, { path: filePath });
  const kind = await inspector.kindOf(storage, filePath);
  const look: FileLook = {
    name: baseName(filePath), path: filePath, bytes: info.bytes, modified: info.modified, kind,
    read: '', options: null, columns: [], rows: [], rowCount: null, lines: [], parquet: null, problem: null,
  };
  if (['csv', 'json', 'text', 'xml', 'other'].includes(kind)) look.lines = await firstLines(storage, filePath);
  if (!READABLE.includes(kind)) return { ...look, read: kind === 'other' ? 'Nothing is known of this kind of file.' : `Seems to be ${kind}; there is no reader for it yet.` };
  const [facts] = await inspector.inspect(storage, kind, [info]);
  if (!facts || facts.problem) return { ...look, problem: facts?.problem ?? 'The file could not be read.' };
  const { definition } = folderDefinition({ kind: 'files', root: path.posix.dirname(filePath) === '.' ? '' : path.posix.dirname(filePath), files: [info], fileKind: kind, pattern: '*', partitions: [] }, [facts]);
  const filled = { ...look, options: definition.options, read: describeOptions(definition.options), columns: definition.fields.map((field) => ({ name: field.name, type: typeName(field.type) })), rowCount: facts.rows ?? null };
  try {
    const file = { path: filePath, bytes: info.bytes, modified: info.modified, partition: {}, constants: {}, partitionStats: () => undefined, stats: () => undefined };
    const reader = definition.options.format === 'parquet' ? { kind: 'parquet' as const, match: 'name' as const } : { kind: 'text' as const, options: definition.options };
    const plan = planScan(reader, definition.fields, [file], TRUE);
    const { setup, relation } = scanOf({ name: 'looked_at', plan, localPath: (each) => path.join(storage.store.root, each.path), headers: await csvHeaders(storage.store, plan) });
    const { rows } = await engine.call('run', { sql: [...setup, `SELECT * FROM ${relation} LIMIT ${FIRST_ROWS}`].join('; ') });
    return { ...filled, rows, parquet: kind === 'parquet' ? await rowGroups(storage, filePath, engine) : null };
  } catch (error) {
    const shown = translateError(error, { roots: new Map([[storage.store.root, storage.storage.name]]), names: new Map([['looked_at', baseName(filePath)]]) });
    if (shown instanceof LakeError) return { ...filled, problem: shown.message };
    throw shown;
  }
}

async function firstLines(storage: OpenStorage, filePath: string): Promise<string[]> {
  const bytes = await readHeadBytes(storage.store, filePath, isGzip(filePath) ? 'gzip' : 'none', 32 * 1024);
  const text = new TextDecoder().decode(bytes);
  return text.split(/\r?\n/).slice(0, FIRST_LINES).map((line) => line.slice(0, 2000));
}

async function rowGroups(storage: OpenStorage, filePath: string, engine: EngineCalls): Promise<FileLook['parquet']> {
  const file = quoteText(path.join(storage.store.root, filePath));
  const [groups, meta] = await Promise.all([
    engine.call('run', { sql: `SELECT row_group_id, any_value(row_group_num_rows), sum(total_compressed_size)::bigint, count(*), string_agg(DISTINCT compression, ', ') FROM parquet_metadata(${file}) GROUP BY 1 ORDER BY 1` }),
    engine.call('run', { sql: `SELECT created_by FROM parquet_file_metadata(${file})` }),
  ]);
  return {
    createdBy: String(meta.rows[0]?.[0] ?? ''),
    rowGroups: (groups.rows as [number, number, number, number, string][]).map(([, rows, bytes, columns, compression]) => ({ rows: Number(rows), bytes: Number(bytes), columns: Number(columns), compression })),
  };
}
