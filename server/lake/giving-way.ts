/**
 * Statements here work out a change in milliseconds, outside engines in seconds: with several of ours in a row they would
 * never get through. An outside writer that was refused is given time to come again, for as long as it took before, while
 * statements of this server on the same table wait; afterwards those have as long to themselves.
 */
import { setTimeout as sleep } from 'node:timers/promises';

/** Never longer than this in a row. */
const MOST_MS = 15_000;
/** An engine may take somewhat longer than the last time. */
const LONGER = 1.5;
const LEAST_MS = 250;

interface Way {
  until: number;
  /** From when another may be given. */
  again: number;
  release: () => void;
  released: Promise<void>;
}

export class GivingWay {
  readonly #begun = new Map<string, number>();
  readonly #ways = new Map<string, Way>();

  constructor(readonly now: () => number = () => Date.now()) {}

  /** An outside writer looked at the table, which its next change will be made on. */
  began(table: string, caller: string): void {
    this.#begun.set(`${table}\0${caller}`, this.now());
    if (this.#begun.size > 1000) this.#begun.delete(this.#begun.keys().next().value!);
  }

  refused(table: string, caller: string): void {
    const now = this.now();
    if ((this.#ways.get(table)?.again ?? 0) > now) return;
    const took = now - (this.#begun.get(`${table}\0${caller}`) ?? now);
    const length = Math.min(MOST_MS, took * LONGER + LEAST_MS);
    let release: () => void = () => undefined;
    const released = new Promise<void>((resolve) => {
      release = resolve;
    });
    this.#ways.set(table, { until: now + length, again: now + 2 * length, release, released });
  }

  /** It got through. */
  done(table: string): void {
    const way = this.#ways.get(table);
    this.#ways.delete(table);
    way?.release();
  }

  /** Until nobody is to be given way on the table any more. */
  async wait(table: string): Promise<void> {
    const way = this.#ways.get(table);
    const left = (way?.until ?? 0) - this.now();
    if (!way || left <= 0) return;
    const timer = new AbortController();
    await Promise.race([way.released, sleep(left, undefined, { signal: timer.signal }).catch(() => undefined)]);
    timer.abort();
  }
}
