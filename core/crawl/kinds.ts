import type { Compression } from '../folder/read-options';
import { baseName } from '../storage/paths';

/** What a file seems to be, by its name and first bytes. */
export type FileKind = 'parquet' | 'csv' | 'json' | 'yaml' | 'text' | 'avro' | 'arrow' | 'xml' | 'archive' | 'spreadsheet' | 'database' | 'picture' | 'document' | 'other';

const BY_EXTENSION: Record<string, FileKind> = {
  parquet: 'parquet', pq: 'parquet', csv: 'csv', tsv: 'csv', psv: 'csv', json: 'json', jsonl: 'json', ndjson: 'json',
  geojson: 'json', yaml: 'yaml', yml: 'yaml',
  txt: 'text', log: 'text', dat: 'text', avro: 'avro', xml: 'xml', arrow: 'arrow', feather: 'arrow', ipc: 'arrow', zip: 'archive', tar: 'archive', tgz: 'archive', tbz2: 'archive', txz: 'archive',
  xlsx: 'spreadsheet', xlsm: 'spreadsheet', xls: 'spreadsheet', ods: 'spreadsheet', sqlite: 'database', sqlite3: 'database', db: 'database', png: 'picture', jpg: 'picture', jpeg: 'picture', gif: 'picture', svg: 'picture', webp: 'picture', tif: 'picture', tiff: 'picture', bmp: 'picture', ico: 'picture',
  pdf: 'document', doc: 'document', docx: 'document', ppt: 'document', pptx: 'document', odt: 'document', odp: 'document', rtf: 'document', html: 'document', htm: 'document', md: 'document', eml: 'document', ics: 'document', vcf: 'document',
};

export function kindByName(path: string): FileKind {
  return BY_EXTENSION[extensionOf(path)] ?? 'other';
}

/** The name without the ending that says how the file is packed. */
export function plainName(path: string): string {
  return baseName(path).replace(PACKED, '');
}

/** The ending that says what is in the file, in lower case; '' for none. */
export function extensionOf(path: string): string {
  return /\.([a-z0-9]+)$/i.exec(plainName(path))?.[1]?.toLowerCase() ?? '';
}

const PACKED = /\.(gz|gzip|zst|zstd|bz2|xz|lz4|sz|snappy)$/i;

const PACKINGS: readonly [packing: Exclude<Compression, 'none' | 'auto'>, magic: number[]][] = [
  ['gzip', [0x1f, 0x8b, 0x08]],
  ['zstd', [0x28, 0xb5, 0x2f, 0xfd]],
  ['bzip2', [0x42, 0x5a, 0x68]],
  ['xz', [0xfd, 0x37, 0x7a, 0x58, 0x5a, 0x00]],
  ['lz4', [0x04, 0x22, 0x4d, 0x18]],
  ['lz4', [0x02, 0x21, 0x4c, 0x18]],
  ['snappy', [0xff, 0x06, 0x00, 0x00, 0x73, 0x4e, 0x61, 0x50, 0x70, 0x59]],
];
/** So many first bytes tell how a file is packed. */
export const PACKING_BYTES = 16;

/** How the file is packed, by its first bytes: names are often wrong, or lack the ending. */
export function compressionByBytes(head: Uint8Array): Exclude<Compression, 'auto'> {
  const [packing] = PACKINGS.find(([, magic]) => magic.every((byte, index) => head[index] === byte)) ?? [];
  // Text may begin with the three letters of a bzip2 file; the digit and what follows it are told apart.
  if (packing === 'bzip2' && !(head[3]! >= 0x31 && head[3]! <= 0x39 && [0x31, 0x17].includes(head[4]!))) return 'none';
  return packing ?? 'none';
}

const BESIDE = [
  /^(readme|licen[cs]e|copying|changelog|changes|notice|authors|contributing|citation)(\.(md|txt|rst|adoc|html?))?$/i, /^(thumbs\.db|desktop\.ini|ehthumbs\.db)$/i,
  /\.(md5|sha1|sha256|sha512|crc|crc32|sum|asc|sig)$/i, /\.(tmp|part|partial|crdownload|download|swp|bak|orig)$/i, /^~\$|~$/,
];

/** Kinds that hold no table whatever is in them. */
export const WITHOUT_TABLE: ReadonlySet<FileKind> = new Set<FileKind>(['picture', 'document']);

/** What lies beside data and is none: notes, pictures, documents, checksums, thumbnails, files that are on their way, backups. Common practice. */
export function isBeside(path: string): boolean {
  const name = baseName(path);
  return BESIDE.some((form) => form.test(name)) || WITHOUT_TABLE.has(kindByName(path));
}

const MAGIC: [kind: FileKind, bytes: number[]][] = [
  ['parquet', [0x50, 0x41, 0x52, 0x31]],
  ['avro', [0x4f, 0x62, 0x6a, 0x01]],
  ['arrow', [0x41, 0x52, 0x52, 0x4f, 0x57, 0x31]],
  ['archive', [0x50, 0x4b, 0x03, 0x04]],
  ['spreadsheet', [0xd0, 0xcf, 0x11, 0xe0]],
  ['database', [0x53, 0x51, 0x4c, 0x69, 0x74, 0x65, 0x20, 0x66]],
  ['document', [0x25, 0x50, 0x44, 0x46, 0x2d]],
  ['picture', [0x47, 0x49, 0x46, 0x38]],
  ['picture', [0x89, 0x50, 0x4e, 0x47]],
  ['picture', [0xff, 0xd8, 0xff]],
];

/** The kind by the first bytes where they are telling, else by name, else by what the text looks like. */
export function kindByBytes(path: string, head: Uint8Array): FileKind {
  const magic = MAGIC.find(([, bytes]) => bytes.every((byte, index) => head[index] === byte));
  // Spreadsheets and documents of today are archives too, and those of yesterday are of one form.
  if (magic) return ['archive', 'spreadsheet'].includes(magic[0]) && ['spreadsheet', 'document'].includes(kindByName(path)) ? kindByName(path) : magic[0];
  const named = kindByName(path);
  const text = new TextDecoder().decode(head).replace(/^\ufeff/, '').trimStart();
  // Names are often wrong: objects in a file that is called a CSV, and lines of text in one that is called JSON.
  if (named === 'csv' && /^\{\s*"[^"\n]*"\s*:/.test(text)) return 'json';
  if (named === 'json' && !head.includes(0) && text !== '' && !/^[[{"\d-]|^(true|false|null)/.test(text)) return 'text';
  if (named !== 'other' && named !== 'text') return named;
  if (head.includes(0)) return 'other';
  if (/^<\?xml|^<[a-z]/i.test(text)) return 'xml';
  if (/^[[{]/.test(text)) return 'json';
  return text === '' ? named : 'text';
}
