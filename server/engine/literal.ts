import { typeName } from '../../core/schema/type-names';
import type { LogicalType } from '../../core/schema/types';
import { quoteText } from '../../core/sql/tokens';
import { formatValue } from '../../core/values/text';
import type { Value } from '../../core/values/value';

/** A typed constant in SQL: `'2026-03-14'::date`. */
export function literal(type: LogicalType, value: Value | null): string {
  if (value === null) return `NULL::${typeName(type)}`;
  if (value instanceof Uint8Array) return `from_hex(${quoteText(formatValue(type, value))})`;
  return `${quoteText(formatValue(type, value))}::${typeName(type)}`;
}
