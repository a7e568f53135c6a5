/** Puffin files (Puffin specification) and the deletion vectors in them (Iceberg specification, "Deletion Vectors"). */
import { LakeError } from '../errors';
import { inFile } from '../fault-words';
import { parseJson, stringifyJson } from '../json';
import { shapeProblem } from '../shapes';
import { toBytes, toText, type ObjectStore } from '../storage/object-store';
import { crc32 } from '../values/crc32';
import { decodeVector, encodeVector, type RowPositions } from '../values/row-positions';

const MAGIC = 'PFA1';
const VECTOR_TYPE = 'deletion-vector-v1';
/** Length of the payload, flags, and the magic at the end. */
const FOOTER_TAIL = 12;

export interface PuffinBlob {
  type: string;
  fields: number[];
  'snapshot-id': number;
  'sequence-number': number;
  offset: number;
  length: number;
  'compression-codec'?: string;
  properties?: Record<string, string>;
}

/** The list of blobs in a Puffin file. */
export async function readPuffinFooter(store: ObjectStore, path: string): Promise<PuffinBlob[]> {
  try {
    const bytes = await store.read(path);
    const bad = (what: string) => new LakeError('bad-file', `${path}: not a readable Puffin file: ${what}.`, { path });
    if (bytes.length < 4 + FOOTER_TAIL + 4 || text(bytes, 0) !== MAGIC || text(bytes, bytes.length - 4) !== MAGIC) throw bad(`it does not begin and end with ${MAGIC}`);
    const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
    const length = view.getInt32(bytes.length - FOOTER_TAIL, true);
    const start = bytes.length - FOOTER_TAIL - length;
    if (length < 0 || start < 8 || text(bytes, start - 4) !== MAGIC) throw bad('the length of its footer is wrong');
    if ((view.getUint32(bytes.length - 8, true) & 1) === 1) throw new LakeError('unsupported', `${path}: its footer is compressed, which is not supported.`, { path });
    const footer = parseJson(toText(bytes.subarray(start, start + length))) as { blobs: PuffinBlob[] };
    const problem = shapeProblem(footer, { blobs: [{ type: 'text', fields: ['number'], offset: 'number', length: 'number', 'properties?': { '*': 'text' } }] }, '');
    if (problem) throw bad(problem);
    return footer.blobs;
  } catch (error) {
    throw inFile(error, path);
  }
}

function text(bytes: Uint8Array, at: number): string {
  return String.fromCharCode(...bytes.subarray(at, at + 4));
}

/** Where a vector lies, as its manifest entry says. */
export interface VectorPlace {
  path: string;
  offset: number;
  bytes: number;
  cardinality: number;
}

export async function loadVector(store: ObjectStore, { path, offset, bytes, cardinality }: VectorPlace): Promise<RowPositions> {
  try {
    const blob = await store.read(path, { start: offset, end: offset + bytes });
    const rows = decodeBlob(blob, bytes);
    if (rows.length !== cardinality) throw new LakeError('bad-file', `the vector at byte ${offset} deletes ${rows.length} rows, its manifest says ${cardinality}`);
    return rows;
  } catch (error) {
    throw inFile(error, path);
  }
}

/** Length and checksum are big-endian, all else little-endian; the length counts the magic number and the bitmap. */
export function decodeBlob(blob: Uint8Array, bytes: number): RowPositions {
  if (blob.length !== bytes || bytes < 12) throw new LakeError('bad-file', `a vector of ${bytes} bytes is cut short`);
  const view = new DataView(blob.buffer, blob.byteOffset, blob.byteLength);
  const length = view.getUint32(0);
  if (length + 8 !== bytes) throw new LakeError('bad-file', `a vector says it has ${length} bytes, where there is room for ${bytes - 8}`);
  const data = blob.subarray(4, 4 + length);
  if (view.getUint32(4 + length) !== crc32(data)) throw new LakeError('bad-file', 'the checksum of a vector is wrong; the file was damaged');
  return decodeVector(data);
}

function encodeBlob(rows: ArrayLike<number>): Uint8Array {
  const data = encodeVector(rows);
  const blob = new Uint8Array(data.length + 8);
  const view = new DataView(blob.buffer);
  view.setUint32(0, data.length);
  blob.set(data, 4);
  view.setUint32(4 + data.length, crc32(data));
  return blob;
}

export interface PackedVector {
  referencedFile: string;
  offset: number;
  bytes: number;
  cardinality: number;
}

/** One Puffin file with a vector for each data file. */
export function packVectors(vectors: readonly { referencedFile: string; rows: ArrayLike<number> }[]): { bytes: Uint8Array; vectors: PackedVector[] } {
  const parts: Uint8Array[] = [toBytes(MAGIC)];
  let at = 4;
  const packed = vectors.map(({ referencedFile, rows }): PackedVector => {
    const blob = encodeBlob(rows);
    parts.push(blob);
    at += blob.length;
    return { referencedFile, offset: at - blob.length, bytes: blob.length, cardinality: rows.length };
  });
  const blobs = packed.map((each): PuffinBlob => ({
    type: VECTOR_TYPE, fields: [], 'snapshot-id': -1, 'sequence-number': -1, offset: each.offset, length: each.bytes,
    properties: { 'referenced-data-file': each.referencedFile, cardinality: String(each.cardinality) },
  }));
  const payload = toBytes(stringifyJson({ blobs, properties: { 'created-by': 'Kind Harbor' } }));
  const tail = new Uint8Array(FOOTER_TAIL);
  new DataView(tail.buffer).setInt32(0, payload.length, true);
  tail.set(toBytes(MAGIC), 8);
  parts.push(toBytes(MAGIC), payload, tail);
  return { bytes: Buffer.concat(parts), vectors: packed };
}
