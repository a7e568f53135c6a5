/** What is wrong with bytes that could not be understood, in our own words: those of a library mean nothing to who reads them. */
import { LakeError } from './errors';

/** A clause without a stop. Our own errors keep their words; those of the language and of libraries are told as what they come from. */
export function faultWords(error: unknown): string {
  if (error instanceof LakeError) return error.message.replace(/\.$/, '');
  const { message } = error as Error;
  if (error instanceof SyntaxError) return jsonWords(message);
  if (error instanceof TypeError || error instanceof RangeError || FOREIGN.test(message)) return 'what it holds does not fit together, so it is damaged';
  return message.replace(/\.$/, '');
}

/** Of the readers of Parquet and packed bytes. */
const FOREIGN = /^(parquet |unsupported |unknown |invalid |unexpected )|undefined|\bis not a|snappy|zstd|gzip|inflate|brotli|lz4|thrift|get_next_output|central directory|local file header|unexpected EOF|tar header|corrupted|incorrect (header|data) check|invalid (stored|block|distance|code|window|literal)|too far back/i;

function jsonWords(message: string): string {
  if (/end of JSON|Unterminated/i.test(message)) return 'it is no JSON: it ends in the middle';
  const near = /, (?:\.\.\.)?"(.*?)"(?:\.\.\.)? is not valid JSON/s.exec(message)?.[1];
  return near === undefined ? 'it is no JSON' : `it is no JSON near ${near.slice(0, 40)}`;
}

/** The error as a LakeError that also names `path`, keeping what it already says. */
export function inFile(error: unknown, path: string): LakeError {
  if (error instanceof LakeError) return error.details.path ? error : new LakeError(error.kind, error.message, { ...error.details, path });
  return new LakeError('bad-file', `${path}: ${faultWords(error)}.`, { path }, { cause: error });
}

/**
 * Work on what a table says of itself. Where that does not fit together in a way that nobody looked for, the table is told as
 * damaged; the cause goes along for the log. What names neither file nor table gets the table's name.
 */
export async function readingTable<T>(table: string, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (error instanceof TypeError || error instanceof RangeError || error instanceof SyntaxError) {
      throw new LakeError('bad-file', `${table} is damaged: what its log or metadata says does not fit together.`, { table, hint: 'Go back to a version before it, or put back whole copies of its log or metadata.' }, { cause: error });
    }
    if (!(error instanceof LakeError) || error.details.path !== undefined || error.details.table !== undefined) throw error;
    throw new LakeError(error.kind, error.message.includes(table) ? error.message : `${table}: ${error.message}`, { ...error.details, table }, { cause: error });
  }
}
