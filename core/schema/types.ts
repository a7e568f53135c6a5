import type { Value } from '../values/value';

/** Logical column types: what Delta, Iceberg, Parquet and the engine all map to and from. */
export type PrimitiveKind =
  | 'boolean' | 'byte' | 'short' | 'int' | 'long' | 'float' | 'double'
  | 'date' | 'time' | 'timestamp' | 'timestamptz' | 'timestamp_ns' | 'string' | 'binary' | 'uuid';

export type LogicalType =
  | { kind: PrimitiveKind }
  | { kind: 'decimal'; precision: number; scale: number }
  | { kind: 'fixed'; length: number }
  | { kind: 'struct'; fields: Field[] }
  | { kind: 'list'; element: Field }
  | { kind: 'map'; key: Field; value: Field };

export type FieldId = number;

export interface Field {
  /** Stable across renames where the format has ids (Iceberg; Delta with column mapping). */
  id?: FieldId;
  name: string;
  /** The column's name in files and statistics, where it is another (Delta with column mapping; columns of plain files that only case tells apart). */
  physical?: string;
  type: LogicalType;
  required: boolean;
  comment?: string;
  /** What rows have that were written before the column was added; null where absent. */
  initialDefault?: Value;
  /** What new rows get that do not give the column; null where absent. */
  writeDefault?: Value;
}

export interface TableSchema {
  /** The format's own number for this schema, where it has one. */
  id?: number;
  fields: Field[];
}

export function field(name: string, type: LogicalType | PrimitiveKind, rest: Partial<Field> = {}): Field {
  return { name, type: typeof type === 'string' ? { kind: type } : type, required: false, ...rest };
}

/** A column's name in files. */
export function physicalName(column: Field): string {
  return column.physical ?? column.name;
}

/** The first name that an earlier one is too, without regard to case. */
export function twiceNamed(names: readonly string[]): string | undefined {
  const seen = new Set<string>();
  return names.find((name) => {
    if (seen.has(name.toLowerCase())) return true;
    seen.add(name.toLowerCase());
    return false;
  });
}

/** Whether the files have columns that only case tells apart, or nothing does; all but the first have a number in their name here. */
export function hasTwins(fields: readonly Field[]): boolean {
  if (!fields.some((field) => field.physical !== undefined)) return false;
  return new Set(fields.map((field) => physicalName(field).toLowerCase())).size < fields.length;
}

export function isNested(type: LogicalType): type is Extract<LogicalType, { kind: 'struct' | 'list' | 'map' }> {
  return type.kind === 'struct' || type.kind === 'list' || type.kind === 'map';
}

/** A column by its name without regard to case, as SQL matches names. */
export function findField(fields: readonly Field[], name: string): Field | undefined {
  const folded = name.toLowerCase();
  return fields.find((candidate) => candidate.name === name) ?? fields.find((candidate) => candidate.name.toLowerCase() === folded);
}

/** Every primitive leaf with its path of names: `place.lat`, `tags.element`, `limits.key`. */
export function leaves(fields: readonly Field[], prefix: string[] = []): { path: string[]; field: Field }[] {
  return fields.flatMap((each) => {
    const path = [...prefix, each.name];
    switch (each.type.kind) {
      case 'struct':
        return leaves(each.type.fields, path);
      case 'list':
        return leaves([{ ...each.type.element, name: 'element' }], path);
      case 'map':
        return leaves([{ ...each.type.key, name: 'key' }, { ...each.type.value, name: 'value' }], path);
      default:
        return [{ path, field: each }];
    }
  });
}

export function sameType(a: LogicalType, b: LogicalType): boolean {
  if (a === b) return true;
  if (a.kind !== b.kind) return false;
  if (!isNested(a) && a.kind !== 'decimal' && a.kind !== 'fixed') return true;
  return JSON.stringify(shape(a)) === JSON.stringify(shape(b));
}

/** A type without ids and comments, for comparing. */
function shape(type: LogicalType): unknown {
  switch (type.kind) {
    case 'struct':
      return type.fields.map((each) => [each.name, shape(each.type)]);
    case 'list':
      return ['list', shape(type.element.type)];
    case 'map':
      return ['map', shape(type.key.type), shape(type.value.type)];
    case 'decimal':
      return [type.kind, type.precision, type.scale];
    case 'fixed':
      return [type.kind, type.length];
    default:
      return type.kind;
  }
}
