/** Keeps what was used last; what was not used for longest is forgotten first. */
export class Lru<V> {
  readonly #kept = new Map<string, V>();

  constructor(readonly most: number) {}

  get(key: string): V | undefined {
    const value = this.#kept.get(key);
    if (value === undefined) return undefined;
    this.#kept.delete(key);
    this.#kept.set(key, value);
    return value;
  }

  set(key: string, value: V): void {
    this.#kept.delete(key);
    this.#kept.set(key, value);
    if (this.#kept.size > this.most) this.#kept.delete(this.#kept.keys().next().value!);
  }

  delete(key: string): void {
    this.#kept.delete(key);
  }

  clear(): void {
    this.#kept.clear();
  }
}

/** The promise kept for `key`, or a new one; one that fails is not kept. */
export function keepPromise<T>(kept: Lru<Promise<T>>, key: string, make: () => Promise<T>): Promise<T> {
  const known = kept.get(key);
  if (known) return known;
  const made = make();
  kept.set(key, made);
  // Another may stand in its place by then.
  made.catch(() => {
    if (kept.get(key) === made) kept.delete(key);
  });
  return made;
}
