/** Default values in schemas (Iceberg specification, Appendix D: Single-value serialization, JSON). */
import type { LogicalType } from '../schema/types';
import { formatDecimal, formatValue, parseValue } from '../values/text';
import type { Value } from '../values/value';

/** Undefined for what is no value of the type; nested values are not supported. */
export function parseJsonValue(type: LogicalType, json: unknown): Value | undefined {
  try {
    switch (type.kind) {
      case 'boolean':
        return typeof json === 'boolean' ? json : undefined;
      case 'byte':
      case 'short':
      case 'int':
        return Number.isInteger(json) ? (json as number) : undefined;
      case 'long':
        return typeof json === 'bigint' || Number.isInteger(json) ? BigInt(json as number) : undefined;
      case 'float':
      case 'double':
        return typeof json === 'number' ? json : undefined;
      case 'fixed':
      case 'binary':
        return typeof json === 'string' && /^([0-9a-f]{2})*$/i.test(json) ? Uint8Array.from(json.match(/../g) ?? [], (pair) => parseInt(pair, 16)) : undefined;
      case 'struct':
      case 'list':
      case 'map':
        return undefined;
      default:
        return typeof json === 'string' ? parseValue(type, json) : undefined;
    }
  } catch {
    return undefined;
  }
}

export function jsonValue(type: LogicalType, value: Value): unknown {
  switch (type.kind) {
    case 'decimal':
      return formatDecimal(value as bigint, type.scale);
    case 'timestamp':
    case 'timestamp_ns':
      return formatValue(type, value).replace(' ', 'T');
    case 'timestamptz':
      return formatValue(type, value).replace(' ', 'T').replace(/Z$/, '+00:00');
    case 'date':
    case 'time':
    case 'binary':
    case 'fixed':
      return formatValue(type, value);
    default:
      return value;
  }
}
