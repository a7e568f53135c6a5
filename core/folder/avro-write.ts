/** Columns as an Avro schema, and rows as the engine writes them in JSON as values of it (Avro specification 1.11): the other way of `avro-rows`. */
import { LakeError } from '../errors';
import type { Field, LogicalType } from '../schema/types';
import { parseValue } from '../values/text';

type Schema = string | { type: unknown; [attribute: string]: unknown } | Schema[];

const NAME = /^[A-Za-z_][A-Za-z0-9_]*$/;

/** A record named `row`. Every column may be null, since a query promises nothing. Fails for a name that Avro does not know. */
export function avroSchemaOf(fields: readonly Field[]): { type: 'record'; name: string; fields: { name: string; type: Schema; default?: null }[] } {
  return record(fields, 'row');
}

function record(fields: readonly Field[], name: string) {
  return {
    type: 'record' as const, name,
    fields: fields.map((field) => {
      if (!NAME.test(field.name)) throw new LakeError('bad-request', `Avro has no column named "${field.name}": its names are letters, digits and _.`, { hint: 'Name it otherwise in the query with AS.' });
      return { name: field.name, type: nullable(field.type, `${name}_${field.name}`), default: null };
    }),
  };
}

function nullable(type: LogicalType, name: string): Schema {
  return ['null', schemaOf(type, name)];
}

function schemaOf(type: LogicalType, name: string): Schema {
  switch (type.kind) {
    case 'boolean':
    case 'float':
    case 'double':
    case 'string':
    case 'long':
      return type.kind;
    case 'byte':
    case 'short':
    case 'int':
      return 'int';
    case 'date':
      return { type: 'int', logicalType: 'date' };
    case 'time':
      return { type: 'long', logicalType: 'time-micros' };
    case 'timestamp':
      return { type: 'long', logicalType: 'local-timestamp-micros' };
    case 'timestamptz':
      return { type: 'long', logicalType: 'timestamp-micros' };
    case 'timestamp_ns':
      throw new LakeError('unsupported', 'Avro keeps times to the microsecond; cast the column to timestamp.');
    case 'decimal':
      return { type: 'bytes', logicalType: 'decimal', precision: type.precision, scale: type.scale };
    case 'uuid':
      return { type: 'string', logicalType: 'uuid' };
    case 'binary':
    case 'fixed':
      return 'bytes';
    case 'struct':
      return record(type.fields, name);
    case 'list':
      return { type: 'array', items: nullable(type.element.type, `${name}_element`) };
    case 'map':
      if (type.key.type.kind !== 'string') throw new LakeError('unsupported', 'Keys of maps are text in Avro; cast those of the column.');
      return { type: 'map', values: nullable(type.value.type, `${name}_value`) };
  }
}

type FromJson = (value: unknown) => unknown;

/** Takes a row whose numbers are texts of digits; times may be numbers of days or microseconds too. */
export function avroRowsOf(fields: readonly Field[]): (row: Record<string, unknown>) => Record<string, unknown> {
  const parts = fields.map((field) => [field.name, fromJson(field.type)] as const);
  return (row) => {
    const values: Record<string, unknown> = {};
    for (const [name, part] of parts) values[name] = orNull(part, row[name]);
    return values;
  };
}

function orNull(part: FromJson, value: unknown): unknown {
  return value === null || value === undefined ? null : part(value);
}

function fromJson(type: LogicalType): FromJson {
  switch (type.kind) {
    case 'boolean':
      return (value) => value === true;
    case 'byte':
    case 'short':
    case 'int':
      return Number;
    case 'float':
    case 'double':
      return (value) => {
        const number = Number(value);
        return Number.isFinite(number) ? number : parseValue(type, String(value));
      };
    case 'long':
      return (value) => BigInt(value as string);
    case 'decimal':
      return (value) => twosComplement(parseValue(type, plainDigits(String(value))) as bigint);
    case 'string':
    case 'uuid':
      return (value) => (typeof value === 'object' ? JSON.stringify(value) : String(value));
    case 'binary':
    case 'fixed':
      return (value) => bytesOf(String(value));
    case 'struct': {
      const inner = avroRowsOf(type.fields);
      return (value) => inner(value as Record<string, unknown>);
    }
    case 'list': {
      const inner = fromJson(type.element.type);
      return (value) => (value as unknown[]).map((each) => orNull(inner, each));
    }
    case 'map': {
      const inner = fromJson(type.value.type);
      return (value) => Object.fromEntries(Object.entries(value as Record<string, unknown>).map(([key, each]) => [key, orNull(inner, each)]));
    }
    case 'date':
      return (value) => (typeof value === 'number' || /^-?\d+$/.test(String(value)) ? Number(value) : parseValue(type, String(value)));
    default:
      return (value) => (typeof value === 'number' || /^-?\d+$/.test(String(value)) ? BigInt(value as string) : parseValue(type, String(value)));
  }
}

/** `1.5e3` as the engine may write a number. */
function plainDigits(text: string): string {
  const match = /^(-?)(\d+)(?:\.(\d+))?[eE]([+-]?\d+)$/.exec(text);
  if (!match) return text;
  const [, sign, whole, fraction = '', exponent] = match;
  const shift = Number(exponent);
  const digits = whole! + fraction;
  const point = whole!.length + shift;
  if (point <= 0) return `${sign}0.${'0'.repeat(-point)}${digits}`;
  return `${sign}${digits.padEnd(point, '0').slice(0, point)}.${digits.slice(point)}`;
}

/** Big-endian, as few bytes as hold it ("Decimal"). */
function twosComplement(value: bigint): Buffer {
  let length = 1;
  while (BigInt.asIntN(8 * length, value) !== value) length++;
  return Buffer.from(BigInt.asUintN(8 * length, value).toString(16).padStart(2 * length, '0'), 'hex');
}

/** The engine's text of bytes: `\xNN` for those that are no plain character. */
function bytesOf(text: string): Buffer {
  return Buffer.from(text.replace(/\\x([0-9A-Fa-f]{2})/g, (_, hex: string) => String.fromCharCode(parseInt(hex, 16))), 'latin1');
}
