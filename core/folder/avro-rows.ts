/** Avro schemas as our types, and decoded values as the JSON that the engine reads as those types (Avro specification 1.11). */
import { LakeError } from '../errors';
import { field, type Field, type LogicalType } from '../schema/types';
import { formatDate, formatDecimal, formatMicros, formatNanos } from '../values/text';

type AvroSchema = string | AvroSchema[] | NamedSchema;
interface NamedSchema {
  type: AvroSchema;
  name?: string;
  namespace?: string;
  fields?: { name: string; type: AvroSchema; 'field-id'?: number }[];
  items?: AvroSchema;
  values?: AvroSchema;
  size?: number;
  logicalType?: string;
  precision?: number;
  scale?: number;
  // Of Iceberg ("Appendix A: Format-specific Requirements", Avro).
  'adjust-to-utc'?: boolean;
  'element-id'?: number;
  'key-id'?: number;
  'value-id'?: number;
}
type Named = Map<string, AvroSchema>;
/** Names of the records that the one at hand lies in; a name met again would never end. */
type Inside = ReadonlySet<string>;

/** The columns of a file by its writer's schema, which must be a record. */
export function fieldsOfAvro(schema: unknown): Field[] {
  checkSchema(schema);
  const type = typeOf(withFullNames(schema as AvroSchema, ''), new Map(), new Set());
  if (type.kind !== 'struct') throw new LakeError('unsupported', 'The Avro file holds values that are no records, so it makes no table.');
  return type.fields;
}

/** Fails with `bad-file` for what no schema is: names are texts, and sizes whole numbers. */
function checkSchema(schema: unknown, depth = 0): void {
  const fault = (what: string): never => {
    throw new LakeError('bad-file', `The Avro schema is damaged: ${what}.`);
  };
  if (depth > MOST_NESTED) fault('it is nested too deep');
  if (Array.isArray(schema)) return schema.forEach((branch) => checkSchema(branch, depth + 1));
  if (typeof schema === 'string') return;
  if (typeof schema !== 'object' || schema === null) return void fault('a type is missing');
  const { type, name, fields, items, values, ...rest } = schema as Record<string, unknown>;
  if (name !== undefined && typeof name !== 'string') fault('a name is no text');
  for (const key of ['size', 'precision', 'scale', 'field-id', 'element-id', 'key-id', 'value-id']) if (rest[key] !== undefined && !Number.isSafeInteger(rest[key])) fault(`"${key}" is no whole number`);
  if (type === 'record') {
    if (!Array.isArray(fields)) return void fault('a record has no fields');
    for (const each of fields as Record<string, unknown>[]) {
      if (typeof each?.name !== 'string' || each.type === undefined) fault('a field has no name or no type');
      checkSchema({ type: each.type, 'field-id': each['field-id'] }, depth + 1);
    }
  } else if (type === 'array') checkSchema(items, depth + 1);
  else if (type === 'map') checkSchema(values, depth + 1);
  else checkSchema(type, depth + 1);
}

/** Types in each other; more stop programs that follow them. */
const MOST_NESTED = 200;

function typeOf(schema: AvroSchema, named: Named, inside: Inside): LogicalType {
  if (Array.isArray(schema)) return unionType(schema, named, inside);
  if (typeof schema === 'string') return named.has(schema) ? typeOf(named.get(schema)!, named, inside) : plainType(schema);
  if (schema.type === 'record' && inside.has(schema.name!)) throw new LakeError('unsupported', `The Avro type "${schema.name}" holds itself; such values have no columns.`);
  remember(schema, named);
  switch (schema.type) {
    case 'record':
      return { kind: 'struct', fields: schema.fields!.map((each) => field(each.name, typeOf(each.type, named, new Set([...inside, schema.name!])), withId(each['field-id']))) };
    case 'array':
      if (isPairs(schema)) return pairsType(schema, named, inside);
      return { kind: 'list', element: field('element', typeOf(schema.items!, named, inside), withId(schema['element-id'])) };
    case 'map':
      return { kind: 'map', key: field('key', 'string', { required: true, ...withId(schema['key-id']) }), value: field('value', typeOf(schema.values!, named, inside), withId(schema['value-id'])) };
    case 'enum':
      return { kind: 'string' };
    case 'fixed':
    case 'bytes':
      if (schema.logicalType === 'uuid') return { kind: 'uuid' };
      return schema.logicalType === 'decimal' ? { kind: 'decimal', precision: schema.precision!, scale: schema.scale ?? 0 } : { kind: 'binary' };
    default:
      return logicalType(schema.logicalType, schema['adjust-to-utc']) ?? typeOf(schema.type, named, inside);
  }
}

const withId = (id: number | undefined) => (id === undefined ? {} : { id });

/** Iceberg writes a map whose keys are no texts as an array of records of two fields. */
function isPairs(schema: NamedSchema): boolean {
  return schema.logicalType === 'map';
}

function pairsType({ items }: NamedSchema, named: Named, inside: Inside): LogicalType {
  const pair = typeOf(items!, named, inside);
  if (pair.kind !== 'struct' || pair.fields.length !== 2) throw new LakeError('bad-file', 'The Avro schema has a map that is no array of keys and values.');
  return { kind: 'map', key: { ...pair.fields[0]!, name: 'key', required: true }, value: { ...pair.fields[1]!, name: 'value' } };
}

function remember(schema: NamedSchema, named: Named): void {
  if (!schema.name || !['record', 'enum', 'fixed'].includes(schema.type as string)) return;
  named.set(schema.name, schema);
}

const PRIMITIVE: ReadonlySet<string> = new Set(['null', 'boolean', 'int', 'long', 'float', 'double', 'bytes', 'string']);

/** The schema with every name written out; one without a dot takes the namespace of the type that it stands in. */
function withFullNames(schema: AvroSchema, around: string): AvroSchema {
  if (Array.isArray(schema)) return schema.map((branch) => withFullNames(branch, around));
  const full = (name: string, namespace: string) => (name.includes('.') || namespace === '' ? name : `${namespace}.${name}`);
  if (typeof schema === 'string') return PRIMITIVE.has(schema) ? schema : full(schema, around);
  const name = schema.name === undefined ? undefined : full(schema.name, schema.namespace ?? around);
  const namespace = name?.includes('.') ? name.slice(0, name.lastIndexOf('.')) : name === undefined ? around : '';
  const made = { ...schema, ...(name !== undefined && { name }) };
  if (schema.fields) made.fields = schema.fields.map((each) => ({ ...each, type: withFullNames(each.type, namespace) }));
  if (schema.items !== undefined) made.items = withFullNames(schema.items, namespace);
  if (schema.values !== undefined) made.values = withFullNames(schema.values, namespace);
  return typeof schema.type === 'string' && (COMPLEX.has(schema.type) || PRIMITIVE.has(schema.type)) ? made : { ...made, type: withFullNames(schema.type, namespace) };
}

const COMPLEX: ReadonlySet<string> = new Set(['record', 'enum', 'array', 'map', 'fixed', 'error']);

/** Null or one type is that type; a union of several is read as text. */
function unionType(branches: AvroSchema[], named: Named, inside: Inside): LogicalType {
  const others = branches.filter((each) => each !== 'null').map((each) => typeOf(each, named, inside));
  return others.length === 1 ? others[0]! : { kind: 'string' };
}

function plainType(name: string): LogicalType {
  const types: Record<string, LogicalType> = {
    boolean: { kind: 'boolean' }, int: { kind: 'int' }, long: { kind: 'long' }, float: { kind: 'float' }, double: { kind: 'double' }, string: { kind: 'string' }, bytes: { kind: 'binary' }, null: { kind: 'string' },
  };
  const type = types[name];
  if (!type) throw new LakeError('bad-file', `The Avro schema names the type "${name}", which it does not define.`);
  return type;
}

/** A timestamp that is not adjusted to UTC has no zone; Avro itself names that a local one. */
function logicalType(name: string | undefined, adjustToUtc: boolean | undefined): LogicalType | undefined {
  if (adjustToUtc === false && name?.startsWith('timestamp-')) return { kind: name === 'timestamp-nanos' ? 'timestamp_ns' : 'timestamp' };
  const types: Record<string, LogicalType> = {
    date: { kind: 'date' }, 'time-millis': { kind: 'time' }, 'time-micros': { kind: 'time' }, 'timestamp-millis': { kind: 'timestamptz' }, 'timestamp-micros': { kind: 'timestamptz' },
    'local-timestamp-millis': { kind: 'timestamp' }, 'local-timestamp-micros': { kind: 'timestamp' }, 'local-timestamp-nanos': { kind: 'timestamp_ns' }, uuid: { kind: 'uuid' },
  };
  return name === undefined ? undefined : types[name];
}

type ToJson = (value: unknown) => unknown;

/** JSON knows no number that is none, and no zero below zero; the engine reads them from their texts. */
function numberOrText(value: unknown): unknown {
  return Object.is(value, -0) ? '-0.0' : Number.isFinite(value) ? value : String(value);
}

/** Turns a decoded record of the schema into JSON. Longs may arrive as numbers or bigints. */
export function jsonOfAvro(schema: unknown): ToJson {
  return toJson(withFullNames(schema as AvroSchema, ''), new Map());
}

function toJson(schema: AvroSchema, named: Named): ToJson {
  if (Array.isArray(schema)) {
    const others = schema.filter((each) => each !== 'null');
    if (others.length !== 1) return (value) => (value === null || typeof value === 'string' ? value : typeof value === 'bigint' ? String(value) : JSON.stringify(value));
    const inner = toJson(others[0]!, named);
    return (value) => (value === null ? null : inner(value));
  }
  if (typeof schema === 'string') return named.has(schema) ? lazily(named.get(schema)!, named) : schema === 'bytes' ? bytesText : schema === 'float' || schema === 'double' ? numberOrText : (value) => value;
  remember(schema, named);
  switch (schema.type) {
    case 'record': {
      const parts = schema.fields!.map((each) => [each.name, toJson(each.type, named)] as const);
      return (value) => Object.fromEntries(parts.map(([name, part]) => [name, part((value as Record<string, unknown>)[name])]));
    }
    case 'array': {
      if (isPairs(schema)) return pairsJson(schema, named);
      const item = toJson(schema.items!, named);
      return (value) => (value as unknown[]).map(item);
    }
    case 'map': {
      const item = toJson(schema.values!, named);
      return (value) => Object.fromEntries(Object.entries(value as Record<string, unknown>).map(([key, each]) => [key, item(each)]));
    }
    case 'fixed':
    case 'bytes':
      if (schema.logicalType === 'uuid') return (value) => Buffer.from(value as Uint8Array).toString('hex');
      return schema.logicalType === 'decimal' ? (value) => formatDecimal(unscaled(value as Uint8Array), schema.scale ?? 0) : bytesText;
    default:
      return logicalJson(schema.logicalType, schema['adjust-to-utc']) ?? toJson(schema.type, named);
  }
}

/** Keys stand in JSON as texts, which the engine casts. */
function pairsJson({ items }: NamedSchema, named: Named): ToJson {
  const pair = toJson(items!, named);
  return (value) => Object.fromEntries((value as unknown[]).map((each) => {
    const [key, inner] = Object.values(pair(each) as Record<string, unknown>);
    if (typeof key === 'object') throw new LakeError('unsupported', 'The Avro file has maps whose keys are records; those are not read.');
    return [String(key), inner];
  }));
}

/** A type that names itself inside itself is resolved when it is met. */
function lazily(schema: AvroSchema, named: Named): ToJson {
  let made: ToJson | undefined;
  return (value) => (made ??= toJson(schema, named))(value);
}

function logicalJson(name: string | undefined, adjustToUtc: boolean | undefined): ToJson | undefined {
  const whole = (text: (units: bigint) => string, factor: bigint): ToJson => (value) => text(BigInt(value as number | bigint) * factor);
  const time = (value: bigint) => formatMicros(value).slice(11);
  const zoned = (value: bigint) => `${formatMicros(value)}Z`;
  const kinds: Record<string, ToJson> = {
    date: (value) => formatDate(value as number), 'time-millis': whole(time, 1000n), 'time-micros': whole(time, 1n), 'timestamp-millis': whole(zoned, 1000n), 'timestamp-micros': whole(zoned, 1n),
    'local-timestamp-millis': whole(formatMicros, 1000n), 'local-timestamp-micros': whole(formatMicros, 1n),
    'local-timestamp-nanos': whole(formatNanos, 1n),
  };
  return name === undefined ? undefined : kinds[adjustToUtc === false && name.startsWith('timestamp-') ? `local-${name}` : name];
}

/** Big-endian two's complement. */
function unscaled(bytes: Uint8Array): bigint {
  const whole = bytes.reduce((sum, byte) => (sum << 8n) | BigInt(byte), 0n);
  return bytes.length > 0 && bytes[0]! >= 0x80 ? whole - (1n << BigInt(8 * bytes.length)) : whole;
}

/** As the engine casts text to bytes: each as `\xNN`. */
export function bytesText(value: unknown): string {
  return [...(value as Uint8Array)].map((byte) => `\\x${byte.toString(16).toUpperCase().padStart(2, '0')}`).join('');
}
