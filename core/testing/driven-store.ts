/**
 * A store whose every call waits before and after its effect until a test lets it go on. With a seed the order in which
 * waiting calls go on is random and repeatable, so that any interleaving of several writers can be tried and kept.
 */
import type { FolderPage, ObjectInfo, ObjectStore } from '../storage/object-store';

/** Numbers in [0, 1) that follow from the seed (mulberry32, public domain). */
export function seeded(seed: number): () => number {
  let state = seed >>> 0;
  return () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let mixed = Math.imul(state ^ (state >>> 15), state | 1);
    mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61);
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 2 ** 32;
  };
}

/** Decides which of the waiting calls goes on next. */
export class Scheduler {
  readonly #random: () => number;
  readonly #waiting: (() => void)[] = [];

  constructor(seed: number) {
    this.#random = seeded(seed);
  }

  /** Resolves when it is this caller's turn. */
  pause(): Promise<void> {
    return new Promise((resolve) => this.#waiting.push(resolve));
  }

  /** An integer below `count`, by the same seed. */
  pick(count: number): number {
    return Math.floor(this.#random() * count);
  }

  /** Lets one waiting call after the other go on until the work is done. Fails when all wait for something else. */
  async run<T>(work: Promise<T>): Promise<T> {
    let isDone = false;
    const ended = () => {
      isDone = true;
    };
    work.then(ended, ended);
    for (let idle = 0; !isDone; ) {
      // All that follows from the last step without a call of the store happens before the next is let go.
      await new Promise((resolve) => setImmediate(resolve));
      if (this.#waiting.length === 0) {
        if (++idle > 10_000) throw new Error('The work waits for something that the scheduler does not drive.');
        continue;
      }
      idle = 0;
      this.#waiting.splice(this.pick(this.#waiting.length), 1)[0]!();
    }
    return work;
  }
}

export class DrivenStore implements ObjectStore {
  constructor(
    readonly inner: ObjectStore,
    readonly scheduler: Pick<Scheduler, 'pause'>,
  ) {}

  get uri(): string {
    return this.inner.uri;
  }

  list(folder: string): Promise<ObjectInfo[]> {
    return this.#paused(() => this.inner.list(folder));
  }

  listFolder(folder: string): Promise<FolderPage> {
    return this.#paused(() => this.inner.listFolder(folder));
  }

  head(path: string): Promise<ObjectInfo | undefined> {
    return this.#paused(() => this.inner.head(path));
  }

  read(path: string, range?: { start: number; end: number }): Promise<Uint8Array> {
    return this.#paused(() => this.inner.read(path, range));
  }

  put(path: string, bytes: Uint8Array): Promise<void> {
    return this.#paused(() => this.inner.put(path, bytes));
  }

  putIfAbsent(path: string, bytes: Uint8Array): Promise<boolean> {
    return this.#paused(() => this.inner.putIfAbsent(path, bytes));
  }

  delete(path: string): Promise<void> {
    return this.#paused(() => this.inner.delete(path));
  }

  async #paused<T>(work: () => Promise<T>): Promise<T> {
    await this.scheduler.pause();
    try {
      return await work();
    } finally {
      await this.scheduler.pause();
    }
  }
}
