/** Headers of delimited files, so that columns are matched by name even when files order them differently. */
import { createGunzip } from 'node:zlib';
import { filesToRead, type DataFile, type ScanPlan } from '../../core/scan/plan';
import type { CsvOptions } from '../../core/folder/read-options';
import type { DiskStore } from '../storage/disk-store';

const cache = new Map<string, string[]>();
/** A header is looked for in this much of the file. */
const HEAD_BYTES = 64 * 1024;

/** The header of each file to be read, by path; empty for formats that have none. */
export async function csvHeaders(store: DiskStore, plan: ScanPlan): Promise<Map<string, string[]>> {
  const headers = new Map<string, string[]>();
  if (plan.reader.kind !== 'text' || plan.reader.options.format !== 'csv' || !plan.reader.options.header) return headers;
  const { options } = plan.reader;
  for (const file of filesToRead(plan)) headers.set(file.path, await headerOf(store, file, options));
  return headers;
}

async function headerOf(store: DiskStore, file: DataFile, options: CsvOptions): Promise<string[]> {
  const key = [store.root, file.path, file.bytes, file.modified, options.delimiter, options.skip].join('\0');
  const kept = cache.get(key);
  if (kept) return kept;
  const head = await readHead(store, file.path, options.compression);
  const line = head.replace(/^\ufeff/, '').split(/\r?\n/)[options.skip] ?? '';
  const header = splitLine(line, options);
  cache.set(key, header);
  if (cache.size > 20_000) cache.delete(cache.keys().next().value!);
  return header;
}

/** The first bytes as text, unpacked; a packed file that is cut short gives what it has. */
export async function readHead(store: DiskStore, path: string, compression: 'none' | 'gzip', bytes = HEAD_BYTES): Promise<string> {
  return new TextDecoder().decode(await readHeadBytes(store, path, compression, bytes));
}

export async function readHeadBytes(store: DiskStore, path: string, compression: 'none' | 'gzip', bytes = HEAD_BYTES): Promise<Uint8Array> {
  const head = await store.read(path, { start: 0, end: bytes });
  if (compression === 'none') return head;
  return new Promise((resolve) => {
    const gunzip = createGunzip();
    const parts: Buffer[] = [];
    const done = () => resolve(Buffer.concat(parts));
    gunzip.on('data', (part: Buffer) => parts.push(part)).on('end', done).on('error', done);
    gunzip.end(head);
  });
}

/** Fields of one delimited line, with quotes taken off. */
export function splitLine(line: string, { delimiter, quote }: Pick<CsvOptions, 'delimiter' | 'quote'>): string[] {
  const fields: string[] = [];
  let field = '';
  let quoted = false;
  for (let i = 0; i < line.length; i++) {
    if (quote !== '' && line[i] === quote) {
      if (quoted && line[i + 1] === quote) field += line[++i];
      else quoted = !quoted;
    } else if (!quoted && line.startsWith(delimiter, i)) {
      fields.push(field);
      field = '';
      i += delimiter.length - 1;
    } else field += line[i];
  }
  return [...fields, field];
}
