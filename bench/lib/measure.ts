/** Timing with a reference in the same run: both sides in turn, several times, medians and spread. */
export interface Timing {
  median: number;
  least: number;
  most: number;
}

export const RUNS = 5;

function timing(samples: number[]): Timing {
  const sorted = [...samples].sort((a, b) => a - b);
  return { median: sorted[Math.floor(sorted.length / 2)]!, least: sorted[0]!, most: sorted.at(-1)! };
}

export async function timed(work: () => Promise<unknown>): Promise<number> {
  const started = performance.now();
  await work();
  return performance.now() - started;
}

/** Each side is run once to warm up, then `runs` times in turn. */
export async function interleaved(ours: () => Promise<unknown>, reference: () => Promise<unknown>, runs = RUNS): Promise<{ ours: Timing; reference: Timing }> {
  await ours();
  await reference();
  const mine: number[] = [];
  const theirs: number[] = [];
  for (let i = 0; i < runs; i++) {
    theirs.push(await timed(reference));
    mine.push(await timed(ours));
  }
  return { ours: timing(mine), reference: timing(theirs) };
}

export async function repeated(work: () => Promise<unknown>, runs = RUNS): Promise<Timing> {
  const samples: number[] = [];
  for (let i = 0; i < runs; i++) samples.push(await timed(work));
  return timing(samples);
}

export function timeText({ median, least, most }: Timing): string {
  return `${millis(median)} (${millis(least)} to ${millis(most)})`;
}

export function millis(value: number): string {
  return value >= 1000 ? `${(value / 1000).toFixed(2)} s` : `${value.toFixed(value < 10 ? 1 : 0)} ms`;
}

/** One line of the report. */
export interface Claim {
  what: string;
  limit: string;
  measured: string;
  /** What it was measured against, where that is a reference and not a fixed number. */
  reference: string;
  holds: boolean;
}
