/**
 * What was read of one log. Commits never change once written, so what is kept stays right as long as the log goes on;
 * where a log turns out to be another one (a table dropped and made again in its place) a new memory is begun, and work
 * that still runs on the old log keeps the old memory and cannot spoil the new one.
 */
import { Lru } from '../lru';
import type { Snapshot } from '../table/contract';
import type { Commit } from './actions';
import type { LogListing } from './log';
import type { LogState } from './state';

/** A handful of states is enough: the latest, and those that people look at. */
const STATES_KEPT = 8;
const COMMITS_KEPT = 2000;
const VECTORS_KEPT = 500;

export class LogMemory {
  readonly commits = new Lru<Commit>(COMMITS_KEPT);
  readonly snapshots = new Lru<Snapshot>(STATES_KEPT);
  readonly vectors = new Lru<Promise<Uint32Array>>(VECTORS_KEPT);
  readonly #states = new Map<number, LogState>();
  /** The newest version that was summed up since the log was listed. */
  summedUp = -1;

  state(version: number): LogState | undefined {
    return this.#states.get(version);
  }

  /** The newest kept state of a version up to `version`. */
  stateBefore(version: number): LogState | undefined {
    let newest: LogState | undefined;
    for (const state of this.#states.values()) if (state.version <= version && state.version > (newest?.version ?? -1)) newest = state;
    return newest;
  }

  keep(state: LogState): void {
    this.#states.delete(state.version);
    this.#states.set(state.version, state);
    if (this.#states.size > STATES_KEPT) this.#states.delete(this.#states.keys().next().value!);
  }
}

/** A listing, with what was read of the log that it lists. */
export interface TableLog extends LogListing {
  readonly memory: LogMemory;
}
