/** Delta's schema JSON (Delta protocol, "Schema Serialization Format") to logical types and back. */
import { LakeError } from '../errors';
import { field, type Field, type LogicalType, type PrimitiveKind, type TableSchema } from '../schema/types';

const PRIMITIVES: Record<string, PrimitiveKind> = {
  string: 'string', long: 'long', integer: 'int', short: 'short', byte: 'byte', float: 'float', double: 'double',
  boolean: 'boolean', binary: 'binary', date: 'date', timestamp: 'timestamptz', timestamp_ntz: 'timestamp',
};
const NAMES = new Map(Object.entries(PRIMITIVES).map(([name, kind]) => [kind, name]));

interface StructJson {
  type: 'struct';
  fields: { name: string; type: TypeJson; nullable: boolean; metadata?: Record<string, unknown> }[];
}
type TypeJson =
  | string
  | StructJson
  | { type: 'array'; elementType: TypeJson; containsNull: boolean }
  | { type: 'map'; keyType: TypeJson; valueType: TypeJson; valueContainsNull: boolean };

export function parseSchema(schemaString: string, table: string): TableSchema {
  const json = parsed(schemaString);
  if (json?.type !== 'struct' || !Array.isArray(json.fields)) {
    throw new LakeError('bad-file', `${table}: expected the schema in the log's metaData to be a JSON struct, found "${schemaString.slice(0, 60)}".`, { table });
  }
  return { fields: structFields(json, table) };
}

function parsed(schemaString: string): StructJson | undefined {
  try {
    return JSON.parse(schemaString) as StructJson;
  } catch {
    return undefined;
  }
}

function structFields(json: StructJson, table: string): Field[] {
  return json.fields.map((each) => {
    if (typeof each?.name !== 'string' || each.type === undefined || each.type === null) throw new LakeError('bad-file', `${table}: a column in the log's schema has no name or no type.`, { table });
    const comment = each.metadata?.comment;
    return field(each.name, parseType(each.type, table), { required: !each.nullable, ...(typeof comment === 'string' ? { comment } : {}) });
  });
}

function parseType(json: TypeJson, table: string): LogicalType {
  if (typeof json === 'string') {
    const decimal = /^decimal\((\d+),\s*(-?\d+)\)$/.exec(json);
    if (decimal) return { kind: 'decimal', precision: Number(decimal[1]), scale: Number(decimal[2]) };
    const kind = PRIMITIVES[json];
    if (!kind) throw new LakeError('unsupported', `${table} has a column of the Delta type "${json}", which is not supported.`, { table });
    return { kind };
  }
  switch (json.type) {
    case 'struct':
      if (!Array.isArray(json.fields)) break;
      return { kind: 'struct', fields: structFields(json, table) };
    case 'array':
      return { kind: 'list', element: field('element', parseType(json.elementType, table), { required: !json.containsNull }) };
    case 'map':
      return {
        kind: 'map',
        key: field('key', parseType(json.keyType, table), { required: true }),
        value: field('value', parseType(json.valueType, table), { required: !json.valueContainsNull }),
      };
  }
  throw new LakeError('unsupported', `${table} has a column of a type that is not known: ${JSON.stringify(json).slice(0, 80)}.`, { table });
}

export function schemaString(schema: TableSchema): string {
  return JSON.stringify(structJson(schema.fields));
}

function structJson(fields: readonly Field[]): StructJson {
  return {
    type: 'struct',
    fields: fields.map((each) => ({
      name: each.name,
      type: typeJson(each.type),
      nullable: !each.required,
      metadata: each.comment ? { comment: each.comment } : {},
    })),
  };
}

function typeJson(type: LogicalType): TypeJson {
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
