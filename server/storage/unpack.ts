/** Unpacking, whole streams or just what the first bytes of a file hold. */
import { createGunzip } from 'node:zlib';
import { Transform, type Readable } from 'node:stream';
import { Decompress } from 'fzstd';
import type { Compression } from '../../core/folder/read-options';

export function unpackedBy(stream: Readable, compression: Compression): Readable {
  if (compression === 'none') return stream;
  const unpack = compression === 'gzip' ? createGunzip() : zstdStream();
  stream.on('error', (error) => unpack.destroy(error));
  return stream.pipe(unpack);
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
export async function unpackHead(head: Uint8Array, compression: Compression): Promise<Uint8Array> {
  if (compression === 'none') return head;
  if (compression === 'zstd') return unzstdHead(head, MOST_UNPACKED);
  return new Promise((resolve) => {
    const gunzip = createGunzip();
    const parts: Buffer[] = [];
    let bytes = 0;
    const done = () => resolve(Buffer.concat(parts).subarray(0, MOST_UNPACKED));
    gunzip.on('data', (part: Buffer) => {
      parts.push(part);
      bytes += part.length;
      if (bytes > MOST_UNPACKED) gunzip.destroy();
    }).on('close', done).on('end', done).on('error', done);
    gunzip.end(head);
  });
}
