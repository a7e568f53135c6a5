/** A table of one open format made over the data files of another: what comes along, what stays behind, and what forbids it. */
import { LakeError } from '../errors';
import { isNested, leaves, type Field, type LogicalType } from '../schema/types';
import type { DataFile } from '../scan/plan';
import type { WrittenColumn } from '../table/written-file';
import { formatValue } from '../values/text';

export interface LeftBehind {
  what: string;
  why: string;
}

/** What a conversion would do, before anything is written. */
export interface ConversionPlan {
  files: number;
  rows: number;
  bytes: number;
  leftBehind: LeftBehind[];
  /** Why it cannot be done; nothing is written while there are any. */
  obstacles: LeftBehind[];
}

/** Fails with `unsupported`, naming every obstacle. */
export function mustBePossible(table: string, { obstacles }: ConversionPlan): void {
  if (obstacles.length === 0) return;
  throw new LakeError('unsupported', `${table} cannot be converted: ${obstacles.map(({ what, why }) => `${what}: ${why}`).join('; ')}. Nothing was written.`, { table });
}

/** Rows in the file, those that are deleted too. */
export function physicalRows(file: DataFile): number {
  return file.rowFilter?.physicalRows ?? (file.rows ?? 0) + (file.rowFilter?.count ?? 0);
}

/** What a table knows of a file's columns, by their names in `nameOf`; counts only where no row of the file is deleted. */
export function columnsOf(file: DataFile, fields: readonly Field[], nameOf: (path: string[]) => string[]): WrittenColumn[] {
  return leaves(fields).flatMap(({ path, field: leaf }): WrittenColumn[] => {
    if (!isInStructs(fields, path)) return [];
    const stats = file.stats(path);
    if (!stats) return [];
    const { lower, upper, nullCount, rowCount, mayHoldNaN } = stats;
    const bounds = lower === undefined || upper === undefined ? {} : { min: formatValue(leaf.type, lower), max: formatValue(leaf.type, upper) };
    const counts = file.rowFilter || nullCount === undefined ? {} : { nullCount, valueCount: rowCount ?? physicalRows(file) };
    return [{ path: nameOf(path), ...bounds, ...counts, hasNaN: mayHoldNaN !== false }];
  });
}

/** Whether the way to a leaf leads through structs alone: bounds are kept of no others. */
function isInStructs(fields: readonly Field[], path: readonly string[]): boolean {
  const [first, ...rest] = path;
  const found = fields.find((each) => each.name === first);
  return found !== undefined && (rest.length === 0 || (found.type.kind === 'struct' && isInStructs(found.type.fields, rest)));
}

/** Every field at every depth with its dotted name; list elements are `element`, map entries `key` and `value`. */
export function allFields(fields: readonly Field[], before = ''): { name: string; field: Field }[] {
  return fields.flatMap((field) => {
    const name = `${before}${field.name}`;
    return [{ name, field }, ...allFields(insideOf(field.type), `${name}.`)];
  });
}

export function insideOf(type: LogicalType): Field[] {
  if (!isNested(type)) return [];
  return type.kind === 'struct' ? type.fields : type.kind === 'list' ? [{ ...type.element, name: 'element' }] : [{ ...type.key, name: 'key' }, { ...type.value, name: 'value' }];
}
