/** Partition values as the log has them (Delta protocol, "Partition Value Serialization"). */
import { LakeError } from '../errors';
import type { LogicalType } from '../schema/types';
import { formatValue } from '../values/text';
import type { Value } from '../values/value';

/** Binary values are texts there, so those that are none cannot be written: fails with `unsupported` naming the column. */
export function partitionText(type: LogicalType, value: Value, column: string): string {
  if (type.kind !== 'binary') return formatValue(type, value);
  try {
    return new TextDecoder('utf-8', { fatal: true, ignoreBOM: true }).decode(value as Uint8Array);
  } catch {
    const hex = formatValue(type, value);
    throw new LakeError('unsupported', `The Delta log holds binary partition values as UTF-8 text, which x'${hex.slice(0, 60)}' in ${column} is not. Nothing was written.`, { hint: `Partition by another column, or by hex(${column}) in one of its own.` });
  }
}
