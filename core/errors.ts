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
  /** Name of the table's column whose value does not fit. */
  field?: string;
  /** The text that does not fit it. */
  value?: string;
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

/** What to do about an error: its own word on that, else what holds for its kind. */
export function hintOf({ kind, details }: LakeError): string | undefined {
  return details.hint ?? HINTS[kind];
}

const HINTS: Partial<Record<ErrorKind, string>> = {
  'bad-file': 'Put back a whole copy of the file, or take it out of the folder; of a table, go back to a version before it.',
  unsupported: 'Have the file or table written without it, or read it with a program that knows it.',
  limit: 'Ask for less at a time, or raise the limit in the settings.',
  unavailable: 'Try again in a moment.',
  conflict: 'Look at what changed, then try again.',
  'not-found': 'Look whether the name is right, and whether it was moved or removed.',
};

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
