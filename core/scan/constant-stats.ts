import { findField, type Field } from '../schema/types';
import type { DataFile } from './plan';
import type { ColumnStats, StatsLookup } from './prune';

/** What constant columns say of a file: each value is its own lower and upper bound. */
export function constantStats(constants: DataFile['constants'], fields: readonly Field[]): StatsLookup {
  return (column): ColumnStats | undefined => {
    const known = column.length === 1 ? findField(fields, column[0]!) : undefined;
    if (!known || !(known.name in constants)) return undefined;
    const value = constants[known.name]!;
    if (value === null) return { nullCount: 1, rowCount: 1 };
    return { lower: value, upper: value, nullCount: 0, rowCount: 1, mayHoldNaN: Number.isNaN(value) };
  };
}
