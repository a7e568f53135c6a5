/** Statements under way: each under an id of its own, and to be stopped or asked after by whoever runs it alone. */
import { LakeError } from '../../core/errors';
import type { Identity } from '../access/access';

export class UnderWay {
  readonly #all = new Map<string, { as: Identity; abort: AbortController }>();

  /** `isUsed` tells whether a receipt has the id already. Fails with `conflict` for an id that was used before, whoever used it. */
  async run<T>(id: string, as: Identity, isUsed: () => Promise<boolean>, work: () => Promise<T>): Promise<T> {
    const used = new LakeError('conflict', 'A statement was run under this id before. Choose another, or leave it out.');
    if (this.#all.has(id)) throw used;
    this.#all.set(id, { as, abort: new AbortController() });
    try {
      if (await isUsed()) throw used;
      return await work();
    } finally {
      this.#all.delete(id);
    }
  }

  /** Undefined for what is not under way. */
  signalOf(id: string): AbortSignal | undefined {
    return this.#all.get(id)?.abort.signal;
  }

  /** Whether it is under way and theirs; the person at this machine may see to all. */
  isOf(id: string, as: Identity): boolean {
    const found = this.#all.get(id);
    return found !== undefined && (as.kind === 'person' || (found.as.kind === 'token' && found.as.id === as.id));
  }

  abort(id: string): boolean {
    const found = this.#all.get(id);
    found?.abort.abort();
    return found !== undefined;
  }
}

export const cancelled = () => new LakeError('cancelled', 'The query was cancelled.');

/** The work's outcome, or `cancelled` as soon as the signal says so; for work that changes nothing. */
export function unlessAborted<T>(signal: AbortSignal | undefined, work: Promise<T>): Promise<T> {
  if (!signal) return work;
  return new Promise((resolve, reject) => {
    const stop = () => reject(cancelled());
    if (signal.aborted) stop();
    signal.addEventListener('abort', stop, { once: true });
    work.then(resolve, reject).finally(() => signal.removeEventListener('abort', stop));
  });
}
