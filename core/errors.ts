/** What went wrong, in a form that every layer above can show without guessing. */
export type ErrorKind =
  | 'bad-request' // the caller asked for something malformed
  | 'not-found' // a named thing does not exist
  | 'bad-file' // bytes in storage are not what they claim to be
  | 'unsupported' // valid by its specification, but a feature we do not read or write
  | 'conflict' // somebody else's change came first
  | 'unknown-caller' // the token is not good
  | 'refused' // not allowed
  | 'limit' // a limit on time, memory, rows or bytes was reached
  | 'cancelled'
  | 'unavailable'; // what does the work is not there just now; trying again may help

export interface ErrorDetails {
  /** Path inside the storage. */
  path?: string;
  line?: number;
  /** 1-based column within the line, in characters. */
  column?: number;
  table?: string;
  version?: number;
  /** What the reader can do about it. */
  hint?: string;
  /** Zero-based offset in the query text. */
  position?: number;
}

/** An error whose message and details may be shown to the user as they are. */
export class LakeError extends Error {
  override readonly name = 'LakeError';

  constructor(
    readonly kind: ErrorKind,
    message: string,
    readonly details: ErrorDetails = {},
    options?: ErrorOptions,
  ) {
    super(message, options);
  }
}

/** A load that is in the table already: nothing was written, and trying again would not change that. An answer more than a failure. */
export class AlreadyLoaded extends LakeError {
  constructor(
    table: string,
    /** The version that has it, where it is known. */
    readonly loadedIn: number | undefined,
  ) {
    super('conflict', `${table} has this load already${loadedIn === undefined ? '' : `, in version ${loadedIn}`}; nothing was written twice.`, { table, ...(loadedIn === undefined ? {} : { version: loadedIn }) });
  }
}

/** Gives errors of the work another place in the text, which may follow from the one they have. */
export async function placingErrors<T>(place: (before: number | undefined) => number | undefined, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (!(error instanceof LakeError)) throw error;
    const position = place(error.details.position);
    if (position === undefined || position === error.details.position) throw error;
    throw new LakeError(error.kind, error.message, { ...error.details, position }, { cause: error });
  }
}

/** The error as a LakeError that also names `path`, keeping what it already says. */
export function inFile(error: unknown, path: string): LakeError {
  if (error instanceof LakeError) return error.details.path ? error : new LakeError(error.kind, error.message, { ...error.details, path });
  const message = error instanceof Error ? error.message : String(error);
  return new LakeError('bad-file', `${path}: ${message}`, { path }, { cause: error });
}
