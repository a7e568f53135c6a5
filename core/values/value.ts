import type { LogicalType } from '../schema/types';

/**
 * One value of a column, by logical type: boolean as boolean; byte, short, int, float, double and date (days since
 * 1970-01-01) as number; long, time (µs), timestamps (µs; ns for timestamp_ns) and decimals (unscaled) as bigint;
 * string and uuid as string; binary and fixed as bytes.
 */
export type Value = boolean | number | bigint | string | Uint8Array;

/**
 * Orders two values of one type: negative, zero or positive. Strings compare as UTF-8 bytes do (by code point, which
 * JavaScript's own `<` does not). NaN sorts above everything, as in the engine.
 */
export function compareValues(a: Value, b: Value): number {
  if (typeof a === 'string' && typeof b === 'string') return compareText(a, b);
  if (a instanceof Uint8Array && b instanceof Uint8Array) return compareBytes(a, b);
  if (Number.isNaN(a)) return Number.isNaN(b) ? 0 : 1;
  if (Number.isNaN(b)) return -1;
  return a < b ? -1 : a > b ? 1 : 0;
}

export function compareText(a: string, b: string): number {
  const shared = Math.min(a.length, b.length);
  for (let i = 0; i < shared; i++) {
    const x = a.charCodeAt(i);
    const y = b.charCodeAt(i);
    if (x === y) continue;
    // A surrogate stands for a code point above every unit that is not one.
    const xHigh = x >= 0xd800 && x <= 0xdfff;
    const yHigh = y >= 0xd800 && y <= 0xdfff;
    return xHigh === yHigh ? x - y : xHigh ? 1 : -1;
  }
  return a.length - b.length;
}

export function compareBytes(a: Uint8Array, b: Uint8Array): number {
  const shared = Math.min(a.length, b.length);
  for (let i = 0; i < shared; i++) if (a[i] !== b[i]) return a[i]! - b[i]!;
  return a.length - b.length;
}

export function isFloating(type: LogicalType): boolean {
  return type.kind === 'float' || type.kind === 'double';
}

export const MICROS_PER_DAY = 86_400_000_000n;

/** Division that rounds toward minus infinity, as partition transforms of times before 1970 need. */
export function floorDiv(a: bigint, b: bigint): bigint {
  const quotient = a / b;
  return a % b !== 0n && a < 0n !== b < 0n ? quotient - 1n : quotient;
}
