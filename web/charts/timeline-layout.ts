/** Where the steps of a table's history stand on a line: by time, with empty parts shortened, binned when there are too many. */
import type { TimelineEntry } from '../api/types';

export interface Stem {
  /** Indexes into the entries, both included; equal unless several steps are drawn as one. */
  first: number;
  last: number;
  x: number;
  rowsAdded: number;
  rowsRemoved: number;
  changesColumns: boolean;
  isUpkeep: boolean;
  /** `8`, `8–21`, or '' for a step without a version of its own. */
  label: string;
}

export interface TimelineLayout {
  stems: Stem[];
  /** Places at which more time passed than is drawn. */
  breaks: number[];
  dates: DateMark[];
  isBinned: boolean;
}

export interface DateMark {
  x: number;
  at: number;
  /** Said once, and again when it changes. */
  withYear: boolean;
}

/** The least room between two stems, in px: a version number and a handle fit. */
export const LEAST_GAP = 24;
const MARGIN = 34;
/** A gap longer than this many usual gaps is shortened. */
const LONG = 3;
const DATE_ROOM = 86;

/** `from` and `to` are the indexes of the first and last entry to be drawn. */
export function layoutTimeline(entries: readonly TimelineEntry[], width: number, from = 0, to = entries.length - 1): TimelineLayout {
  const room = Math.max(LEAST_GAP, width - 2 * MARGIN);
  const count = to - from + 1;
  const size = Math.max(1, Math.ceil(count / (Math.floor(room / LEAST_GAP) + 1)));
  const groups: [number, number][] = [];
  for (let start = from; start <= to; start += size) groups.push([start, Math.min(to, start + size - 1)]);
  const gaps = groups.slice(1).map(([start], index) => Math.max(0, entries[start]!.at - entries[groups[index]![1]]!.at));
  const cap = LONG * median(gaps.filter((gap) => gap > 0));
  const drawn = gaps.map((gap) => Math.min(gap, cap));
  const total = drawn.reduce((sum, gap) => sum + gap, 0);
  const spare = Math.max(0, room - LEAST_GAP * gaps.length);
  let x = MARGIN;
  const xs = [x, ...drawn.map((gap) => (x += LEAST_GAP + (total === 0 ? 0 : (spare * gap) / total)))];
  const stems = groups.map(([first, last], index) => stem(entries, first, last, xs[index]!));
  return {
    stems,
    breaks: gaps.flatMap((gap, index) => (gap > cap && cap > 0 ? [(xs[index]! + xs[index + 1]!) / 2] : [])),
    dates: datesOf(stems, entries),
    isBinned: size > 1,
  };
}

function median(values: number[]): number {
  const sorted = [...values].sort((a, b) => a - b);
  return sorted[Math.floor(sorted.length / 2)] ?? 0;
}

function stem(entries: readonly TimelineEntry[], first: number, last: number, x: number): Stem {
  const steps = entries.slice(first, last + 1);
  const versions = steps.map((each) => each.version).filter((version) => version !== undefined);
  const [low, high] = [versions[0], versions.at(-1)];
  return {
    first, last, x,
    rowsAdded: steps.reduce((sum, each) => sum + (each.rowsAdded ?? 0), 0),
    rowsRemoved: steps.reduce((sum, each) => sum + (each.rowsRemoved ?? 0), 0),
    changesColumns: steps.some((each) => each.changesColumns || each.kind === 'columns'),
    isUpkeep: steps.every((each) => each.kind === 'upkeep'),
    label: low === undefined ? '' : low === high ? String(low) : `${low}–${high}`,
  };
}

/** A date above the first stem, and above later ones of another day where there is room. */
function datesOf(stems: readonly Stem[], entries: readonly TimelineEntry[]): DateMark[] {
  const dates: DateMark[] = [];
  for (const { x, first } of stems) {
    const at = entries[first]!.at;
    const last = dates.at(-1);
    const sameDay = last && new Date(last.at).toDateString() === new Date(at).toDateString();
    if (!last || (!sameDay && x - last.x >= DATE_ROOM)) dates.push({ x, at, withYear: !last || new Date(last.at).getFullYear() !== new Date(at).getFullYear() });
  }
  return dates;
}

/** Where a handle stands: right of its stem, never on one. */
export function handleX(layout: TimelineLayout, stemIndex: number): number {
  const here = layout.stems[stemIndex]!.x;
  const next = layout.stems[stemIndex + 1]?.x ?? here + LEAST_GAP;
  return here + Math.min(LEAST_GAP / 2, (next - here) / 2);
}

/** The stem nearest to a place, for dragging a handle. */
export function nearestStem(layout: TimelineLayout, x: number): number {
  const distances = layout.stems.map((_, index) => Math.abs(handleX(layout, index) - x));
  return distances.indexOf(Math.min(...distances));
}
