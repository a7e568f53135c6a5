/** The Avro schemas of manifests and manifest lists, format versions 2 and 3, with the specification's field ids. */
import { LakeError } from '../errors';
import type { Field, LogicalType } from '../schema/types';
import type { Value } from '../values/value';
import type { AvroSchema } from './avro';
import { decimalBytes, signedBigEndian } from './single-value';
import type { PartitionSpecJson } from './metadata';

const required = (name: string, type: unknown, id: number) => ({ name, type, 'field-id': id });
const optional = (name: string, type: unknown, id: number) => ({ name, type: ['null', type], default: null, 'field-id': id });

/** A map with integer keys: Avro has none, so the specification uses an array of key-value records. */
const intMap = (value: string, keyId: number, valueId: number) => ({
  type: 'array',
  logicalType: 'map',
  items: { type: 'record', name: `k${keyId}_v${valueId}`, fields: [required('key', 'int', keyId), required('value', value, valueId)] },
});

export interface PartitionAvroField {
  name: string;
  type: unknown;
  default?: null;
  'field-id': number;
}

export function avroPartitionFields(fields: readonly Field[], spec: PartitionSpecJson): PartitionAvroField[] {
  return spec.fields.map((each, index) => optional(avroName(each.name), avroType(fields[index]!.type, each['field-id']), each['field-id']) as PartitionAvroField);
}

/** Avro names allow letters, digits and `_` only; others are written as `_x` and their code point, as common practice has it. */
export function avroName(name: string): string {
  const body = [...name].map((mark) => (/[A-Za-z0-9_]/.test(mark) ? mark : `_x${mark.codePointAt(0)!.toString(16).toUpperCase()}`)).join('');
  return /^[0-9]/.test(body) ? `_${body}` : body;
}

function avroType(type: LogicalType, id: number): unknown {
  switch (type.kind) {
    case 'boolean':
    case 'int':
    case 'long':
    case 'float':
    case 'double':
    case 'string':
      return type.kind;
    case 'byte':
    case 'short':
      return 'int';
    case 'date':
      return { type: 'int', logicalType: 'date' };
    case 'time':
      return { type: 'long', logicalType: 'time-micros' };
    case 'timestamp':
    case 'timestamptz':
      return { type: 'long', logicalType: 'timestamp-micros', 'adjust-to-utc': type.kind === 'timestamptz' };
    case 'timestamp_ns':
      return { type: 'long', logicalType: 'timestamp-nanos', 'adjust-to-utc': false };
    case 'binary':
      return 'bytes';
    case 'fixed':
      return { type: 'fixed', name: `fixed_${id}`, size: type.length };
    case 'uuid':
      return { type: 'fixed', name: `uuid_${id}`, size: 16, logicalType: 'uuid' };
    case 'decimal': {
      const size = decimalSize(type.precision);
      return { type: 'fixed', name: `decimal_${id}`, size, logicalType: 'decimal', precision: type.precision, scale: type.scale };
    }
    default:
      throw new LakeError('unsupported', `A partition field of type ${type.kind} is not supported.`);
  }
}

export function toAvroValue(type: LogicalType, value: Value | null): unknown {
  if (value === null) return null;
  if (type.kind === 'decimal') {
    const size = decimalSize(type.precision);
    // Some writers do not mark decimals as such, so that they were read as bytes.
    const unscaled = value instanceof Uint8Array ? signedBigEndian(value) : (value as bigint);
    const bytes = decimalBytes(unscaled);
    const fill = unscaled < 0n ? 0xff : 0;
    return Buffer.concat([Buffer.alloc(size - bytes.length, fill), bytes]);
  }
  if (type.kind === 'uuid') return Buffer.from((value as string).replaceAll('-', ''), 'hex');
  return value instanceof Uint8Array ? Buffer.from(value) : value;
}

/** Bytes that hold every number of so many digits ("Avro", Appendix A: "minimal number of bytes for the precision"). */
function decimalSize(precision: number): number {
  return decimalBytes(10n ** BigInt(precision) - 1n).length;
}

export function dataFileSchema(partition: PartitionAvroField[], formatVersion: number): AvroSchema {
  return {
    type: 'record',
    name: 'r2',
    fields: [
      required('content', 'int', 134),
      required('file_path', 'string', 100),
      required('file_format', 'string', 101),
      required('partition', { type: 'record', name: 'r102', fields: partition }, 102),
      required('record_count', 'long', 103),
      required('file_size_in_bytes', 'long', 104),
      optional('column_sizes', intMap('long', 117, 118), 108),
      optional('value_counts', intMap('long', 119, 120), 109),
      optional('null_value_counts', intMap('long', 121, 122), 110),
      optional('nan_value_counts', intMap('long', 138, 139), 137),
      optional('lower_bounds', intMap('bytes', 126, 127), 125),
      optional('upper_bounds', intMap('bytes', 129, 130), 128),
      optional('key_metadata', 'bytes', 131),
      optional('split_offsets', { type: 'array', items: 'long', 'element-id': 133 }, 132),
      optional('equality_ids', { type: 'array', items: 'int', 'element-id': 136 }, 135),
      optional('sort_order_id', 'int', 140),
      ...(formatVersion >= 3 ? [optional('first_row_id', 'long', 142)] : []),
      optional('referenced_data_file', 'string', 143),
      ...(formatVersion >= 3 ? [optional('content_offset', 'long', 144), optional('content_size_in_bytes', 'long', 145)] : []),
    ],
  };
}

export const ENTRY_SCHEMA = (dataFile: AvroSchema): AvroSchema => ({
  type: 'record',
  name: 'manifest_entry',
  fields: [
    required('status', 'int', 0),
    optional('snapshot_id', 'long', 1),
    optional('sequence_number', 'long', 3),
    optional('file_sequence_number', 'long', 4),
    required('data_file', dataFile, 2),
  ],
});

export const manifestListSchema = (formatVersion: number): AvroSchema => ({
  type: 'record',
  name: 'manifest_file',
  fields: [
    required('manifest_path', 'string', 500),
    required('manifest_length', 'long', 501),
    required('partition_spec_id', 'int', 502),
    required('content', 'int', 517),
    required('sequence_number', 'long', 515),
    required('min_sequence_number', 'long', 516),
    required('added_snapshot_id', 'long', 503),
    required('added_files_count', 'int', 504),
    required('existing_files_count', 'int', 505),
    required('deleted_files_count', 'int', 506),
    required('added_rows_count', 'long', 512),
    required('existing_rows_count', 'long', 513),
    required('deleted_rows_count', 'long', 514),
    optional('partitions', {
      type: 'array',
      'element-id': 508,
      items: {
        type: 'record',
        name: 'r508',
        fields: [required('contains_null', 'boolean', 509), optional('contains_nan', 'boolean', 518), optional('lower_bound', 'bytes', 510), optional('upper_bound', 'bytes', 511)],
      },
    }, 507),
    optional('key_metadata', 'bytes', 519),
    ...(formatVersion >= 3 ? [optional('first_row_id', 'long', 520)] : []),
  ],
});
