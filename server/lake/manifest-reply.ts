/** What a worker that decodes manifests is asked and answers, and the form in which it keeps them. */
import { deserialize } from 'node:v8';
import type { ErrorDetails, ErrorKind } from '../../core/errors';
import type { EntryColumns } from '../../core/iceberg/entry-columns';

export interface ManifestAsk {
  id: number;
  /** What errors call it. */
  name: string;
  /** A file of this machine, or the bytes; absent where only a kept one is asked for. */
  source: string | Uint8Array | undefined;
  /** Where the decoded manifest is kept. */
  cached: string;
}

export type ManifestAnswer = { id: number; columns: EntryColumns | undefined } | { id: number; problem: { kind: ErrorKind; message: string; details: ErrorDetails } };

/** Kept files begin with it; another form of columns has another. */
export const CACHE_FORM = 'KHM2';

/** Undefined for a kept file that is of another form or damaged. */
export function readKept(bytes: Buffer): EntryColumns | undefined {
  if (bytes.toString('latin1', 0, CACHE_FORM.length) !== CACHE_FORM) return undefined;
  try {
    return deserialize(bytes.subarray(CACHE_FORM.length)) as EntryColumns;
  } catch {
    return undefined;
  }
}
