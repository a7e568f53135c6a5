/** A file's bytes, for looking into it: as they are, or of a copy where they are packed in a way that is slow to look into. */
import { stat } from 'node:fs/promises';
import { compressionByBytes, PACKING_BYTES } from '../../core/crawl/kinds';
import { isUnpackedByEngine, type Compression } from '../../core/folder/read-options';
import type { ObjectInfo } from '../../core/storage/object-store';
import { readPart } from '../storage/read-part';
import { unpackHead, type Packing } from '../storage/unpack';
import type { OpenStorage } from './lake';
import type { LocalFiles } from './local-files';

export interface PlainFile {
  /** How the file is packed. */
  packing: Packing | 'none';
  /** How the bytes that are read here are packed. */
  compression: Packing | 'none';
  /** Of what is read here. */
  bytes: number;
  read(range: { start: number; end: number }): Promise<Uint8Array>;
}

/** `packing` is found out by the first bytes where it is not given. */
export async function withPlainFile<T>(
  local: LocalFiles,
  storage: OpenStorage,
  file: ObjectInfo,
  packing: Compression | undefined,
  use: (plain: PlainFile) => Promise<T>,
): Promise<T> {
  const packed =
    packing === undefined || packing === 'auto'
      ? compressionByBytes(await storage.store.read(file.path, { start: 0, end: PACKING_BYTES }))
      : packing;
  if (isUnpackedByEngine(packed))
    return use({
      packing: packed,
      compression: packed,
      bytes: file.bytes,
      read: (range) => storage.store.read(file.path, range),
    });
  const lease = await local.lease(storage, [{ ...file, packed }]);
  const copy = lease.pathOf(file);
  try {
    return await use({
      packing: packed,
      compression: 'none',
      bytes: (await stat(copy)).size,
      read: (range) => readPart(copy, range),
    });
  } finally {
    lease.release();
  }
}

/** The first bytes of a file, unpacked. Of a packed file so many are read, and what they hold is given. */
export async function plainHead(
  local: LocalFiles,
  storage: OpenStorage,
  file: ObjectInfo,
  bytes: number,
): Promise<Uint8Array> {
  const head = await storage.store.read(file.path, { start: 0, end: bytes });
  const packed = compressionByBytes(head);
  if (isUnpackedByEngine(packed)) return unpackHead(head, packed);
  return withPlainFile(local, storage, file, packed, (plain) => plain.read({ start: 0, end: bytes }));
}
