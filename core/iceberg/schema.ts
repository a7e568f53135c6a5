/** Iceberg's schema JSON (specification, Appendix C) to logical types and back. Every field has an id. */
import { LakeError } from '../errors';
import { stringifyJson } from '../json';
import { isNested, type Field, type FieldId, type LogicalType, type PrimitiveKind, type TableSchema } from '../schema/types';
import type { Value } from '../values/value';
import { jsonValue, parseJsonValue } from './json-value';

const PRIMITIVES: Record<string, PrimitiveKind> = {
  boolean: 'boolean', int: 'int', long: 'long', float: 'float', double: 'double', date: 'date', time: 'time',
  timestamp: 'timestamp', timestamptz: 'timestamptz', timestamp_ns: 'timestamp_ns', string: 'string', uuid: 'uuid', binary: 'binary',
};
const NAMES = new Map(Object.entries(PRIMITIVES).map(([name, kind]) => [kind, name]));

export interface StructJson {
  type: 'struct';
  'schema-id'?: number;
  'identifier-field-ids'?: number[];
  fields: FieldJson[];
}
export interface FieldJson {
  id: number;
  name: string;
  required: boolean;
  type: TypeJson;
  doc?: string;
  /** Version 3: what rows have that were written before the column was; and what new rows get that do not give it. */
  'initial-default'?: unknown;
  'write-default'?: unknown;
}
export type TypeJson =
  | string
  | StructJson
  | { type: 'list'; 'element-id': number; element: TypeJson; 'element-required': boolean }
  | { type: 'map'; 'key-id': number; key: TypeJson; 'value-id': number; value: TypeJson; 'value-required': boolean };

export function parseSchema(json: StructJson, table: string): TableSchema {
  return { id: json['schema-id'] ?? 0, fields: json.fields.map((each) => parseField(each, table)) };
}

function parseField(json: FieldJson, table: string): Field {
  const type = parseType(json.type, table);
  return {
    id: json.id, name: json.name, type, required: json.required, ...(json.doc ? { comment: json.doc } : {}),
    ...defaultOf('initialDefault', json['initial-default'], type, json.name, table), ...defaultOf('writeDefault', json['write-default'], type, json.name, table),
  };
}

function defaultOf<K extends 'initialDefault' | 'writeDefault'>(key: K, json: unknown, type: LogicalType, name: string, table: string): Partial<Record<K, Value>> {
  if (json === undefined || json === null) return {};
  const value = parseJsonValue(type, json);
  if (value === undefined) throw new LakeError('bad-file', `${table} gives its column ${name} the default ${stringifyJson(json)}, which is none of its type.`, { table });
  return { [key]: value } as Record<K, Value>;
}

/** Types that are in the specification and not here, with why. */
const REFUSED: Record<string, string> = {
  timestamptz_ns: 'the engine would cut its nanoseconds without a word', variant: 'values of no fixed type', unknown: 'a column that holds only nulls', geometry: 'shapes', geography: 'shapes on the globe',
};

export function parseType(json: TypeJson, table: string): LogicalType {
  if (typeof json === 'string') {
    const decimal = /^decimal\(\s*(\d+)\s*,\s*(\d+)\s*\)$/.exec(json);
    if (decimal) return { kind: 'decimal', precision: Number(decimal[1]), scale: Number(decimal[2]) };
    const fixed = /^fixed\[\s*(\d+)\s*\]$/.exec(json);
    if (fixed) return { kind: 'fixed', length: Number(fixed[1]) };
    const kind = PRIMITIVES[json];
    const why = REFUSED[json.replace(/\(.*/s, '').trim()];
    if (!kind) throw new LakeError('unsupported', `${table} has a column of the Iceberg type "${json}", which is not supported${why ? ` (${why})` : ''}.`, { table });
    return { kind };
  }
  switch (json.type) {
    case 'struct':
      return { kind: 'struct', fields: json.fields.map((each) => parseField(each, table)) };
    case 'list':
      return { kind: 'list', element: { id: json['element-id'], name: 'element', required: json['element-required'], type: parseType(json.element, table) } };
    case 'map':
      return {
        kind: 'map',
        key: { id: json['key-id'], name: 'key', required: true, type: parseType(json.key, table) },
        value: { id: json['value-id'], name: 'value', required: json['value-required'], type: parseType(json.value, table) },
      };
  }
}

export function schemaJson(schema: TableSchema): StructJson {
  return { type: 'struct', 'schema-id': schema.id ?? 0, fields: schema.fields.map(fieldJson) };
}

export function fieldJson(each: Field): FieldJson {
  return {
    id: each.id!, name: each.name, required: each.required, type: typeJson(each.type), ...(each.comment ? { doc: each.comment } : {}),
    ...(each.initialDefault === undefined ? {} : { 'initial-default': jsonValue(each.type, each.initialDefault) }),
    ...(each.writeDefault === undefined ? {} : { 'write-default': jsonValue(each.type, each.writeDefault) }),
  };
}

export function typeJson(type: LogicalType): TypeJson {
  switch (type.kind) {
    case 'struct':
      return { type: 'struct', fields: type.fields.map(fieldJson) };
    case 'list':
      return { type: 'list', 'element-id': type.element.id!, element: typeJson(type.element.type), 'element-required': type.element.required };
    case 'map':
      return { type: 'map', 'key-id': type.key.id!, key: typeJson(type.key.type), 'value-id': type.value.id!, value: typeJson(type.value.type), 'value-required': type.value.required };
    case 'decimal':
      return `decimal(${type.precision}, ${type.scale})`;
    case 'fixed':
      return `fixed[${type.length}]`;
    case 'byte':
    case 'short':
      return 'int';
    default:
      return NAMES.get(type.kind)!;
  }
}

/** The same columns with new ids: a level's own fields first, then what is inside them. Returns the last id used. */
export function assignIds(fields: readonly Field[], lastId: FieldId): { fields: Field[]; lastId: FieldId } {
  let next = lastId;
  const numbered = fields.map((each) => ({ ...each, id: ++next }));
  const inner = numbered.map((each) => {
    if (!isNested(each.type)) return each;
    const done = assignIds(children(each.type), next);
    next = done.lastId;
    return { ...each, type: withChildren(each.type, done.fields) };
  });
  return { fields: inner, lastId: next };
}

/** A field anywhere in the schema by its id. */
export function fieldById(fields: readonly Field[], id: FieldId): Field | undefined {
  for (const each of fields) {
    if (each.id === id) return each;
    const inner = isNested(each.type) ? fieldById(children(each.type), id) : undefined;
    if (inner) return inner;
  }
  return undefined;
}

/** The type with what Iceberg has not put into what it has: whole numbers are of 32 or 64 bits there. */
export function icebergType(type: LogicalType): LogicalType {
  if (type.kind === 'byte' || type.kind === 'short') return { kind: 'int' };
  return isNested(type) ? withChildren(type, children(type).map((each) => ({ ...each, type: icebergType(each.type) }))) : type;
}

type Nested = Extract<LogicalType, { kind: 'struct' | 'list' | 'map' }>;

export function children(type: Nested): Field[] {
  return type.kind === 'struct' ? type.fields : type.kind === 'list' ? [type.element] : [type.key, type.value];
}

/** The same type of other fields, in the order of `children`. */
export function withChildren(type: Nested, fields: readonly Field[]): Nested {
  if (type.kind === 'struct') return { ...type, fields: [...fields] };
  return type.kind === 'list' ? { ...type, element: fields[0]! } : { ...type, key: fields[0]!, value: fields[1]! };
}
