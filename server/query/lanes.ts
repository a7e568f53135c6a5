/**
 * Whose turn it is. Queries and statements that make rows are let in apart, each in a lane of its own, so that neither waits
 * for the other; within a lane the turn goes to whoever has least under way. What takes long gives its quick place up for a
 * long one, so that long work of some does not keep short work of others waiting.
 */
import { LakeError } from '../../core/errors';
import { cancelled } from './under-way';

export interface LaneSize {
  /** Places for what has only begun. */
  quick: number;
  /** Places more, for what takes long. */
  long: number;
}

interface Turn {
  person: string;
  begin: () => void;
  isLong: boolean;
}

/** From then on it counts as long. */
const LONG_MS = 1500;
/** Of one person; more are refused, so that nobody fills the memory with what waits. */
const MOST_WAITING = 1000;

export class Lane {
  readonly #waiting: Turn[] = [];
  readonly #running = new Set<Turn>();

  constructor(
    readonly size: LaneSize,
    readonly longMs = LONG_MS,
  ) {}

  get waiting(): number {
    return this.#waiting.length;
  }

  get running(): number {
    return this.#running.size;
  }

  /** Runs the work when it is `person`'s turn. What still waits when the signal comes fails with `cancelled`. */
  async run<T>(person: string, work: () => Promise<T>, signal?: AbortSignal): Promise<T> {
    if (signal?.aborted) throw cancelled();
    if (this.#waiting.filter((each) => each.person === person).length >= MOST_WAITING) throw new LakeError('unavailable', `${MOST_WAITING} statements of ${person} wait already. Try again when some are done.`);
    const turn: Turn = { person, begin: () => undefined, isLong: false };
    await new Promise<void>((resolve, reject) => {
      const leave = () => {
        this.#waiting.splice(this.#waiting.indexOf(turn), 1);
        reject(cancelled());
      };
      turn.begin = () => {
        signal?.removeEventListener('abort', leave);
        resolve();
      };
      signal?.addEventListener('abort', leave, { once: true });
      this.#waiting.push(turn);
      this.#next();
    });
    const timer = setTimeout(() => this.#becomesLong(turn), this.longMs);
    try {
      return await work();
    } finally {
      clearTimeout(timer);
      this.#running.delete(turn);
      this.#next();
    }
  }

  /** Where no long place is free it stays where it is, until one is. */
  #becomesLong(turn: Turn): void {
    if (!this.#running.has(turn)) return;
    if (this.#count((each) => each.isLong) < this.size.long) turn.isLong = true;
    else setTimeout(() => this.#becomesLong(turn), this.longMs / 10).unref();
    this.#next();
  }

  #next(): void {
    while (this.#count((each) => !each.isLong) < this.size.quick) {
      const chosen = this.#fairest();
      if (!chosen) return;
      this.#waiting.splice(this.#waiting.indexOf(chosen), 1);
      this.#running.add(chosen);
      chosen.begin();
    }
  }

  /** The oldest of whoever has least under way; nobody takes the last place while all of theirs are taken by long work. */
  #fairest(): Turn | undefined {
    const under = new Map<string, number>();
    for (const { person } of this.#running) under.set(person, (under.get(person) ?? 0) + 1);
    const most = this.size.quick + this.size.long - 1;
    let chosen: Turn | undefined;
    for (const each of this.#waiting) {
      const count = under.get(each.person) ?? 0;
      if (count < most && (!chosen || count < (under.get(chosen.person) ?? 0))) chosen = each;
    }
    return chosen;
  }

  #count(isCounted: (turn: Turn) => boolean): number {
    let count = 0;
    for (const each of this.#running) if (isCounted(each)) count++;
    return count;
  }
}
