import { closeSync, openSync, readSync } from 'node:fs';
import { constants, gunzipSync } from 'node:zlib';
import { unzstdHead } from '../storage/unpack';

/** So much of a file is looked through, packed or not. */
const MOST_BYTES = 8 * 1024 * 1024;

/**
 * The lines in the first 8 MB of a text file of this machine, unpacked; undefined for what cannot be read. For finding a
 * line's number, not for reading tables: a line that lies farther in has none.
 */
export function linesOf(file: string): string[] | undefined {
  try {
    const head = headOf(file);
    const plain = head[0] === 0x1f && head[1] === 0x8b ? gunzipped(head) : head.length >= 4 && head.readUInt32LE(0) === 0xfd2fb528 ? unzstdHead(head, MOST_BYTES) : head;
    return new TextDecoder().decode(plain.subarray(0, MOST_BYTES)).split(/\r?\n/);
  } catch {
    return undefined;
  }
}

function headOf(file: string): Buffer {
  const handle = openSync(file, 'r');
  try {
    const head = Buffer.alloc(MOST_BYTES);
    return head.subarray(0, readSync(handle, head, 0, MOST_BYTES, 0));
  } finally {
    closeSync(handle);
  }
}

/** Nothing where it unpacks to more, as a small file can that is made to. */
function gunzipped(head: Buffer): Buffer {
  return gunzipSync(head, { maxOutputLength: MOST_BYTES * 4, finishFlush: constants.Z_SYNC_FLUSH });
}
