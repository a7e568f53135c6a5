/**
 * Statements here work out a change in milliseconds, outside engines in seconds, and those find out by themselves that the
 * table has moved on: with several of ours in a row they would never get through. When an outside writer looks at a table
 * to change it, statements of this server that run are let finish and later ones wait, for about as long as the writer
 * usually takes, or until it has committed. Then it is the turn of those that waited before it is given way again.
 */
import { setTimeout as sleep } from 'node:timers/promises';

/** Never longer than this in a row. */
const MOST_MS = 15_000;
/** What an engine takes at least from its first look to its commit, and how much longer than usual it may take. */
const USUAL_MS = 3_000;
const LONGER = 1.5;
/** Statements that run when the writer looks are waited for, for so long. */
const FINISH_MS = 1_000;
/** Who committed within this time is a writer, and so is who looked so often, in vain as it seems. */
const WRITER_MS = 600_000;
const LOOKS_IN_VAIN = 4;

interface Caller {
  /** When it looked at the table for its next change. */
  looked: number;
  looks: number;
  committed: number;
  usual: number;
}

interface Way {
  until: number;
  release: () => void;
  released: Promise<void>;
}

export class GivingWay {
  readonly #callers = new Map<string, Caller>();
  readonly #ways = new Map<string, Way>();
  readonly #running = new Map<string, Set<Promise<unknown>>>();

  constructor(readonly now: () => number = () => Date.now()) {}

  /** A caller that may write has looked at the table. Resolves when nothing of ours is about to change what it is shown. */
  async looks(table: string, who: string): Promise<void> {
    const caller = this.#callerOf(table, who);
    const now = this.now();
    if (caller.looks === 0) caller.looked = now;
    caller.looks++;
    const isWriter = now - caller.committed < WRITER_MS || caller.looks >= LOOKS_IN_VAIN;
    if (!isWriter || (this.#ways.get(table)?.until ?? 0) > now) return;
    const running = [...(this.#running.get(table) ?? [])];
    this.#open(table, now + Math.min(MOST_MS, caller.usual * LONGER));
    if (running.length > 0) await waitFor(Promise.allSettled(running), FINISH_MS);
  }

  /** It got through. */
  committed(table: string, who: string): void {
    const caller = this.#callerOf(table, who);
    const now = this.now();
    if (caller.looks > 0) caller.usual = Math.min(MOST_MS, Math.max(USUAL_MS, (caller.usual + (now - caller.looked)) / 2));
    Object.assign(caller, { committed: now, looks: 0 });
    const way = this.#ways.get(table);
    this.#ways.delete(table);
    way?.release();
  }

  /** Runs a statement of ours that changes the table, once nobody is to be given way. */
  async inTurn<T>(table: string, work: () => Promise<T>): Promise<T> {
    const way = this.#ways.get(table);
    const left = (way?.until ?? 0) - this.now();
    if (way && left > 0) await waitFor(way.released, left);
    const running = work();
    const all = this.#running.get(table) ?? new Set();
    this.#running.set(table, all.add(running));
    try {
      return await running;
    } finally {
      all.delete(running);
      if (all.size === 0) this.#running.delete(table);
    }
  }

  #open(table: string, until: number): void {
    let release: () => void = () => undefined;
    const released = new Promise<void>((resolve) => {
      release = resolve;
    });
    this.#ways.set(table, { until, release, released });
  }

  #callerOf(table: string, who: string): Caller {
    const key = `${table}\0${who}`;
    const known = this.#callers.get(key);
    if (known) return known;
    const made = { looked: 0, looks: 0, committed: -Infinity, usual: USUAL_MS };
    this.#callers.set(key, made);
    if (this.#callers.size > 1000) this.#callers.delete(this.#callers.keys().next().value!);
    return made;
  }
}

async function waitFor(what: Promise<unknown>, milliseconds: number): Promise<void> {
  const timer = new AbortController();
  await Promise.race([what, sleep(milliseconds, undefined, { signal: timer.signal }).catch(() => undefined)]);
  timer.abort();
}
