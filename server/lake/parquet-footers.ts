/** Rows and columns of Parquet files from their footers alone; of a store elsewhere only those bytes are fetched. */
import { mkdtemp, open, rm } from 'node:fs/promises';
import os from 'node:os';
import path from 'node:path';
import PQueue from 'p-queue';
import { LakeError } from '../../core/errors';
import type { FileFacts } from '../../core/crawl/infer';
import { parseTypeName } from '../../core/schema/type-names';
import { quoteText } from '../../core/sql/tokens';
import type { ObjectInfo } from '../../core/storage/object-store';
import type { EngineCalls } from '../engine/engine';
import { quoteList } from '../engine/instances';
import { translateError } from '../engine/translate';
import type { Inspected } from './inspect';
import type { OpenStorage } from './lake';
import type { LocalFiles } from './local-files';

/** A footer is mostly smaller, so one request is enough. */
const TAIL_BYTES = 64 * 1024;
const FETCHES = 12;

/** Facts in the order of the files. Fails when one of them is no Parquet file. */
export async function readFooters(engine: EngineCalls, local: LocalFiles, storage: OpenStorage, files: readonly ObjectInfo[]): Promise<Inspected[]> {
  if (storage.store.root !== undefined) {
    const { root } = storage.store;
    return footers(engine, files, (file) => path.join(root, file.path));
  }
  const folder = await mkdtemp(path.join(os.tmpdir(), 'kind-harbor-footers-'));
  const paths = new Map(files.map((file, index) => [file.path, path.join(folder, `${index}.parquet`)]));
  try {
    const queue = new PQueue({ concurrency: FETCHES });
    await queue.addAll(files.map((file) => () => hollowCopy(storage, file, paths.get(file.path)!)));
    return await footers(engine, files, (file) => paths.get(file.path)!);
  } catch (error) {
    const copies = new Map([...paths].map(([each, copy]) => [copy, { storage: storage.storage.name, path: each }]));
    throw translateError(error, { roots: new Map(), copies });
  } finally {
    await rm(folder, { recursive: true, force: true });
  }
}

async function footers(engine: EngineCalls, files: readonly ObjectInfo[], localPath: (file: ObjectInfo) => string): Promise<Inspected[]> {
  const byLocal = new Map(files.map((file) => [localPath(file), file]));
  const list = quoteList([...byLocal.keys()]);
  // Files with the same schema text share one description of their columns.
  const { rows } = await engine.call('run', {
    sql: `SELECT m.file_name, m.num_rows, s.shape FROM parquet_file_metadata(${list}) m JOIN (
            SELECT file_name, md5(string_agg(concat_ws('/', name, type, type_length, repetition_type, num_children, converted_type, "scale", "precision", logical_type), ',' )) AS shape
            FROM parquet_schema(${list}) GROUP BY file_name) s USING (file_name)`,
  });
  const columnsOf = new Map<string, FileFacts['columns']>();
  for (const [file, , shape] of rows as [string, number, string][]) {
    if (columnsOf.has(shape)) continue;
    const described = await engine.call('run', { sql: `DESCRIBE SELECT * FROM read_parquet(${quoteText(file)}, hive_partitioning = false)` });
    columnsOf.set(shape, (described.rows as string[][]).map((row) => ({ name: row[0]!, type: parseTypeName(row[1]!) })));
  }
  return (rows as [string, number, string][]).map(([file, count, shape]) => ({ path: byLocal.get(file)!.path, rows: Number(count), columns: columnsOf.get(shape)!, options: { format: 'parquet' } }));
}

/** A file of the same size with nothing in it but the first four bytes and the footer; the rest takes no room on disk. */
async function hollowCopy({ store, storage }: OpenStorage, file: ObjectInfo, target: string): Promise<void> {
  let start = Math.max(0, file.bytes - TAIL_BYTES);
  let tail = await store.read(file.path, { start, end: file.bytes });
  const footerBytes = tail.length < 8 ? 0 : new DataView(tail.buffer, tail.byteOffset + tail.length - 8).getUint32(0, true) + 8;
  if (footerBytes > file.bytes) throw new LakeError('bad-file', `${storage.name}:${file.path} is no Parquet file: its footer would be larger than the file.`, { path: file.path });
  if (footerBytes > tail.length) {
    start = file.bytes - footerBytes;
    tail = await store.read(file.path, { start, end: file.bytes });
  }
  const copy = await open(target, 'w');
  try {
    await copy.truncate(file.bytes);
    await copy.write(Buffer.from('PAR1'), 0, 4, 0);
    await copy.write(tail, 0, tail.length, start);
  } finally {
    await copy.close();
  }
}
