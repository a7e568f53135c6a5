/** The 32-bit hash of the bucket transform (Iceberg specification, Appendix B: Murmur3 x86, seed 0). */
import type { LogicalType } from '../schema/types';
import { LakeError } from '../errors';
import { floorDiv, type Value } from '../values/value';
import { decimalBytes } from './single-value';

export function murmur3(bytes: Uint8Array): number {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  const blocks = bytes.length >> 2;
  let hash = 0;
  for (let i = 0; i < blocks; i++) hash = (Math.imul(rotl(hash ^ scramble(view.getInt32(i * 4, true)), 13), 5) + 0xe6546b64) | 0;
  let tail = 0;
  for (let i = bytes.length - 1; i >= blocks * 4; i--) tail = (tail << 8) | bytes[i]!;
  hash ^= scramble(tail);
  hash ^= bytes.length;
  hash = Math.imul(hash ^ (hash >>> 16), 0x85ebca6b);
  hash = Math.imul(hash ^ (hash >>> 13), 0xc2b2ae35);
  return hash ^ (hash >>> 16);
}

function rotl(x: number, by: number): number {
  return (x << by) | (x >>> (32 - by));
}

function scramble(k: number): number {
  return Math.imul(rotl(Math.imul(k, 0xcc9e2d51), 15), 0x1b873593);
}

/** Hash of a value by its type: int, long and date as 8 bytes little-endian, decimals as their minimal big-endian bytes, … */
export function hashValue(type: LogicalType, value: Value): number {
  switch (type.kind) {
    case 'int':
    case 'date':
    case 'long':
    case 'time':
    case 'timestamp':
    case 'timestamptz':
      return murmur3(int64(BigInt(value as number | bigint)));
    case 'timestamp_ns':
      // Nanoseconds hash as the microseconds they fall in.
      return murmur3(int64(floorDiv(value as bigint, 1000n)));
    case 'decimal':
      return murmur3(decimalBytes(value as bigint));
    case 'string':
      return murmur3(new TextEncoder().encode(value as string));
    case 'uuid':
      return murmur3(uuidBytes(value as string));
    case 'binary':
    case 'fixed':
      return murmur3(value as Uint8Array);
    default:
      throw new LakeError('unsupported', `The bucket transform is not defined for ${type.kind}.`);
  }
}

function int64(value: bigint): Uint8Array {
  const bytes = new Uint8Array(8);
  new DataView(bytes.buffer).setBigInt64(0, value, true);
  return bytes;
}

export function uuidBytes(uuid: string): Uint8Array {
  return Uint8Array.from(uuid.replaceAll('-', '').match(/../g)!, (pair) => parseInt(pair, 16));
}
