/** Columns told by a JSON document: a JSON Schema, the schema of a Delta or an Iceberg table, or a list of names with types. */
import { schemaOf } from '../delta/schema';
import { LakeError } from '../errors';
import { faultWords } from '../fault-words';
import { parseSchema, type StructJson } from '../iceberg/schema';
import { parseTypeName } from './type-names';
import { field, type Field, type LogicalType } from './types';

type Json = Record<string, unknown>;

/** Fails with `bad-request` saying what was expected. */
export function columnsOfJson(text: string): Field[] {
  const json = parsed(text);
  if (Array.isArray(json)) return json.map(listed);
  if (isObject(json) && json.type === 'struct' && Array.isArray(json.fields)) {
    const isIceberg = json.fields.every((each) => isObject(each) && typeof each.id === 'number');
    return isIceberg ? parseSchema(json as unknown as StructJson, 'The schema').fields : schemaOf({ schemaString: text, configuration: {} }, 'The schema').fields;
  }
  if (isObject(json) && isObject(json.properties)) return propertiesOf(json);
  throw new LakeError('bad-request', 'The JSON tells no columns: it is no JSON Schema of an object, no schema of a Delta or Iceberg table, and no list of names with types.');
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text) as unknown;
  } catch (error) {
    throw new LakeError('bad-request', `The text cannot be used: ${faultWords(error)}.`);
  }
}

function isObject(value: unknown): value is Json {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}

function listed(each: unknown, index: number): Field {
  if (!isObject(each) || typeof each.name !== 'string' || typeof each.type !== 'string') throw new LakeError('bad-request', `Entry ${index + 1} of the list has no "name" and "type" that are texts.`);
  const comment = each.comment ?? each.description ?? each.doc;
  return field(each.name, parseTypeName(each.type), { required: each.required === true || each.nullable === false, ...(typeof comment === 'string' ? { comment } : {}) });
}

/** JSON Schema, "properties" and "required". */
function propertiesOf(schema: Json): Field[] {
  const required = new Set(Array.isArray(schema.required) ? schema.required : []);
  return Object.entries(schema.properties as Json).map(([name, each]) => field(name, typeOf(each, name), { required: required.has(name), ...(isObject(each) && typeof each.description === 'string' ? { comment: each.description } : {}) }));
}

const FORMATS: Record<string, LogicalType> = { date: { kind: 'date' }, 'date-time': { kind: 'timestamptz' }, uuid: { kind: 'uuid' }, byte: { kind: 'binary' } };

function typeOf(schema: unknown, name: string): LogicalType {
  if (!isObject(schema)) throw new LakeError('bad-request', `What "${name}" is, is not said.`);
  const types = (Array.isArray(schema.type) ? schema.type : [schema.type]).filter((each) => each !== 'null');
  switch (types.length === 1 ? types[0] : undefined) {
    case 'string':
      return FORMATS[String(schema.format)] ?? { kind: 'string' };
    case 'integer':
      return { kind: schema.format === 'int32' ? 'int' : 'long' };
    case 'number':
      return { kind: schema.format === 'float' ? 'float' : 'double' };
    case 'boolean':
      return { kind: 'boolean' };
    case 'array':
      return { kind: 'list', element: field('element', typeOf(schema.items, `${name}, what is in it`)) };
    case 'object':
      if (isObject(schema.properties)) return { kind: 'struct', fields: propertiesOf(schema) };
      if (isObject(schema.additionalProperties)) return { kind: 'map', key: field('key', 'string', { required: true }), value: field('value', typeOf(schema.additionalProperties, `${name}, what is in it`)) };
  }
  throw new LakeError('bad-request', `"${name}" is ${JSON.stringify(schema.type ?? schema)}, for which there is no one type of a column.`);
}
