/** Avro object container files (Avro specification 1.11, "Object Container Files"), decoded by the Avro library. */
import avro from 'avsc';
import { AVRO_LONG } from '../values/avro-long';
import { LakeError } from '../errors';
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
  const reader = new Cursor(Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength), path);
  const { metadata, schema, sync } = readHeader(reader);
  try {
    const type = typeFor(schema);
    const records: Record<string, unknown>[] = [];
    while (reader.at < reader.buffer.length) {
      const count = reader.long();
      const block = await decompress(reader.bytes(), metadata['avro.codec'] ?? 'null', path);
      if (!reader.take(16).equals(sync)) throw new Error(`the block before byte ${reader.at} does not end in the file's sync marker`);
      let offset = 0;
      for (let i = 0; i < count; i++) {
        const decoded = type.decode(block as Buffer, offset) as { value: Record<string, unknown>; offset: number };
        if (decoded.offset < 0) throw new Error(`record ${records.length + 1} is cut short`);
        records.push(decoded.value);
        offset = decoded.offset;
      }
    }
    return { schema, metadata, records };
  } catch (error) {
    throw asUnreadable(error, path);
  }
}

/** The writer's schema, from the first bytes of a file; they must hold the whole header. */
export function avroSchemaOf(head: Uint8Array, path: string): AvroSchema {
  return readHeader(new Cursor(Buffer.from(head.buffer, head.byteOffset, head.byteLength), path)).schema;
}

function readHeader(reader: Cursor): { metadata: Record<string, string>; schema: AvroSchema; sync: Buffer } {
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

function asUnreadable(error: unknown, path: string): LakeError {
  if (error instanceof LakeError) return error;
  return new LakeError('bad-file', `${path}: not a readable Avro file: ${(error as Error).message}.`, { path }, { cause: error });
}

/** One block, deflated. `sync` is the 16-byte marker between blocks. */
export async function writeAvro(schema: AvroSchema, metadata: Record<string, string>, records: unknown[], sync: Uint8Array): Promise<Uint8Array> {
  const type = typeFor(schema);
  const header = { 'avro.schema': JSON.stringify(schema), 'avro.codec': 'deflate', ...metadata };
  const entries = Object.entries(header).flatMap(([key, value]) => [lengthPrefixed(toBytes(key)), lengthPrefixed(toBytes(value))]);
  const body = Buffer.concat(records.map((record) => type.toBuffer(record)));
  const block = records.length === 0 ? [] : [long(records.length), lengthPrefixed(await pipe(body, new CompressionStream('deflate-raw'))), sync];
  return Buffer.concat([Buffer.from(MAGIC), long(Object.keys(header).length), ...entries, long(0), sync, ...block]);
}

async function decompress(bytes: Buffer, codec: string, path: string): Promise<Uint8Array> {
  if (codec === 'null') return bytes;
  if (codec === 'deflate') return Buffer.from(await pipe(bytes, new DecompressionStream('deflate-raw')));
  throw new LakeError('unsupported', `${path} is compressed with the Avro codec "${codec}"; null and deflate are supported.`, { path });
}

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

class Cursor {
  at = 0;
  constructor(
    readonly buffer: Buffer,
    readonly path: string,
  ) {}

  long(): number {
    let value = 0;
    let scale = 1;
    for (;;) {
      const byte = this.take(1)[0]!;
      value += (byte & 0x7f) * scale;
      if (byte < 128) return value % 2 === 0 ? value / 2 : -(value + 1) / 2;
      scale *= 128;
    }
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
