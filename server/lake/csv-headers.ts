/** Headers of delimited files, so that columns are matched by name even when files order them differently. */
import { filesToRead, type DataFile, type ScanPlan } from '../../core/scan/plan';
import { isUnpackedByEngine, optionsOfCopy, type CsvOptions } from '../../core/folder/read-options';
import { headerNames } from '../../core/text/structure';
import { Lru } from '../../core/lru';
import type { ObjectStore } from '../../core/storage/object-store';
import { readPart } from '../storage/read-part';
import { unpackHead, type Packing } from '../storage/unpack';
import type { Lease } from './local-files';

const cache = new Lru<string[]>(20_000);
/** A header is looked for in this much of the file. */
const HEAD_BYTES = 256 * 1024;

/** The header of each file to be read, by path; empty for formats that have none. `lease` has the copies of those that are not read as they are. */
export async function csvHeaders(store: ObjectStore, plan: ScanPlan, lease: Lease): Promise<Map<string, string[]>> {
  const headers = new Map<string, string[]>();
  if (plan.reader.kind !== 'text' || plan.reader.options.format !== 'csv' || !plan.reader.options.header) return headers;
  const { options } = plan.reader;
  const isPlain = isUnpackedByEngine(options.compression) && !options.perFile;
  for (const file of filesToRead(plan)) headers.set(file.path, await headerOf(store, file, options, isPlain ? undefined : lease.pathOf(file)));
  return headers;
}

async function headerOf(store: ObjectStore, file: DataFile, options: CsvOptions, copy: string | undefined): Promise<string[]> {
  const key = [store.uri, file.path, file.bytes, file.modified, file.etag, JSON.stringify(options)].join('\0');
  const kept = cache.get(key);
  if (kept) return kept;
  const header = copy === undefined ? await originalHeader(store, file, options) : await copiedHeader(copy, optionsOfCopy(options) as CsvOptions);
  cache.set(key, header);
  return header;
}

async function originalHeader(store: ObjectStore, file: DataFile, options: CsvOptions): Promise<string[]> {
  const head = await store.read(file.path, { start: 0, end: HEAD_BYTES });
  const plain = await unpackHead(head, options.compression as Packing | 'none');
  return headerNames(new TextDecoder(options.encoding).decode(plain), options, options);
}

async function copiedHeader(copy: string, options: CsvOptions): Promise<string[]> {
  return headerNames(new TextDecoder().decode(await readPart(copy, { start: 0, end: HEAD_BYTES })), options, options);
}
