/** What is slow and what is uneven in a write, in words. */
import { formatBytes } from '../../core/values/bytes';
import type { CostPart, Forecast } from '../../core/write/forecast';

/** Below this nobody waits. */
const WORTH_SAYING_MS = 2000;
/** A file of so many times the mean holds the others up. */
const UNEVEN = 3;

export function costWords(costs: readonly CostPart[]): string[] {
  return costs.flatMap(({ what, millis, memoryBytes, diskBytes }) => {
    if (what !== 'order') return [];
    if (diskBytes > 0) return [`Putting the rows in order takes about ${secondsText(millis)}; they do not fit in the engine's ${formatBytes(memoryBytes)} of memory, so ${formatBytes(diskBytes)} go through its own files.`];
    return millis < WORTH_SAYING_MS ? [] : [`Putting the rows in order takes about ${secondsText(millis)} and ${formatBytes(memoryBytes)} of memory.`];
  });
}

export function unevenWords({ largest, files }: Pick<Forecast, 'largest' | 'files'>): string[] {
  if (!largest || files < 2 || largest.timesMean < UNEVEN) return [];
  return [`${largest.path} has ${largest.timesMean.toFixed(1)} times the rows of the mean file.`];
}

function secondsText(millis: number): string {
  return millis < 1000 ? `${Math.round(millis)} ms` : `${(millis / 1000).toFixed(1)} s`;
}
