/** Deletion vectors (Delta protocol, "Deletion Vectors", "Deletion Vector Descriptor Schema", "Deletion Vector Format"). */
import { LakeError } from '../errors';
import { inFile } from '../fault-words';
import type { ObjectStore } from '../storage/object-store';
import { crc32 } from '../values/crc32';
import { decodeVector, encodeVector, type RowPositions } from '../values/row-positions';
import { decodeZ85, encodeZ85 } from './z85';

/** As an `add` or `remove` names its vector. */
export interface VectorDescriptor {
  /** `u`: a file beside the data, named by a UUID; `p`: a file by its absolute path; `i`: in the descriptor itself. */
  storageType: 'u' | 'i' | 'p';
  pathOrInlineDv: string;
  /** Where in the file; absent for inline vectors. */
  offset?: number;
  sizeInBytes: number;
  /** Rows that it deletes. */
  cardinality: number;
}

/** "The unique id of a vector": what tells two vectors of one file apart ("Action Reconciliation"). */
export function vectorId(vector: VectorDescriptor | undefined): string {
  if (!vector) return '';
  return `${vector.storageType}${vector.pathOrInlineDv}${vector.offset === undefined ? '' : `@${vector.offset}`}`;
}

/** Path below the table's root, or an absolute URI; undefined for one that is inline. */
export function vectorPath(vector: VectorDescriptor): string | undefined {
  if (vector.storageType === 'i') return undefined;
  if (vector.storageType === 'p') return vector.pathOrInlineDv;
  const encoded = vector.pathOrInlineDv.slice(-20);
  const prefix = vector.pathOrInlineDv.slice(0, -20);
  const name = `deletion_vector_${uuidOf(decodeZ85(encoded))}.bin`;
  return prefix === '' ? name : `${prefix}/${name}`;
}

/**
 * The rows that a vector deletes. `toStorePath` gives the place in the store of what `vectorPath` names. Fails when the
 * checksum, the size or the number of rows is not what the descriptor and the file say.
 */
export async function loadVector(store: ObjectStore, vector: VectorDescriptor, toStorePath: (path: string) => string): Promise<RowPositions> {
  const named = vectorPath(vector);
  if (named === undefined) return checked(decodeVector(decodeZ85(vector.pathOrInlineDv).subarray(0, vector.sizeInBytes)), vector);
  const path = toStorePath(named);
  try {
    const start = vector.offset ?? 1;
    const bytes = await store.read(path, { start, end: start + vector.sizeInBytes + 8 });
    if (bytes.length < vector.sizeInBytes + 8) throw new LakeError('bad-file', `${path}: the vector of deleted rows at byte ${start} should have ${vector.sizeInBytes} bytes; the file ends before.`, { path });
    const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
    if (view.getUint32(0) !== vector.sizeInBytes) throw new LakeError('bad-file', `${path}: the vector at byte ${start} has ${view.getUint32(0)} bytes, the log says ${vector.sizeInBytes}.`, { path });
    const data = bytes.subarray(4, 4 + vector.sizeInBytes);
    if (view.getUint32(4 + vector.sizeInBytes) !== crc32(data)) throw new LakeError('bad-file', `${path}: the checksum of the vector at byte ${start} is wrong; the file was damaged.`, { path });
    return checked(decodeVector(data), vector);
  } catch (error) {
    throw inFile(error, path);
  }
}

function checked(rows: RowPositions, vector: VectorDescriptor): RowPositions {
  if (rows.length === Number(vector.cardinality)) return rows;
  throw new LakeError('bad-file', `A vector deletes ${rows.length} rows, the log says ${vector.cardinality} (${vectorId(vector).slice(0, 60)}).`);
}

/** One file that holds a vector for each list of positions, and their descriptors in the same order. `uuid` names the file. */
export function packVectors(lists: readonly ArrayLike<number>[], uuid: string): { bytes: Uint8Array; name: string; vectors: VectorDescriptor[] } {
  const blobs = lists.map(encodeVector);
  const bytes = new Uint8Array(1 + blobs.reduce((sum, blob) => sum + blob.length + 8, 0));
  const view = new DataView(bytes.buffer);
  // "Deletion Vector Files": a version byte, then size, data and CRC-32 of each.
  bytes[0] = 1;
  const pathOrInlineDv = encodeZ85(bytesOfUuid(uuid));
  let at = 1;
  const vectors = blobs.map((blob, index): VectorDescriptor => {
    const offset = at;
    view.setUint32(at, blob.length);
    bytes.set(blob, at + 4);
    view.setUint32(at + 4 + blob.length, crc32(blob));
    at += blob.length + 8;
    return { storageType: 'u', pathOrInlineDv, offset, sizeInBytes: blob.length, cardinality: lists[index]!.length };
  });
  return { bytes, name: `deletion_vector_${uuid}.bin`, vectors };
}

function uuidOf(bytes: Uint8Array): string {
  const hex = [...bytes].map((byte) => byte.toString(16).padStart(2, '0')).join('');
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`;
}

function bytesOfUuid(uuid: string): Uint8Array {
  return Uint8Array.from(uuid.replaceAll('-', '').match(/../g)!.map((pair) => parseInt(pair, 16)));
}
