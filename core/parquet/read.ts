import { parquetReadObjects, type AsyncBuffer } from 'hyparquet';
import { compressors } from 'hyparquet-compressors';
import { LakeError } from '../errors';
import { inFile } from '../fault-words';
import type { ObjectStore } from '../storage/object-store';

/** The bytes of a stored file as the Parquet reader wants them. */
async function buffer(store: ObjectStore, path: string): Promise<AsyncBuffer> {
  const info = await store.head(path);
  if (!info) throw new LakeError('not-found', `There is no file ${path}.`, { path });
  return {
    byteLength: info.bytes,
    slice: (start, end = info.bytes) => {
      const reading = store.read(path, { start, end }).then((bytes) => bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.byteLength) as ArrayBuffer);
      // The reader asks for parts ahead, and does not wait for them once another has failed.
      reading.catch(() => undefined);
      return reading;
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
