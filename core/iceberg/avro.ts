/** Avro object container files (Avro specification 1.11, "Object Container Files"), decoded by the Avro library. */
import { deflateRawSync, inflateRawSync } from 'node:zlib';
import avro from 'avsc';
import { decompress as unpackZstandard } from 'fzstd';
import { snappyUncompress } from 'hyparquet';
import { AVRO_LONG } from '../values/avro-long';
import { LakeError } from '../errors';
import { faultWords } from '../fault-words';
import { toBytes, toText } from '../storage/object-store';

const MAGIC = [0x4f, 0x62, 0x6a, 0x01];

function typeFor(schema: unknown) {
  // Null-or-one-type unions are all that the format uses, so values stand for themselves; logical types are read by id.
  return avro.Type.forSchema(schema as never, { registry: { long: AVRO_LONG }, wrapUnions: false, logicalTypes: {}, noAnonymousTypes: false } as never);
}

export interface AvroFile {
  /** The writer's schema with all its attributes (`field-id` among them). */
  schema: AvroSchema;
  metadata: Record<string, string>;
  records: Record<string, unknown>[];
}

export interface AvroSchema {
  type: string;
  name?: string;
  fields?: { name: string; type: unknown; 'field-id'?: number }[];
}

export async function readAvro(bytes: Uint8Array, path: string): Promise<AvroFile> {
  const { metadata, schema, blocks } = await readAvroBlocks(bytes, path);
  try {
    const read = avroReader(schema);
    const records: Record<string, unknown>[] = [];
    for (const { count, data } of blocks) {
      for (let i = 0, offset = 0; i < count; i++) {
        const { value, end } = read(data, offset);
        records.push(value);
        offset = end;
      }
    }
    return { schema, metadata, records };
  } catch (error) {
    throw asUnreadable(error, path);
  }
}

/** Records in one block, unpacked. */
export interface AvroBlock {
  count: number;
  data: Uint8Array;
}

const MOST_RECORDS = 50_000_000;

/** A file's blocks without their records being decoded. Fails with `bad-file`, naming `path`. */
export async function readAvroBlocks(bytes: Uint8Array, path: string): Promise<Omit<AvroFile, 'records'> & { blocks: AvroBlock[] }> {
  const file = new AvroCursor(asBuffer(bytes), path);
  const { metadata, schema, sync } = readAvroHeader(file);
  try {
    const blocks: AvroBlock[] = [];
    while (file.at < file.buffer.length) {
      const count = file.long();
      const packed = file.bytes();
      if (!file.take(16).equals(sync)) throw new Error(`the block before byte ${file.at} does not end in the file's sync marker`);
      if (count < 0 || count > MOST_RECORDS) throw new Error(`a block claims ${count} records`);
      blocks.push({ count, data: await decompressBlock(packed, metadata['avro.codec'] ?? 'null', path) });
    }
    return { schema, metadata, blocks };
  } catch (error) {
    throw asUnreadable(error, path);
  }
}

/** Decodes one record of a block, from `offset`; `end` is where the next begins. */
export function avroReader(schema: AvroSchema): (data: Uint8Array, offset: number) => { value: Record<string, unknown>; end: number } {
  const type = typeFor(schema);
  return (data, offset) => {
    const decoded = type.decode(data as Buffer, offset) as { value: Record<string, unknown>; offset: number };
    if (decoded.offset < 0) throw new Error(`the record at byte ${offset} of a block is cut short`);
    return { value: decoded.value, end: decoded.offset };
  };
}

export function asBuffer(bytes: Uint8Array): Buffer {
  return Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength);
}

/** The writer's schema, from the first bytes of a file; they must hold the whole header. */
export function avroSchemaOf(head: Uint8Array, path: string): AvroSchema {
  return readAvroHeader(new AvroCursor(asBuffer(head), path)).schema;
}

export function readAvroHeader(reader: AvroCursor): { metadata: Record<string, string>; schema: AvroSchema; sync: Buffer } {
  const { buffer, path } = reader;
  if (MAGIC.some((byte, index) => buffer[index] !== byte)) {
    throw new LakeError('bad-file', `${path}: expected an Avro file, found bytes ${buffer.subarray(0, 4).toString('hex') || '(none)'} at its start.`, { path });
  }
  reader.at = 4;
  try {
    const metadata: Record<string, string> = {};
    for (let count = reader.long(); count !== 0; count = reader.long()) {
      if (count < 0) reader.long(); // the block's size in bytes, which we do not need
      for (let i = 0; i < Math.abs(count); i++) metadata[toText(reader.bytes())] = toText(reader.bytes());
    }
    return { metadata, sync: reader.take(16), schema: JSON.parse(metadata['avro.schema'] ?? 'null') as AvroSchema };
  } catch (error) {
    throw asUnreadable(error, path);
  }
}

export function asUnreadable(error: unknown, path: string): LakeError {
  if (error instanceof LakeError) return error;
  return new LakeError('bad-file', `${path}: not a readable Avro file: ${faultWords(error)}.`, { path }, { cause: error });
}

/** One block, deflated. `sync` is the 16-byte marker between blocks. */
export async function writeAvro(schema: AvroSchema, metadata: Record<string, string>, records: unknown[], sync: Uint8Array): Promise<Uint8Array> {
  const { header, block } = avroWriter(schema, metadata, sync, { exactLongs: true });
  return records.length === 0 ? header : Buffer.concat([header, block(records)]);
}

/** A file in parts: its header, then any number of blocks. With `exactLongs` all longs come as bigint, those of logical types too. */
export function avroWriter(schema: AvroSchema, metadata: Record<string, string>, sync: Uint8Array, { codec = 'deflate', exactLongs = false }: { codec?: 'deflate' | 'null'; exactLongs?: boolean } = {}): { header: Buffer; block(records: readonly unknown[]): Buffer } {
  const type = typeFor(exactLongs ? withoutAttributes(schema) : schema);
  const told = { 'avro.schema': JSON.stringify(schema), 'avro.codec': codec, ...metadata };
  const entries = Object.entries(told).flatMap(([key, value]) => [lengthPrefixed(toBytes(key)), lengthPrefixed(toBytes(value))]);
  return {
    header: Buffer.concat([Buffer.from(MAGIC), long(Object.keys(told).length), ...entries, long(0), sync]),
    block: (records) => {
      const body = Buffer.concat(records.map((record) => type.toBuffer(record)));
      return Buffer.concat([long(records.length), lengthPrefixed(codec === 'null' ? body : deflateRawSync(body)), sync]);
    },
  };
}

/** `{ "type": "long", "logicalType": … }` as `"long"`, which is how the library finds our longs. */
function withoutAttributes(schema: unknown): unknown {
  if (Array.isArray(schema)) return schema.map(withoutAttributes);
  if (typeof schema !== 'object' || schema === null) return schema;
  const { type, fields, items, values } = schema as { type: unknown; fields?: { type: unknown }[]; items?: unknown; values?: unknown };
  if (type === 'record') return { ...schema, fields: fields!.map((field) => ({ ...field, type: withoutAttributes(field.type) })) };
  if (type === 'array') return { ...schema, items: withoutAttributes(items) };
  if (type === 'map') return { ...schema, values: withoutAttributes(values) };
  return type === 'fixed' || type === 'enum' ? schema : withoutAttributes(type);
}

export async function decompressBlock(bytes: Buffer, codec: string, path: string): Promise<Uint8Array> {
  if (codec === 'null') return bytes;
  if (codec === 'deflate') return inflateRawSync(bytes);
  // A CRC-32 of the unpacked bytes follows each block ("snappy", Avro specification, "Optional Codecs").
  if (codec === 'snappy') return snappy(bytes.subarray(0, -4));
  if (codec === 'zstandard') return Buffer.from(unpackZstandard(bytes));
  throw new LakeError('unsupported', `${path} is compressed with the Avro codec "${codec}"; null, deflate, snappy and zstandard are supported.`, { path });
}

/** The length of the unpacked bytes stands first, as a varint. */
function snappy(bytes: Buffer): Buffer {
  let [length, scale, at] = [0, 1, 0];
  for (;;) {
    const byte = bytes[at++] ?? 0;
    length += (byte & 0x7f) * scale;
    if (byte < 128) break;
    scale *= 128;
  }
  if (length > MOST_UNPACKED) throw new Error(`a block claims ${length} bytes unpacked`);
  const unpacked = new Uint8Array(length);
  snappyUncompress(bytes, unpacked);
  return Buffer.from(unpacked.buffer);
}

const MOST_UNPACKED = 2 ** 30;

/** Sends bytes through a compression or decompression stream of the platform. */
export async function pipe(bytes: Uint8Array, through: CompressionStream | DecompressionStream): Promise<Uint8Array> {
  const stream = new Blob([bytes as Uint8Array<ArrayBuffer>]).stream().pipeThrough(through as unknown as ReadableWritablePair<Uint8Array, Uint8Array>);
  return new Uint8Array(await new Response(stream).arrayBuffer());
}

/** Zig-zag variable-length encoding of a small integer. */
function long(value: number): Buffer {
  const bytes: number[] = [];
  let rest = value >= 0 ? value * 2 : -value * 2 - 1;
  while (rest >= 128) {
    bytes.push((rest % 128) + 128);
    rest = Math.floor(rest / 128);
  }
  return Buffer.from([...bytes, rest]);
}

function lengthPrefixed(bytes: Uint8Array): Buffer {
  return Buffer.concat([long(bytes.length), bytes]);
}

/** A place in bytes of Avro. */
export class AvroCursor {
  at = 0;
  constructor(
    public buffer: Buffer,
    readonly path: string,
  ) {}

  long(): number {
    const { buffer } = this;
    const first = buffer[this.at]!;
    if (first < 128) {
      this.at++;
      return (first & 1) === 0 ? first / 2 : -(first + 1) / 2;
    }
    let value = 0;
    let scale = 1;
    for (;;) {
      const byte = this.take(1)[0]!;
      value += (byte & 0x7f) * scale;
      if (byte < 128) return value % 2 === 0 ? value / 2 : -(value + 1) / 2;
      scale *= 128;
    }
  }

  /** All 64 bits. */
  bigLong(): bigint {
    let value = 0n;
    for (let shift = 0n; ; shift += 7n) {
      const byte = this.take(1)[0]!;
      value |= BigInt(byte & 0x7f) << shift;
      if (byte < 128) return BigInt.asIntN(64, (value >> 1n) ^ -(value & 1n));
      if (shift > 63n) throw new LakeError('bad-file', `${this.path}: a number before byte ${this.at} is too long.`, { path: this.path });
    }
  }

  skipLong(): void {
    while (this.buffer[this.at++]! >= 128);
    if (this.at > this.buffer.length) this.skip(0);
  }

  /** Past a list of records of two numbers each. */
  skipNumberPairs(): void {
    const { buffer } = this;
    for (let count = this.long(); count !== 0; count = this.long()) {
      if (count < 0) {
        this.skip(this.long());
        continue;
      }
      let { at } = this;
      for (let left = count * 2; left > 0; left--) {
        while (buffer[at++]! >= 128);
        if (at > buffer.length) break;
      }
      this.at = at;
      if (at > buffer.length) this.skip(0);
    }
  }

  /** Past a list of records of a number and bytes each. */
  skipBytesPairs(): void {
    const { buffer } = this;
    for (let count = this.long(); count !== 0; count = this.long()) {
      if (count < 0) {
        this.skip(this.long());
        continue;
      }
      for (let left = count; left > 0; left--) {
        let { at } = this;
        while (buffer[at++]! >= 128);
        const first = buffer[at];
        if (first !== undefined && first < 128 && (first & 1) === 0) this.at = at + 1 + first / 2;
        else {
          this.at = at;
          this.skip(this.long());
        }
        if (this.at > buffer.length) this.skip(0);
      }
    }
  }

  skip(length: number): void {
    if (length < 0 || this.at + length > this.buffer.length) this.take(length);
    this.at += length;
  }

  bytes(): Buffer {
    return this.take(this.long());
  }

  take(length: number): Buffer {
    if (length < 0 || this.at + length > this.buffer.length) {
      throw new LakeError('bad-file', `${this.path}: the Avro file ends at byte ${this.buffer.length}, ${this.at + length - this.buffer.length} bytes too early.`, { path: this.path });
    }
    this.at += length;
    return this.buffer.subarray(this.at - length, this.at);
  }
}
