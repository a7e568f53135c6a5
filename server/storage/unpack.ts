/** Unpacking, whole streams or just what the first bytes of a file hold. */
import { createRequire } from 'node:module';
import { createGunzip } from 'node:zlib';
import { PassThrough, pipeline, Readable, Transform } from 'node:stream';
import type { ReadableStream } from 'node:stream/web';
import { Decompress } from 'fzstd';
import unbzip2 from 'unbzip2-stream';
import type { Compression } from '../../core/folder/read-options';
import { Lz4Frames } from './lz4-frames';
import { SnappyFrames } from './snappy-frames';

// A CommonJS module whose names Node.js does not find.
const { XzReadableStream } = createRequire(import.meta.url)('xz-decompress') as typeof import('xz-decompress');

export type Packing = Exclude<Compression, 'none' | 'auto'>;

const UNPACKERS: Record<Packing, (stream: Readable) => Readable> = {
  gzip: (stream) => through(stream, createGunzip()),
  zstd: (stream) => through(stream, zstdStream()),
  // Of the old kind of streams, whose errors are passed on by nobody else.
  bzip2: (stream) => {
    const plain = new PassThrough();
    pipeline(stream, unbzip2() as unknown as Transform, plain, () => undefined);
    return plain;
  },
  xz: (stream) => Readable.fromWeb(new XzReadableStream(Readable.toWeb(stream) as never) as unknown as ReadableStream),
  lz4: (stream) => Readable.from(framed(stream, new Lz4Frames())),
  snappy: (stream) => Readable.from(framed(stream, new SnappyFrames())),
};

export function unpackedBy(stream: Readable, compression: Packing | 'none'): Readable {
  return compression === 'none' ? stream : UNPACKERS[compression](stream);
}

function through(stream: Readable, unpack: Transform): Transform {
  stream.on('error', (error) => unpack.destroy(error));
  return stream.pipe(unpack);
}

async function* framed(stream: Readable, frames: Lz4Frames | SnappyFrames): AsyncGenerator<Buffer> {
  for await (const chunk of stream) yield* frames.push(chunk as Buffer);
  frames.end();
}

function zstdStream(): Transform {
  const parts: Uint8Array[] = [];
  const unpacker = new Decompress((part) => parts.push(part));
  const push = (stream: Transform, chunk: Uint8Array, isLast: boolean, done: (error?: Error | null) => void) => {
    try {
      unpacker.push(chunk, isLast);
      for (const part of parts.splice(0)) stream.push(part);
      done();
    } catch (error) {
      done(error as Error);
    }
  };
  return new Transform({
    transform(chunk: Buffer, _encoding, done) { push(this, chunk, false, done); },
    flush(done) { push(this, new Uint8Array(), true, done); },
  });
}

/** At most so many bytes of what a zstd head stands for; of one that is cut short what it has. */
export function unzstdHead(head: Uint8Array, most: number): Buffer {
  const parts: Uint8Array[] = [];
  let bytes = 0;
  try {
    const unpacker = new Decompress((part) => {
      parts.push(part);
      bytes += part.length;
      if (bytes > most) throw new Error('that is enough');
    });
    unpacker.push(head);
    unpacker.push(new Uint8Array(), true);
  } catch {
    // Cut short, or damaged, or enough: the blocks before are what there is.
  }
  return Buffer.concat(parts).subarray(0, most);
}

/** A packed head can stand for a thousand times its size; no more than this is unpacked of it. */
const MOST_UNPACKED = 4 * 1024 * 1024;

/** What can be unpacked of a file's first bytes, up to 4 MB; a packed file that is cut short gives what it has. */
export async function unpackHead(head: Uint8Array, compression: Packing | 'none'): Promise<Uint8Array> {
  if (compression === 'none') return head;
  if (compression === 'zstd') return unzstdHead(head, MOST_UNPACKED);
  const parts: Buffer[] = [];
  let bytes = 0;
  try {
    for await (const part of unpackedBy(Readable.from([head]), compression)) {
      parts.push(part as Buffer);
      bytes += (part as Buffer).length;
      if (bytes > MOST_UNPACKED) break;
    }
  } catch {
    // Cut short, or damaged: what came before is what there is.
  }
  return Buffer.concat(parts).subarray(0, MOST_UNPACKED);
}
