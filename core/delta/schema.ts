/** Delta's schema JSON (Delta protocol, "Schema Serialization Format", "Column Mapping") to logical types and back. */
import { LakeError } from '../errors';
import { field, type Field, type LogicalType, type PrimitiveKind, type TableSchema } from '../schema/types';
import type { Metadata } from './actions';

const PRIMITIVES: Record<string, PrimitiveKind> = {
  string: 'string', long: 'long', integer: 'int', short: 'short', byte: 'byte', float: 'float', double: 'double',
  boolean: 'boolean', binary: 'binary', date: 'date', timestamp: 'timestamptz', timestamp_ntz: 'timestamp',
};
const NAMES = new Map(Object.entries(PRIMITIVES).map(([name, kind]) => [kind, name]));

export interface FieldJson {
  name: string;
  type: TypeJson;
  nullable: boolean;
  metadata?: Record<string, unknown>;
}
export interface StructJson {
  type: 'struct';
  fields: FieldJson[];
}
export type TypeJson =
  | string
  | StructJson
  | { type: 'array'; elementType: TypeJson; containsNull: boolean }
  | { type: 'map'; keyType: TypeJson; valueType: TypeJson; valueContainsNull: boolean };

/** Keys of a column's metadata that the protocol gives a meaning. */
export const COLUMN_ID = 'delta.columnMapping.id';
export const PHYSICAL_NAME = 'delta.columnMapping.physicalName';

/** How columns are found in files: by their names, or by names and ids of their own. */
export type MappingMode = 'none' | 'name' | 'id';

export function mappingMode(configuration: Metadata['configuration'], table: string): MappingMode {
  const mode = configuration['delta.columnMapping.mode'] ?? 'none';
  if (mode === 'none' || mode === 'name' || mode === 'id') return mode;
  throw new LakeError('unsupported', `${table} maps columns by "${mode}" (delta.columnMapping.mode), which is not known; none, name and id are.`, { table });
}

/** A table's columns, with physical names and ids where it maps columns. */
export function schemaOf({ schemaString, configuration }: Pick<Metadata, 'schemaString' | 'configuration'>, table: string): TableSchema {
  return { fields: structFields(schemaJson(schemaString, table), table, mappingMode(configuration, table) !== 'none') };
}

/** The JSON of the table's columns, with everything that writers must keep. */
export function schemaJson(schemaString: string, table: string): StructJson {
  const json = parsed(schemaString);
  if (json?.type !== 'struct' || !Array.isArray(json.fields)) {
    throw new LakeError('bad-file', `${table}: expected the schema in the log's metaData to be a JSON struct, found "${schemaString.slice(0, 60)}".`, { table });
  }
  return json;
}

function parsed(schemaString: string): StructJson | undefined {
  try {
    return JSON.parse(schemaString) as StructJson;
  } catch {
    return undefined;
  }
}

function structFields(json: StructJson, table: string, mapped: boolean): Field[] {
  return json.fields.map((each) => {
    if (typeof each?.name !== 'string' || each.type === undefined || each.type === null) throw new LakeError('bad-file', `${table}: a column in the log's schema has no name or no type.`, { table });
    const comment = each.metadata?.comment;
    return field(each.name, parseType(each.type, table, mapped), { required: !each.nullable, ...(typeof comment === 'string' ? { comment } : {}), ...(mapped ? mapping(each, table) : {}) });
  });
}

/** "Readers must use the physical name and id of every column, nested ones too." */
function mapping({ name, metadata }: FieldJson, table: string): { id: number; physical: string } {
  const [id, physical] = [metadata?.[COLUMN_ID], metadata?.[PHYSICAL_NAME]];
  if (typeof id !== 'number' || typeof physical !== 'string') {
    throw new LakeError('bad-file', `${table} maps columns, but its column "${name}" has no ${typeof id === 'number' ? PHYSICAL_NAME : COLUMN_ID} in the log.`, { table });
  }
  return { id, physical };
}

function parseType(json: TypeJson, table: string, mapped: boolean): LogicalType {
  if (typeof json === 'string') {
    const decimal = /^decimal\((\d+),\s*(-?\d+)\)$/.exec(json);
    if (decimal) return { kind: 'decimal', precision: Number(decimal[1]), scale: Number(decimal[2]) };
    // Lengths are the writer's to keep; no format of files has them.
    const kind = PRIMITIVES[json] ?? (/^(?:var)?char\(\d+\)$/i.test(json) ? 'string' : undefined);
    if (!kind) throw new LakeError('unsupported', `${table} has a column of the Delta type "${json}", which is not supported.`, { table });
    return { kind };
  }
  switch (json.type) {
    case 'struct':
      if (!Array.isArray(json.fields)) break;
      return { kind: 'struct', fields: structFields(json, table, mapped) };
    case 'array':
      if (json.elementType === undefined || json.elementType === null) break;
      return { kind: 'list', element: field('element', parseType(json.elementType, table, mapped), { required: !json.containsNull }) };
    case 'map':
      if (json.keyType === undefined || json.keyType === null || json.valueType === undefined || json.valueType === null) break;
      return {
        kind: 'map',
        key: field('key', parseType(json.keyType, table, mapped), { required: true }),
        value: field('value', parseType(json.valueType, table, mapped), { required: !json.valueContainsNull }),
      };
  }
  throw new LakeError('unsupported', `${table} has a column of a type that is not known: ${JSON.stringify(json).slice(0, 80)}.`, { table });
}

/** For a table that maps no columns. */
export function schemaString(schema: TableSchema): string {
  return JSON.stringify(structJson(schema.fields));
}

export function structJson(fields: readonly Field[]): StructJson {
  return { type: 'struct', fields: fields.map(fieldJson) };
}

export function fieldJson(each: Field): FieldJson {
  const mapped = each.id !== undefined && each.physical !== undefined ? { [COLUMN_ID]: each.id, [PHYSICAL_NAME]: each.physical } : {};
  return { name: each.name, type: typeJson(each.type), nullable: !each.required, metadata: { ...(each.comment ? { comment: each.comment } : {}), ...mapped } };
}

export function typeJson(type: LogicalType): TypeJson {
  switch (type.kind) {
    case 'struct':
      return structJson(type.fields);
    case 'list':
      return { type: 'array', elementType: typeJson(type.element.type), containsNull: !type.element.required };
    case 'map':
      return { type: 'map', keyType: typeJson(type.key.type), valueType: typeJson(type.value.type), valueContainsNull: !type.value.required };
    case 'decimal':
      return `decimal(${type.precision},${type.scale})`;
    default: {
      const name = NAMES.get(type.kind as PrimitiveKind);
      if (!name) throw new LakeError('unsupported', `Delta has no type for ${type.kind}; use another type for this column.`);
      return name;
    }
  }
}
