import { parse, stringify } from 'lossless-json';

/**
 * JSON for table metadata. Snapshot ids have 63 bits, which JSON.parse would round: integers beyond 2^53 come back as
 * bigint, everything else as JSON.parse gives it.
 */
export function parseJson(text: string): unknown {
  if (!/\d{16}/.test(text)) return JSON.parse(text);
  return parse(text, undefined, (digits) => (/^-?\d+$/.test(digits) && !Number.isSafeInteger(Number(digits)) ? BigInt(digits) : Number(digits)));
}

/** Numbers come back as their text, so that decimals keep every digit. */
export function parseJsonKeepingDigits(text: string): unknown {
  return parse(text, undefined, (digits) => digits);
}

/** Writes bigint as a JSON number. */
export function stringifyJson(value: unknown, indent?: number): string {
  return stringify(value, undefined, indent) ?? 'null';
}
