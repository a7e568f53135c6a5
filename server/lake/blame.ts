/** Which of the files that were read is damaged: the engine mostly does not say. */
import { LakeError } from '../../core/errors';
import { quoteText } from '../../core/sql/tokens';
import type { EngineCalls } from '../engine/engine';

/** So many are tried one by one, and of so many bytes together. */
const MOST_FILES = 200;
const MOST_BYTES = 2e9;

export interface Suspect {
  /** On this machine. */
  local: string;
  /** As people name it: `storage:path`. */
  name: string;
  path: string;
  bytes: number;
}

/** The error with the first file named that cannot be read by itself; as it is where it names one already, is of another kind, or none is found. */
export async function namingTheFile(error: unknown, engine: EngineCalls, suspects: readonly Suspect[]): Promise<unknown> {
  if (!(error instanceof LakeError) || error.kind !== 'bad-file' || error.details.path !== undefined) return error;
  let bytes = 0;
  for (const { local, name, path, bytes: own } of suspects.slice(0, MOST_FILES)) {
    if ((bytes += own) > MOST_BYTES) break;
    const isGood = await engine.call('run', { sql: `SELECT count(hash(t)) FROM read_parquet(${quoteText(local)}, hive_partitioning = false) AS t` }).then(() => true, () => false);
    if (!isGood) return new LakeError('bad-file', error.message.replace(/^A file of (.*?) is damaged/, `${name} is damaged, a file of $1`), { ...error.details, path }, { cause: error });
  }
  return error;
}
