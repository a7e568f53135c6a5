import { open } from 'node:fs/promises';

/** The bytes of [start, end) of a file of this machine; fewer where it is shorter. */
export async function readPart(file: string, { start, end }: { start: number; end: number }): Promise<Uint8Array> {
  const handle = await open(file);
  try {
    const size = Math.max(0, Math.min(end, (await handle.stat()).size) - start);
    const bytes = Buffer.alloc(size);
    const { bytesRead } = await handle.read(bytes, 0, size, start);
    return bytes.subarray(0, bytesRead);
  } finally {
    await handle.close();
  }
}
