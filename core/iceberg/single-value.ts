/** Bounds as bytes (Iceberg specification, Appendix D: Single-value serialization, binary). */
import type { LogicalType } from '../schema/types';
import { MICROS_PER_DAY, type Value } from '../values/value';

export function encodeValue(type: LogicalType, value: Value): Uint8Array | undefined {
  const bytes = new Uint8Array(8);
  const view = new DataView(bytes.buffer);
  switch (type.kind) {
    case 'boolean':
      return Uint8Array.of(value ? 1 : 0);
    case 'byte':
    case 'short':
    case 'int':
    case 'date':
      view.setInt32(0, value as number, true);
      return bytes.subarray(0, 4);
    case 'long':
    case 'time':
    case 'timestamp':
    case 'timestamptz':
    case 'timestamp_ns':
      view.setBigInt64(0, value as bigint, true);
      return bytes;
    case 'float':
      view.setFloat32(0, value as number, true);
      return bytes.subarray(0, 4);
    case 'double':
      view.setFloat64(0, value as number, true);
      return bytes;
    case 'decimal':
      return decimalBytes(value as bigint);
    case 'string':
      return new TextEncoder().encode(value as string);
    case 'uuid':
      return Uint8Array.from((value as string).replaceAll('-', '').match(/../g)!, (pair) => parseInt(pair, 16));
    case 'binary':
    case 'fixed':
      return value as Uint8Array;
    default:
      return undefined;
  }
}

/** A bound keeps the type that the column had when it was written, so the length decides, not the type of today. */
export function decodeValue(type: LogicalType, bytes: Uint8Array): Value | undefined {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  switch (type.kind) {
    case 'boolean':
      return bytes.length === 1 ? bytes[0] !== 0 : undefined;
    case 'byte':
    case 'short':
    case 'int':
    case 'date':
      return bytes.length === 4 ? view.getInt32(0, true) : undefined;
    case 'timestamp':
    case 'timestamptz':
    case 'timestamp_ns':
      // The column was a date when the bound was written, which version 3 lets become a timestamp.
      if (bytes.length === 4) return BigInt(view.getInt32(0, true)) * MICROS_PER_DAY * (type.kind === 'timestamp_ns' ? 1000n : 1n);
      return bytes.length === 8 ? view.getBigInt64(0, true) : undefined;
    case 'long':
    case 'time':
      return bytes.length === 8 ? view.getBigInt64(0, true) : bytes.length === 4 ? BigInt(view.getInt32(0, true)) : undefined;
    case 'float':
      return bytes.length === 4 ? view.getFloat32(0, true) : undefined;
    case 'double':
      return bytes.length === 8 ? view.getFloat64(0, true) : bytes.length === 4 ? view.getFloat32(0, true) : undefined;
    case 'decimal':
      return bytes.length > 0 ? signedBigEndian(bytes) : undefined;
    case 'string':
      return new TextDecoder().decode(bytes);
    case 'uuid': {
      const hex = [...bytes].map((byte) => byte.toString(16).padStart(2, '0')).join('');
      return hex.replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, '$1-$2-$3-$4-$5');
    }
    case 'binary':
    case 'fixed':
      return bytes;
    default:
      return undefined;
  }
}

/** Two's complement, big-endian, in as few bytes as hold it. */
export function decimalBytes(unscaled: bigint): Uint8Array {
  let length = 1;
  while (BigInt.asIntN(length * 8, unscaled) !== unscaled) length++;
  const bytes = new Uint8Array(length);
  let rest = BigInt.asUintN(length * 8, unscaled);
  for (let i = length - 1; i >= 0; i--) {
    bytes[i] = Number(rest & 0xffn);
    rest >>= 8n;
  }
  return bytes;
}

/** Two's complement, as decimals are in Avro and in bounds. */
export function signedBigEndian(bytes: Uint8Array): bigint {
  const unsigned = bytes.reduce((sum, byte) => (sum << 8n) | BigInt(byte), 0n);
  return BigInt.asIntN(bytes.length * 8, unsigned);
}
