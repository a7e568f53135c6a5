/** Positions of rows in one file as a 64-bit Roaring bitmap: the form that Delta's deletion vectors and Iceberg's share. */
import { LakeError } from '../errors';
import { readRoaring, writeRoaring } from './roaring';

/** Positions of rows in one file, ascending. */
export type RowPositions = Uint32Array;

/** Of 64-bit bitmaps: a count and, for each upper half, a 32-bit bitmap; little-endian. */
const PORTABLE = 1681511377;
/** An older form, all big-endian, that the protocol's own example of an inline vector has. */
const OLDER = 1681511376;

/** Bytes of the bitmap with its magic number to positions. Files of 2^32 rows and more are refused. */
export function decodeVector(bytes: Uint8Array): RowPositions {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  if (bytes.length < 8) throw new LakeError('bad-file', `expected a vector of deleted rows, found ${bytes.length} bytes`);
  const rows: number[] = [];
  const take = (value: number): void => void rows.push(value);
  let at: number;
  if (view.getUint32(0, true) === PORTABLE) {
    if (bytes.length < 12) throw new LakeError('bad-file', `expected a vector of deleted rows, found ${bytes.length} bytes`);
    const count = view.getBigUint64(4, true);
    at = 12;
    for (let i = 0n; i < count; i++) {
      if (at + 4 > bytes.length) throw new LakeError('bad-file', `a vector claims ${count} bitmaps and ends after ${i}`);
      if (view.getUint32(at, true) !== 0 || i > 0n) throw new LakeError('unsupported', 'a vector deletes rows beyond the first 4 294 967 296 of a file');
      at = readRoaring(bytes, at + 4, take);
    }
  } else if (view.getUint32(0) === OLDER) {
    const count = view.getInt32(4);
    at = 8;
    if (count > 1) throw new LakeError('unsupported', 'a vector deletes rows beyond the first 4 294 967 296 of a file');
    if (count === 1) {
      if (bytes.length < 12) throw new LakeError('bad-file', 'a vector ends before its bitmap');
      at = readRoaring(bytes, 12, take);
    }
  } else throw new LakeError('bad-file', `expected a vector of deleted rows, found bytes that begin with ${view.getUint32(0, true)}`);
  if (at !== bytes.length) throw new LakeError('bad-file', `a vector ends after ${at} bytes, where it should have ${bytes.length}`);
  return Uint32Array.from(rows);
}

/** In the portable form. */
export function encodeVector(rows: ArrayLike<number>): Uint8Array {
  if (rows.length === 0) return Uint8Array.of(...int32(PORTABLE), 0, 0, 0, 0, 0, 0, 0, 0);
  const bitmap = writeRoaring(rows);
  const bytes = new Uint8Array(16 + bitmap.length);
  const view = new DataView(bytes.buffer);
  view.setUint32(0, PORTABLE, true);
  view.setBigUint64(4, 1n, true);
  bytes.set(bitmap, 16);
  return bytes;
}

function int32(value: number): Uint8Array {
  const bytes = new Uint8Array(4);
  new DataView(bytes.buffer).setUint32(0, value, true);
  return bytes;
}

/** Rows of either list, ascending. */
export function unionOf(a: RowPositions, b: ArrayLike<number>): RowPositions {
  return Uint32Array.from(new Set([...a, ...Array.from(b)])).sort();
}

/** Rows of `a` that are not in `b`. */
export function without(a: RowPositions, b: RowPositions): RowPositions {
  const left = new Set(b);
  return a.filter((row) => !left.has(row));
}
