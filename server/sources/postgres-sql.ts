/** A reading of a table as a PostgreSQL statement: the columns that are wanted, and as much of the predicate as means the same there. */
import type { Predicate } from '../../core/scan/predicate';
import { findField, type Field, type LogicalType } from '../../core/schema/types';
import { quoteName } from '../../core/sql/tokens';
import { formatValue } from '../../core/values/text';
import type { Value } from '../../core/values/value';
import type { SourceRead } from './driver';

export interface Statement {
  text: string;
  values: string[];
}

export function selectStatement({ schema, name, fields, predicate, limit }: SourceRead, all: readonly Field[]): Statement {
  const values: string[] = [];
  const condition = conditionOf(predicate, all, values);
  const columns = fields.map((field) => `${shown(field)} AS ${quoteName(field.name)}`);
  return { text: `SELECT ${columns.join(', ') || '1 AS present'} FROM ${quoteName(schema)}.${quoteName(name)}${condition === undefined ? '' : ` WHERE ${condition}`}${limit === undefined ? '' : ` LIMIT ${Math.floor(limit)}`}`, values };
}

/** As text that the engine reads back without loss; times in UTC, lists and JSON as JSON. */
function shown(field: Field): string {
  const column = quoteName(field.name);
  switch (field.type.kind) {
    case 'timestamp':
      return `to_char(${column}, 'YYYY-MM-DD"T"HH24:MI:SS.US')`;
    case 'timestamptz':
      return `to_char(${column} AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')`;
    case 'binary':
      return `encode(${column}, 'hex')`;
    case 'list':
      return `to_json(${column})::text`;
    default:
      return `${column}::text`;
  }
}

const TYPES: Partial<Record<LogicalType['kind'], string>> = {
  boolean: 'boolean', short: 'smallint', int: 'integer', long: 'bigint', float: 'real', double: 'double precision', decimal: 'numeric', date: 'date', time: 'time', timestamp: 'timestamp', timestamptz: 'timestamptz', uuid: 'uuid', string: 'text',
};

/** Undefined where nothing can be asked: then every row is. */
function conditionOf(predicate: Predicate, fields: readonly Field[], values: string[]): string | undefined {
  switch (predicate.op) {
    case 'and': {
      const parts = predicate.args.map((arg) => conditionOf(arg, fields, values)).filter((part) => part !== undefined);
      return parts.length === 0 ? undefined : parts.map((part) => `(${part})`).join(' AND ');
    }
    case 'or': {
      const before = values.length;
      const parts = predicate.args.map((arg) => conditionOf(arg, fields, values));
      // One branch that cannot be asked lets every row through.
      if (parts.some((part) => part === undefined)) {
        values.length = before;
        return undefined;
      }
      return parts.map((part) => `(${part})`).join(' OR ');
    }
    case 'compare':
      return simple(predicate.column, fields, (column, type) => `${collated(column, type, predicate.comparison)} ${predicate.comparison === '!=' ? '<>' : predicate.comparison} ${parameter(predicate.value, type, values)}`);
    case 'in':
      return simple(predicate.column, fields, (column, type) => `${column} IN (${predicate.values.map((value) => parameter(value, type, values)).join(', ')})`);
    case 'prefix':
      return simple(predicate.column, fields, (column, type) => (type.kind === 'string' ? `starts_with(${column}::text, ${parameter(predicate.prefix, type, values)})` : undefined));
    case 'null':
    case 'not-null':
      return simple(predicate.column, fields, (column) => `${column} IS ${predicate.op === 'null' ? '' : 'NOT '}NULL`);
    default:
      return undefined;
  }
}

function simple(path: readonly string[], fields: readonly Field[], make: (column: string, type: LogicalType) => string | undefined): string | undefined {
  const field = path.length === 1 ? findField(fields, path[0]!) : undefined;
  return field && TYPES[field.type.kind] !== undefined ? make(quoteName(field.name), field.type) : undefined;
}

/** The engine orders texts by their bytes; a database may order them by the rules of a language. */
function collated(column: string, type: LogicalType, comparison: string): string {
  return type.kind === 'string' && comparison !== '=' && comparison !== '!=' ? `${column}::text COLLATE "C"` : type.kind === 'string' ? `${column}::text` : column;
}

function parameter(value: Value, type: LogicalType, values: string[]): string {
  values.push(formatValue(type, value));
  return `$${values.length}::${TYPES[type.kind]}`;
}

/** A table that has the columns. */
export function createStatement(schema: string, name: string, fields: readonly Field[]): string {
  return `CREATE TABLE ${quoteName(schema)}.${quoteName(name)} (${fields.map((field) => `${quoteName(field.name)} ${columnType(field.type)}`).join(', ')})`;
}

function columnType(type: LogicalType): string {
  switch (type.kind) {
    case 'decimal':
      return `numeric(${type.precision}, ${type.scale})`;
    case 'byte':
      return 'smallint';
    case 'binary':
    case 'fixed':
      return 'bytea';
    case 'timestamp_ns':
      return 'timestamp';
    case 'list':
      return ['struct', 'map', 'list'].includes(type.element.type.kind) ? 'jsonb' : `${columnType(type.element.type)}[]`;
    case 'struct':
    case 'map':
      return 'jsonb';
    default:
      return TYPES[type.kind] ?? 'text';
  }
}

/** Rows of its only parameter, a JSON array of objects, whose values are read as the table's columns have them. */
export function insertStatement(schema: string, name: string, fields: readonly Field[]): string {
  const table = `${quoteName(schema)}.${quoteName(name)}`;
  const columns = fields.map((field) => quoteName(field.name)).join(', ');
  return `INSERT INTO ${table} (${columns}) SELECT ${columns} FROM json_populate_recordset(NULL::${table}, $1::json)`;
}

/** A column of the engine as a value of JSON that the database reads without loss. */
export function jsonColumn({ name, type }: Field, as: string): string {
  const column = quoteName(name);
  switch (type.kind) {
    case 'float':
    case 'double':
      return `CASE WHEN isfinite(${column}) THEN to_json(${column}) ELSE to_json(${column}::VARCHAR) END AS ${quoteName(as)}`;
    case 'binary':
    case 'fixed':
      return `'\\x' || hex(${column}) AS ${quoteName(as)}`;
    default:
      return `${column} AS ${quoteName(as)}`;
  }
}
