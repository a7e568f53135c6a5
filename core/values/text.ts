import { LakeError } from '../errors';
import { typeName } from '../schema/type-names';
import type { LogicalType } from '../schema/types';
import { MICROS_PER_DAY, floorDiv, type Value } from './value';

/**
 * Reads a value from the text that Delta partition values, Hive folder names and the engine's statistics use.
 * Timestamps: `yyyy-MM-dd HH:mm:ss[.f]` or ISO 8601; no offset means UTC.
 */
export function parseValue(type: LogicalType, text: string): Value {
  const value = tryParse(type, text);
  if (value === undefined) throw new LakeError('bad-file', `"${text}" is not a ${typeName(type)}.`);
  return value;
}

function tryParse(type: LogicalType, text: string): Value | undefined {
  switch (type.kind) {
    case 'boolean':
      return /^(true|false)$/i.test(text) ? text.toLowerCase() === 'true' : undefined;
    case 'byte':
    case 'short':
    case 'int':
      return /^[+-]?\d+$/.test(text) ? Number(text) : undefined;
    case 'long':
      return /^[+-]?\d+$/.test(text) ? BigInt(text) : undefined;
    case 'float': {
      // What a 32-bit column holds is the nearest of its numbers, which is not what the text says.
      const value = parseFloating(text);
      return value === undefined ? undefined : Math.fround(value);
    }
    case 'double':
      return parseFloating(text);
    case 'decimal':
      return parseDecimal(text, type.scale);
    case 'date':
      return parseDate(text);
    case 'timestamp':
    case 'timestamptz':
      return parseTimestamp(text);
    case 'timestamp_ns': {
      const micros = parseTimestamp(text);
      return micros === undefined ? undefined : micros * 1000n + BigInt((/[.,]\d{6}(\d{1,3})/.exec(text)?.[1] ?? '0').padEnd(3, '0'));
    }
    case 'time': {
      const micros = parseTimestamp(`1970-01-01 ${text}`);
      return micros;
    }
    case 'string':
    case 'uuid':
      return text;
    case 'binary':
    case 'fixed':
      return new TextEncoder().encode(text);
    default:
      return undefined;
  }
}

function parseFloating(text: string): number | undefined {
  const special: Record<string, number> = { nan: NaN, infinity: Infinity, inf: Infinity, '-infinity': -Infinity, '-inf': -Infinity };
  const named = special[text.toLowerCase()];
  if (named !== undefined) return named;
  return text.trim() !== '' && Number.isFinite(Number(text)) ? Number(text) : undefined;
}

function parseDecimal(text: string, scale: number): bigint | undefined {
  const match = /^([+-]?)(\d*)(?:\.(\d*))?$/.exec(text);
  if (!match || (match[2] === '' && !match[3])) return undefined;
  const fraction = match[3] ?? '';
  if (fraction.length > scale && /[1-9]/.test(fraction.slice(scale))) return undefined;
  const digits = BigInt((match[2] ?? '') + fraction.slice(0, scale).padEnd(scale, '0'));
  return match[1] === '-' ? -digits : digits;
}

/** Days since 1970-01-01. */
export function parseDate(text: string): number | undefined {
  const match = /^(-?\d{4,6})-(\d\d)-(\d\d)$/.exec(text);
  if (!match) return undefined;
  const [year, month, day] = [Number(match[1]), Number(match[2]), Number(match[3])];
  const millis = new Date(0).setUTCFullYear(year, month - 1, day);
  const date = new Date(millis);
  if (date.getUTCMonth() !== month - 1 || date.getUTCDate() !== day) return undefined;
  return Math.floor(millis / 86_400_000);
}

/** Microseconds since 1970-01-01T00:00:00Z. */
export function parseTimestamp(text: string): bigint | undefined {
  const match = /^(-?\d{4,6}-\d\d-\d\d)(?:[T ](\d\d):(\d\d)(?::(\d\d)(?:[.,](\d{1,9}))?)?\s*(Z|[+-]\d\d(?::?\d\d)?)?)?$/.exec(text.trim());
  if (!match) return undefined;
  const days = parseDate(match[1]!);
  const [hours, minutes, seconds] = [Number(match[2] ?? 0), Number(match[3] ?? 0), Number(match[4] ?? 0)];
  if (days === undefined || hours > 24 || minutes > 59 || seconds > 60) return undefined;
  const micros = BigInt((match[5] ?? '').padEnd(6, '0').slice(0, 6) || '0');
  const whole = BigInt(days) * MICROS_PER_DAY + BigInt(hours * 3600 + minutes * 60 + seconds) * 1_000_000n + micros;
  return whole - offsetMicros(match[6]);
}

function offsetMicros(offset: string | undefined): bigint {
  if (!offset || offset === 'Z') return 0n;
  const sign = offset.startsWith('-') ? -1n : 1n;
  const digits = offset.slice(1).replace(':', '').padEnd(4, '0');
  return sign * BigInt(Number(digits.slice(0, 2)) * 60 + Number(digits.slice(2))) * 60_000_000n;
}

/** The opposite of parseValue; timestamps as `yyyy-MM-dd HH:mm:ss[.ffffff]`, with `Z` for timestamptz. */
export function formatValue(type: LogicalType, value: Value): string {
  switch (type.kind) {
    case 'decimal':
      return formatDecimal(value as bigint, type.scale);
    case 'date':
      return formatDate(value as number);
    case 'timestamp':
      return formatMicros(value as bigint).replace('T', ' ');
    case 'timestamptz':
      return `${formatMicros(value as bigint).replace('T', ' ')}Z`;
    case 'timestamp_ns':
      return formatNanos(value as bigint).replace('T', ' ');
    case 'time':
      return formatMicros(value as bigint).slice(11);
    case 'binary':
    case 'fixed':
      return [...(value as Uint8Array)].map((byte) => byte.toString(16).padStart(2, '0')).join('');
    case 'float':
    case 'double':
      return Object.is(value, -0) ? '-0.0' : String(value);
    default:
      return String(value);
  }
}

export function formatDecimal(unscaled: bigint, scale: number): string {
  const sign = unscaled < 0n ? '-' : '';
  const digits = (unscaled < 0n ? -unscaled : unscaled).toString().padStart(scale + 1, '0');
  return scale === 0 ? sign + digits : `${sign}${digits.slice(0, -scale)}.${digits.slice(-scale)}`;
}

export function formatDate(days: number): string {
  const iso = new Date(days * 86_400_000).toISOString();
  return iso.slice(0, iso.indexOf('T'));
}

/** As `formatMicros`, with three digits more where they are not zero. */
export function formatNanos(nanos: bigint): string {
  const micros = floorDiv(nanos, 1000n);
  const rest = nanos - micros * 1000n;
  const whole = formatMicros(micros);
  return rest === 0n ? whole : `${whole.includes('.') ? whole : `${whole}.000000`}${rest.toString().padStart(3, '0')}`;
}

/** `yyyy-MM-ddTHH:mm:ss[.ffffff]` in UTC; the fraction only when it is not zero. */
export function formatMicros(micros: bigint): string {
  const seconds = floorDiv(micros, 1_000_000n);
  const fraction = micros - seconds * 1_000_000n;
  const whole = new Date(Number(seconds) * 1000).toISOString().slice(0, -5);
  return fraction === 0n ? whole : `${whole}.${fraction.toString().padStart(6, '0')}`;
}
