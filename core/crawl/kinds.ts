import type { Compression } from '../folder/read-options';
import { baseName } from '../storage/paths';

/** What a file seems to be, by its name and first bytes. */
export type FileKind = 'parquet' | 'csv' | 'json' | 'text' | 'avro' | 'xml' | 'picture' | 'other';

const BY_EXTENSION: Record<string, FileKind> = {
  parquet: 'parquet', pq: 'parquet', csv: 'csv', tsv: 'csv', psv: 'csv', json: 'json', jsonl: 'json', ndjson: 'json',
  txt: 'text', log: 'text', dat: 'text', avro: 'avro', xml: 'xml', png: 'picture', jpg: 'picture', jpeg: 'picture', gif: 'picture',
};

export function kindByName(path: string): FileKind {
  const plain = baseName(path).replace(PACKED, '');
  const extension = /\.([a-z0-9]+)$/i.exec(plain)?.[1]?.toLowerCase() ?? '';
  return BY_EXTENSION[extension] ?? 'other';
}

const PACKED = /\.(gz|gzip|zst|zstd)$/i;

/** How the file is packed, by its name. */
export function compressionByName(path: string): Compression {
  const ending = PACKED.exec(path)?.[1]?.toLowerCase();
  return ending === undefined ? 'none' : ending.startsWith('gz') ? 'gzip' : 'zstd';
}

const MAGIC: [kind: FileKind, bytes: number[]][] = [
  ['parquet', [0x50, 0x41, 0x52, 0x31]],
  ['avro', [0x4f, 0x62, 0x6a, 0x01]],
  ['picture', [0x89, 0x50, 0x4e, 0x47]],
  ['picture', [0xff, 0xd8, 0xff]],
];

/** The kind by the first bytes where they are telling, else by name, else by what the text looks like. */
export function kindByBytes(path: string, head: Uint8Array): FileKind {
  const magic = MAGIC.find(([, bytes]) => bytes.every((byte, index) => head[index] === byte));
  if (magic) return magic[0];
  const named = kindByName(path);
  if (named !== 'other' && named !== 'text') return named;
  if (head.includes(0)) return 'other';
  const text = new TextDecoder().decode(head).trimStart();
  if (/^<\?xml|^<[a-z]/i.test(text)) return 'xml';
  if (/^[[{]/.test(text)) return 'json';
  return text === '' ? named : 'text';
}
