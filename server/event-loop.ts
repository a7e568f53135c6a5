/** How long the program stood still at the longest: whatever holds the event loop holds every answer. */
import { monitorEventLoopDelay, type IntervalHistogram } from 'node:perf_hooks';

/** How finely stops are told; it is part of what is measured, and taken off. */
const RESOLUTION_MS = 5;

export class EventLoopWatch {
  readonly #histogram: IntervalHistogram = monitorEventLoopDelay({ resolution: RESOLUTION_MS });

  constructor() {
    this.#histogram.enable();
  }

  /** In milliseconds, since it was last asked to begin anew. */
  longest(beginAnew = false): number {
    const millis = Math.max(0, this.#histogram.max / 1e6 - RESOLUTION_MS);
    if (beginAnew) this.#histogram.reset();
    return Math.round(millis * 10) / 10;
  }

  stop(): void {
    this.#histogram.disable();
  }
}
