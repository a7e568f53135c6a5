/** A table's definition as the SQL that makes it; `readDefinition` reads it back. */
import type { Field, LogicalType } from '../schema/types';
import { typeName } from '../schema/type-names';
import { startsQuery } from './cursor';
import type { PartitionTerm, TableDefinition } from './define';
import { quoteName, quoteText, tokenize } from './tokens';

/** `table` is its full name, as SQL; `query` what it is filled from, which then gives the columns. */
export function createTableSql(table: string, { columns, key, comment, partitionBy, orderBy, options: all }: TableDefinition, query?: string): string {
  const lines = columns.map((column) => `  ${columnSql(column)}`);
  if (key.length > 0) lines.push(`  PRIMARY KEY (${key.map(nameSql).join(', ')})`);
  const clauses = [
    query === undefined ? `CREATE TABLE ${table} (\n${lines.join(',\n')}\n)` : `CREATE TABLE ${table}`,
    ...(comment ? [`COMMENT ${quoteText(comment)}`] : []),
    ...(partitionBy.length > 0 ? [`PARTITION BY (${partitionBy.map(termSql).join(', ')})`] : []),
    ...(orderBy.length > 0 ? [`ORDER BY (${orderBy.map(pathSql).join(', ')})`] : []),
    ...(Object.keys(all).length > 0 ? [`WITH (\n${Object.entries(all).map(([name, value]) => `  ${/^[a-z][\w.-]*$/i.test(name) ? name : quoteText(name)} = ${quoteText(value)}`).join(',\n')}\n)`] : []),
  ];
  return [...clauses, ...(query === undefined ? [] : [`AS ${query}`])].join('\n');
}

export function columnSql({ name, type, required, comment }: Field): string {
  return `${nameSql(name)} ${typeAsSql(type)}${required ? ' NOT NULL' : ''}${comment ? ` COMMENT ${quoteText(comment)}` : ''}`;
}

export function termSql({ source, transform }: PartitionTerm): string {
  const [, name, size] = /^(\w+)(?:\[(\d+)\])?$/.exec(transform) ?? [];
  if (name === 'identity' || name === undefined) return pathSql(source);
  return `${name}(${size === undefined ? '' : `${size}, `}${pathSql(source)})`;
}

function pathSql(path: string): string {
  return path.split('.').map(nameSql).join('.');
}

/** Quoted wherever the statement would else be read otherwise. */
export function nameSql(name: string): string {
  const kept = ['PRIMARY', 'NOT', 'COMMENT', 'FIRST', 'AFTER', 'IF'];
  return /^[a-z_][a-z0-9_]*$/i.test(name) && !kept.includes(name.toUpperCase()) && !startsQuery(tokenize(name)[0]) ? name : quoteName(name);
}

/** With what the fields of structs must have and what is said of them. */
export function typeAsSql(type: LogicalType): string {
  switch (type.kind) {
    case 'fixed':
      return `fixed(${type.length})`;
    case 'struct':
      return `struct(${type.fields.map(columnSql).join(', ')})`;
    case 'list':
      return `${typeAsSql(type.element.type)}[]`;
    case 'map':
      return `map(${typeAsSql(type.key.type)}, ${typeAsSql(type.value.type)})`;
    default:
      return typeName(type);
  }
}
