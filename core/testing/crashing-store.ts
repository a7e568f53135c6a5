/** A store that stops for good at its n-th call, before or after the call had its effect: what a killed writer looks like to others. */
import type { FolderPage, ObjectInfo, ObjectStore } from '../storage/object-store';

export class Crash extends Error {
  constructor() {
    super('the writer was killed');
  }
}

export class CrashingStore implements ObjectStore {
  calls = 0;

  constructor(
    readonly inner: ObjectStore,
    readonly dieAt: number,
    readonly moment: 'before' | 'after' = 'before',
  ) {}

  get uri(): string {
    return this.inner.uri;
  }

  list(folder: string): Promise<ObjectInfo[]> {
    return this.#step(() => this.inner.list(folder));
  }

  listFolder(folder: string): Promise<FolderPage> {
    return this.#step(() => this.inner.listFolder(folder));
  }

  head(path: string): Promise<ObjectInfo | undefined> {
    return this.#step(() => this.inner.head(path));
  }

  read(path: string, range?: { start: number; end: number }): Promise<Uint8Array> {
    return this.#step(() => this.inner.read(path, range));
  }

  put(path: string, bytes: Uint8Array): Promise<void> {
    return this.#step(() => this.inner.put(path, bytes));
  }

  putIfAbsent(path: string, bytes: Uint8Array): Promise<boolean> {
    return this.#step(() => this.inner.putIfAbsent(path, bytes));
  }

  delete(path: string): Promise<void> {
    return this.#step(() => this.inner.delete(path));
  }

  async #step<T>(work: () => Promise<T>): Promise<T> {
    const call = ++this.calls;
    if (call > this.dieAt || (call === this.dieAt && this.moment === 'before')) throw new Crash();
    const result = await work();
    if (call === this.dieAt) throw new Crash();
    return result;
  }
}
