/** Partition transforms as SQL (Iceberg specification, "Partition Transforms"), the same values that `core/iceberg/transforms` gives. */
import { LakeError } from '../../core/errors';
import type { PartitionSpecJson } from '../../core/iceberg/metadata';
import { children, fieldById } from '../../core/iceberg/schema';
import { parseTransform, partitionText, resultType, type Transform } from '../../core/iceberg/transforms';
import { isNested, type Field, type LogicalType } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteName, quoteText } from '../../core/sql/tokens';
import { parseValue } from '../../core/values/text';
import type { Value } from '../../core/values/value';
import { HASH, TRUNCATE_DECIMAL } from '../engine/hash-functions';
import type { PartitionBy } from './write-files';

export function transformPartitions(spec: PartitionSpecJson, fields: readonly Field[], table: string): PartitionBy[] {
  return spec.fields.map((each) => {
    const transform = parseTransform(each.transform);
    const source = fieldById(fields, each['source-id']);
    if (!source) {
      if (transform.kind === 'void') return { name: each.name, type: { kind: 'int' }, sql: 'NULL::INTEGER', parse: () => null, show: String };
      throw new LakeError('unsupported', `${table} is partitioned by a column that was dropped (${each.name}). Nothing was changed.`, { table, hint: 'Take the partition field away first.' });
    }
    const type = resultType(transform, source.type);
    const isBytes = type.kind === 'binary' || type.kind === 'fixed';
    const sql = transformSql(transform, source.type, sqlOf(fields, source));
    return {
      name: each.name, type, sql: isBytes ? `hex(${sql})` : sql,
      parse: (text): Value => (isBytes ? Uint8Array.from(Buffer.from(text, 'hex')) : transform.kind === 'truncate' && type.kind === 'decimal' ? BigInt(text) : parseValue(type, text)),
      show: (value) => partitionText(transform, source.type, value) ?? '',
    };
  });
}

/** The column as SQL, also where it is inside a struct. */
function sqlOf(fields: readonly Field[], source: Field): string {
  const path = pathTo(fields, source)!;
  return path.slice(1).reduce((sql, step) => `struct_extract(${sql}, ${quoteText(step)})`, quoteName(path[0]!));
}

function pathTo(fields: readonly Field[], wanted: Field): string[] | undefined {
  for (const field of fields) {
    if (field.id === wanted.id) return [field.name];
    const inner = isNested(field.type) && field.type.kind === 'struct' ? pathTo(children(field.type), wanted) : undefined;
    if (inner) return [field.name, ...inner];
  }
  return undefined;
}

export function transformSql(transform: Transform, type: LogicalType, sql: string): string {
  switch (transform.kind) {
    case 'identity':
      return sql;
    case 'void':
      return `NULL::${typeName(resultType(transform, type))}`;
    case 'bucket':
      return `((${hashSql(type, sql)} & 2147483647) % ${transform.width})::INTEGER`;
    case 'truncate':
      return truncateSql(type, sql, transform.width);
    case 'day':
      return `(DATE '1970-01-01' + ${daysSql(type, sql)}::INTEGER)`;
    case 'hour':
      return type.kind === 'timestamp_ns' ? `${floorDiv(`epoch_ns(${sql})`, '3600000000000')}::INTEGER` : `date_diff('hour', TIMESTAMP '1970-01-01', ${utc(type, sql)})::INTEGER`;
    case 'month':
    case 'year':
      return `date_diff('${transform.kind}', DATE '1970-01-01', DATE '1970-01-01' + ${daysSql(type, sql)}::INTEGER)::INTEGER`;
  }
}

/** Days since 1970, counted down before it. */
function daysSql(type: LogicalType, sql: string): string {
  return type.kind === 'timestamp_ns' ? floorDiv(`epoch_ns(${sql})`, '86400000000000') : `date_diff('day', DATE '1970-01-01', ${type.kind === 'date' ? sql : utc(type, sql)}::DATE)`;
}

function utc(type: LogicalType, sql: string): string {
  return type.kind === 'timestamptz' ? `timezone('UTC', ${sql})` : sql;
}

/** The engine's division of integers cuts towards zero. */
function floorDiv(value: string, by: string): string {
  return `((${value} - ((${value} % ${by} + ${by}) % ${by})) // ${by})`;
}

function truncateSql(type: LogicalType, sql: string, width: number): string {
  switch (type.kind) {
    case 'string':
      return `left(${sql}, ${width})`;
    case 'binary':
      return `array_slice(${sql}, 1, ${width})`;
    case 'decimal':
      return `${TRUNCATE_DECIMAL}(${sql}::VARCHAR, ${width})`;
    default: {
      // Below the type's least value the number wraps around, as other writers' does (common practice; the specification is silent).
      const wide = `${sql}::HUGEINT`;
      const [least, size] = type.kind === 'long' ? ['9223372036854775808', '18446744073709551616'] : ['2147483648', '4294967296'];
      const cut = `(${wide} - ((${wide} % ${width} + ${width}) % ${width}))`;
      return `CASE WHEN ${cut} < -${least}::HUGEINT THEN ${cut} + ${size}::HUGEINT ELSE ${cut} END::${typeName(type)}`;
    }
  }
}

function hashSql(type: LogicalType, sql: string): string {
  switch (type.kind) {
    case 'byte':
    case 'short':
    case 'int':
    case 'long':
      return `${HASH.long}(${sql}::BIGINT)`;
    case 'date':
      return `${HASH.long}(date_diff('day', DATE '1970-01-01', ${sql}))`;
    case 'time':
      return `${HASH.long}(epoch_us(${sql}))`;
    case 'timestamp':
    case 'timestamptz':
      return `${HASH.long}(epoch_us(${sql}))`;
    case 'timestamp_ns':
      return `${HASH.long}(${floorDiv(`epoch_ns(${sql})`, '1000')})`;
    case 'string':
      return `${HASH.bytes}(encode(${sql}))`;
    case 'binary':
    case 'fixed':
      return `${HASH.bytes}(${sql})`;
    case 'uuid':
      return `${HASH.bytes}(from_hex(replace(${sql}::VARCHAR, '-', '')))`;
    case 'decimal':
      return `${HASH.decimal}(${sql}::VARCHAR)`;
    default:
      throw new LakeError('unsupported', `The bucket transform is not defined for ${type.kind}.`);
  }
}
