import { readFileSync } from 'node:fs';
import { gunzipSync } from 'node:zlib';
import { decompress as unzstd } from 'fzstd';

/** The lines of a text file of this machine, unpacked; undefined for what cannot be read. For finding a line's number, not for reading tables. */
export function linesOf(file: string): string[] | undefined {
  try {
    const bytes = readFileSync(file);
    const plain = bytes[0] === 0x1f && bytes[1] === 0x8b ? gunzipSync(bytes) : bytes.length >= 4 && bytes.readUInt32LE(0) === 0xfd2fb528 ? unzstd(bytes) : bytes;
    return new TextDecoder().decode(plain).split(/\r?\n/);
  } catch {
    return undefined;
  }
}
