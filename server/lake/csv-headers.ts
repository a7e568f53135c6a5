/** Headers of delimited files, so that columns are matched by name even when files order them differently. */
import { filesToRead, type DataFile, type ScanPlan } from '../../core/scan/plan';
import type { Compression, CsvOptions } from '../../core/folder/read-options';
import { headerNames } from '../../core/text/structure';
import { Lru } from '../../core/lru';
import type { ObjectStore } from '../../core/storage/object-store';
import { unpackHead } from '../storage/unpack';

const cache = new Lru<string[]>(20_000);
/** A header is looked for in this much of the file. */
const HEAD_BYTES = 256 * 1024;

/** The header of each file to be read, by path; empty for formats that have none. */
export async function csvHeaders(store: ObjectStore, plan: ScanPlan): Promise<Map<string, string[]>> {
  const headers = new Map<string, string[]>();
  if (plan.reader.kind !== 'text' || plan.reader.options.format !== 'csv' || !plan.reader.options.header) return headers;
  const { options } = plan.reader;
  for (const file of filesToRead(plan)) headers.set(file.path, await headerOf(store, file, options));
  return headers;
}

async function headerOf(store: ObjectStore, file: DataFile, options: CsvOptions): Promise<string[]> {
  const key = [store.uri, file.path, file.bytes, file.modified, file.etag, JSON.stringify(options)].join('\0');
  const kept = cache.get(key);
  if (kept) return kept;
  const head = await readHead(store, file.path, options.compression, options.encoding);
  const header = headerNames(head, options, options);
  cache.set(key, header);
  return header;
}

/** The first bytes as text, unpacked; a packed file that is cut short gives what it has. */
export async function readHead(store: ObjectStore, path: string, compression: Compression, encoding = 'utf-8', bytes = HEAD_BYTES): Promise<string> {
  return new TextDecoder(encoding).decode(await readHeadBytes(store, path, compression, bytes));
}

export async function readHeadBytes(store: ObjectStore, path: string, compression: Compression, bytes = HEAD_BYTES): Promise<Uint8Array> {
  return unpackHead(await store.read(path, { start: 0, end: bytes }), compression);
}
