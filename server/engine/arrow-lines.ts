/**
 * Arrow files and streams, Feather among them: their schema as our types, and their rows as JSON lines in the form that the
 * engine reads as those types (Apache Arrow columnar format 1.5). Values are taken from the buffers, so that none is rounded.
 */
import { open } from 'node:fs/promises';
import {
  compressionRegistry,
  CompressionType,
  DataType,
  RecordBatchReader,
  type Data,
  type Field as ArrowField,
  type RecordBatch,
} from 'apache-arrow';
import { decompress as unzstd } from 'fzstd';
import { LakeError } from '../../core/errors';
import { bytesText } from '../../core/folder/avro-rows';
import { field, type Field, type LogicalType } from '../../core/schema/types';
import { formatDate, formatDecimal, formatMicros, formatNanos } from '../../core/values/text';
import { Lz4Frames } from '../storage/lz4-frames';

// Copied, so that it begins where numbers of eight bytes may.
compressionRegistry.set(CompressionType.ZSTD, { decode: (bytes) => Uint8Array.from(unzstd(bytes)) });
compressionRegistry.set(CompressionType.LZ4_FRAME, {
  decode: (bytes) => {
    const frames = new Lz4Frames();
    return new Uint8Array(Buffer.concat([...frames.push(bytes)]));
  },
});

/** Nanoseconds of a unit, by its number in the format. */
const UNIT_NANOS = [1_000_000_000n, 1_000_000n, 1000n, 1n];
const MICRO_NANOS = 1000n;

export async function arrowFields(source: string): Promise<Field[]> {
  const file = await open(source);
  try {
    const reader = await (
      (await RecordBatchReader.from(file as never)) as unknown as {
        open(): Promise<{ schema: { fields: ArrowField[] } }>;
      }
    ).open();
    return reader.schema.fields.map(fieldOf);
  } finally {
    await file.close();
  }
}

/** The rows, a batch after the other. */
export async function* arrowLines(source: string): AsyncGenerator<string> {
  const file = await open(source);
  try {
    const reader = (await RecordBatchReader.from(file as never)) as unknown as AsyncIterable<RecordBatch>;
    for await (const batch of reader) {
      const columns = batch.schema.fields.map((each, index) => ({
        name: JSON.stringify(each.name),
        data: batch.data.children[index]!,
      }));
      for (let start = 0; start < batch.numRows; start += ROWS_AT_ONCE) {
        const lines: string[] = [];
        for (let row = start; row < Math.min(start + ROWS_AT_ONCE, batch.numRows); row++)
          lines.push(`{${columns.map(({ name, data }) => `${name}:${json(valueAt(data, row))}`).join(',')}}\n`);
        yield lines.join('');
      }
    }
  } finally {
    await file.close().catch(() => undefined);
  }
}

const ROWS_AT_ONCE = 2000;

function fieldOf({ name, type, nullable }: ArrowField): Field {
  return field(name, typeOf(type as DataType, name), nullable ? {} : { required: true });
}

function typeOf(type: DataType, name: string): LogicalType {
  if (DataType.isDictionary(type)) return typeOf(type.dictionary as DataType, name);
  if (DataType.isInt(type)) {
    if (type.bitWidth === 64 && !type.isSigned) return { kind: 'decimal', precision: 20, scale: 0 };
    const kinds = type.isSigned
      ? ({ 8: 'byte', 16: 'short', 32: 'int', 64: 'long' } as const)
      : ({ 8: 'short', 16: 'int', 32: 'long', 64: 'long' } as const);
    return { kind: kinds[type.bitWidth as 8] };
  }
  if (DataType.isFloat(type)) return { kind: type.precision === 2 ? 'double' : 'float' };
  if (DataType.isDecimal(type))
    return type.precision <= 38
      ? { kind: 'decimal', precision: type.precision, scale: type.scale }
      : { kind: 'string' };
  if (DataType.isBool(type)) return { kind: 'boolean' };
  if (DataType.isDate(type)) return { kind: 'date' };
  if (DataType.isTime(type)) return { kind: 'time' };
  if (DataType.isTimestamp(type))
    return type.timezone ? { kind: 'timestamptz' } : { kind: type.unit === 3 ? 'timestamp_ns' : 'timestamp' };
  if (DataType.isDuration(type)) return { kind: 'long' };
  if (
    DataType.isBinary(type) ||
    DataType.isLargeBinary(type) ||
    DataType.isBinaryView(type) ||
    DataType.isFixedSizeBinary(type)
  )
    return { kind: 'binary' };
  if (DataType.isStruct(type)) return { kind: 'struct', fields: (type.children as ArrowField[]).map(fieldOf) };
  if (DataType.isMap(type)) {
    const [key, value] = (type.children[0]!.type as DataType & { children: ArrowField[] }).children;
    return {
      kind: 'map',
      key: field('key', typeOf(key!.type as DataType, name), { required: true }),
      value: field('value', typeOf(value!.type as DataType, name)),
    };
  }
  if (DataType.isList(type) || DataType.isLargeList(type) || DataType.isFixedSizeList(type))
    return {
      kind: 'list',
      element: field('element', typeOf((type.children as ArrowField[])[0]!.type as DataType, name)),
    };
  if (DataType.isUtf8(type) || DataType.isLargeUtf8(type) || DataType.isUtf8View(type) || DataType.isNull(type))
    return { kind: 'string' };
  throw new LakeError('unsupported', `the column "${name}" is of the Arrow type ${String(type)}, which is not read`);
}

/** The value as JSON has it, with bigints for what is no double. */
function valueAt(data: Data, row: number): unknown {
  const type = data.type as DataType;
  if (DataType.isNull(type) || !data.getValid(row)) return null;
  if (DataType.isDictionary(type)) {
    const key = Number((data.values as unknown as ArrayLike<number | bigint>)[row]);
    return fromChunks(data.dictionary!.data as readonly Data[], key);
  }
  const values = data.values as unknown as ArrayLike<number | bigint>;
  if (DataType.isInt(type)) return values[row];
  if (DataType.isFloat(type)) return type.precision === 0 ? half(Number(values[row])) : values[row];
  if (DataType.isBool(type))
    return ((data.values as unknown as Uint8Array)[(data.offset + row) >> 3]! & (1 << ((data.offset + row) & 7))) !== 0;
  if (DataType.isDecimal(type)) return decimalAt(data, row, type.bitWidth, type.scale);
  if (DataType.isDate(type)) return formatDate(type.unit === 0 ? Number(values[row]) : daysOf(millisAt(data, row)));
  if (DataType.isTime(type)) return timeText(nanosAt(data, row, type.unit, type.bitWidth));
  if (DataType.isTimestamp(type))
    return timestampText(nanosAt(data, row, type.unit, 64), type.unit === 3, Boolean(type.timezone));
  if (DataType.isDuration(type)) return longAt(data, row);
  if (DataType.isFixedSizeBinary(type))
    return bytesText((data.values as unknown as Uint8Array).subarray(row * type.byteWidth, (row + 1) * type.byteWidth));
  if (DataType.isStruct(type))
    return Object.fromEntries(
      (type.children as ArrowField[]).map((each, index) => [each.name, valueAt(data.children[index]!, row)]),
    );
  if (DataType.isMap(type))
    return Object.fromEntries(
      itemsAt(data, row).map(([pair, at]) => [String(valueAt(pair.children[0]!, at)), valueAt(pair.children[1]!, at)]),
    );
  if (DataType.isFixedSizeList(type))
    return Array.from({ length: type.listSize }, (_, index) => valueAt(data.children[0]!, row * type.listSize + index));
  if (DataType.isList(type) || DataType.isLargeList(type))
    return itemsAt(data, row).map(([child, at]) => valueAt(child, at));
  const bytes = bytesAt(data, row, type);
  return DataType.isUtf8(type) || DataType.isLargeUtf8(type) || DataType.isUtf8View(type)
    ? new TextDecoder().decode(bytes)
    : bytesText(bytes);
}

function fromChunks(chunks: readonly Data[], row: number): unknown {
  let at = row;
  for (const chunk of chunks) {
    if (at < chunk.length) return valueAt(chunk, at);
    at -= chunk.length;
  }
  throw new LakeError('bad-file', 'a value refers to one that the dictionary does not have');
}

function itemsAt(data: Data, row: number): [Data, number][] {
  const offsets = data.valueOffsets as unknown as ArrayLike<number | bigint>;
  const [from, to] = [Number(offsets[row]), Number(offsets[row + 1])];
  return Array.from({ length: to - from }, (_, index) => [data.children[0]!, from + index]);
}

function bytesAt(data: Data, row: number, type: DataType): Uint8Array {
  if (DataType.isUtf8View(type) || DataType.isBinaryView(type)) {
    // A view of 16 bytes: its length, then the bytes themselves where they fit, else a prefix, a buffer and an offset.
    const views = data.values as unknown as Uint8Array;
    const view = new DataView(views.buffer, views.byteOffset + row * 16, 16);
    const length = view.getInt32(0, true);
    if (length <= 12) return new Uint8Array(views.buffer, views.byteOffset + row * 16 + 4, length);
    const start = view.getInt32(12, true);
    return data.variadicBuffers[view.getInt32(8, true)]!.subarray(start, start + length);
  }
  const offsets = data.valueOffsets as unknown as ArrayLike<number | bigint>;
  return (data.values as unknown as Uint8Array).subarray(Number(offsets[row]), Number(offsets[row + 1]));
}

/** Buffers of 64 bits come as numbers of 32 in some versions of the library. */
function longAt({ values }: Data, row: number): bigint {
  const array = values as unknown as BigInt64Array | Int32Array;
  if (array instanceof BigInt64Array || array instanceof BigUint64Array) return array[row]!;
  return new DataView(array.buffer, array.byteOffset + row * 8, 8).getBigInt64(0, true);
}

function millisAt(data: Data, row: number): bigint {
  return longAt(data, row);
}

function daysOf(millis: bigint): number {
  const days = millis / 86_400_000n;
  return Number(millis % 86_400_000n < 0n ? days - 1n : days);
}

function nanosAt(data: Data, row: number, unit: number, bitWidth: number): bigint {
  return (
    (bitWidth === 32 ? BigInt((data.values as unknown as Int32Array)[row]!) : longAt(data, row)) * UNIT_NANOS[unit]!
  );
}

function timeText(nanos: bigint): string {
  return formatMicros(whole(nanos)).slice(11);
}

function timestampText(nanos: bigint, isNanos: boolean, hasZone: boolean): string {
  if (hasZone) return `${formatMicros(whole(nanos))}Z`;
  return isNanos ? formatNanos(nanos) : formatMicros(nanos / MICRO_NANOS);
}

function whole(nanos: bigint): bigint {
  if (nanos % MICRO_NANOS !== 0n)
    throw new LakeError(
      'unsupported',
      'a time has nanoseconds, and its type holds microseconds; have it written with those, or without a zone',
    );
  return nanos / MICRO_NANOS;
}

/** Little-endian two's complement. */
function decimalAt({ values }: Data, row: number, bitWidth: number, scale: number): string {
  const array = values as unknown as Uint32Array;
  const view = new DataView(array.buffer, array.byteOffset + (row * bitWidth) / 8, bitWidth / 8);
  let unscaled = 0n;
  for (let at = bitWidth / 8 - 8; at >= 0; at -= 8) unscaled = (unscaled << 64n) | view.getBigUint64(at, true);
  return formatDecimal(BigInt.asIntN(bitWidth, unscaled), scale);
}

/** A float of 16 bits (IEEE 754 binary16). */
function half(bits: number): number {
  const [sign, exponent, fraction] = [bits & 0x8000 ? -1 : 1, (bits >> 10) & 31, bits & 1023];
  if (exponent === 31) return fraction ? NaN : sign * Infinity;
  return sign * (exponent === 0 ? 2 ** -14 * (fraction / 1024) : 2 ** (exponent - 15) * (1 + fraction / 1024));
}

function json(value: unknown): string {
  if (typeof value === 'bigint') return value.toString();
  // JSON knows no number that is none, and no zero below zero; the engine reads them from their texts.
  if (typeof value === 'number')
    return Object.is(value, -0) ? '"-0.0"' : Number.isFinite(value) ? String(value) : `"${value}"`;
  if (Array.isArray(value)) return `[${value.map(json).join(',')}]`;
  if (value !== null && typeof value === 'object')
    return `{${Object.entries(value)
      .map(([key, each]) => `${JSON.stringify(key)}:${json(each)}`)
      .join(',')}}`;
  return JSON.stringify(value ?? null);
}
