import { parquetReadObjects, type AsyncBuffer } from 'hyparquet';
import { compressors } from 'hyparquet-compressors';
import { inFile, LakeError } from '../errors';
import type { ObjectStore } from '../storage/object-store';

/** The bytes of a stored file as the Parquet reader wants them. */
async function buffer(store: ObjectStore, path: string): Promise<AsyncBuffer> {
  const info = await store.head(path);
  if (!info) throw new LakeError('not-found', `There is no file ${path}.`, { path });
  return {
    byteLength: info.bytes,
    slice: async (start, end = info.bytes) => {
      const bytes = await store.read(path, { start, end });
      return bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.byteLength) as ArrayBuffer;
    },
  };
}

/** Every row as an object. For small files of metadata, not for table data. */
export async function readParquetRows(store: ObjectStore, path: string): Promise<Record<string, unknown>[]> {
  try {
    return await parquetReadObjects({ file: await buffer(store, path), compressors });
  } catch (error) {
    throw inFile(error, path);
  }
}
