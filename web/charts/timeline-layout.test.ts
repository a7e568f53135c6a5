import { describe, expect, it } from 'vitest';
import type { TimelineEntry } from '../api/types';
import { handleX, layoutTimeline, LEAST_GAP, nearestStem } from './timeline-layout';

const DAY = 86_400_000;
const entry = (version: number | undefined, day: number, more: Partial<TimelineEntry> = {}): TimelineEntry => ({
  ...(version === undefined ? {} : { version }), at: day * DAY, kind: 'append', operation: 'WRITE', rowsAdded: 1, rowsRemoved: 0, filesAdded: 1, filesRemoved: 0, bytesAdded: 1, bytesRemoved: 0, changesColumns: false, details: {}, ...more,
});
const daily = (count: number) => Array.from({ length: count }, (_, index) => entry(index, index));

describe('the timeline', () => {
  it('spaces steps by time, in order, within the width', () => {
    const { stems, breaks } = layoutTimeline([entry(0, 0), entry(1, 1), entry(2, 3)], 600);
    const [a, b, c] = stems.map((stem) => stem.x);
    expect(c! - b!).toBeGreaterThan(b! - a!);
    expect([a! >= 0, c! <= 600]).toEqual([true, true]);
    expect(breaks).toEqual([]);
  });

  it('shortens a long empty part and marks it between its neighbours', () => {
    const { stems, breaks } = layoutTimeline([...daily(5), entry(5, 400), entry(6, 401)], 800);
    expect(breaks.length).toBe(1);
    expect(breaks[0]!).toBeGreaterThan(stems[4]!.x);
    expect(breaks[0]!).toBeLessThan(stems[5]!.x);
    expect(stems[5]!.x - stems[4]!.x).toBeLessThan(400);
  });

  it('keeps room for a number between any two stems, also at the same moment', () => {
    const { stems } = layoutTimeline([entry(0, 0), entry(1, 0), entry(2, 0), entry(3, 90)], 500);
    stems.slice(1).forEach((stem, index) => expect(stem.x - stems[index]!.x).toBeGreaterThanOrEqual(LEAST_GAP - 1e-9));
  });

  it('draws thousands of versions as a few stems that lose none, and opens a part of them', () => {
    const all = daily(5000);
    const { stems, isBinned } = layoutTimeline(all, 1000);
    expect(isBinned).toBe(true);
    expect(stems.length).toBeLessThan(1000 / LEAST_GAP);
    expect(stems.reduce((sum, stem) => sum + stem.rowsAdded, 0)).toBe(5000);
    expect(stems.map(({ first, last }) => last - first + 1).reduce((sum, count) => sum + count, 0)).toBe(5000);
    const { first, last } = stems[3]!;
    expect(layoutTimeline(all.slice(0, 20), 1000, 5, 9).stems.map((stem) => stem.label)).toEqual(['5', '6', '7', '8', '9']);
    expect(layoutTimeline(all, 100_000, first, last).stems.length).toBe(last - first + 1);
  });

  it('stands its handle between stems, and finds the stem of a handle', () => {
    const layout = layoutTimeline(daily(10), 700);
    layout.stems.forEach((stem, index) => {
      const x = handleX(layout, index);
      expect(x).toBeGreaterThan(stem.x);
      if (layout.stems[index + 1]) expect(x).toBeLessThan(layout.stems[index + 1]!.x);
      expect(nearestStem(layout, x + 3)).toBe(index);
    });
  });

  it('labels what has no version with nothing, and the year once', () => {
    const { stems, dates } = layoutTimeline([entry(0, 0), entry(undefined, 60, { kind: 'columns' }), entry(1, 120), entry(2, 500)], 900);
    expect(stems.map((stem) => stem.label)).toEqual(['0', '', '1', '2']);
    expect(stems[1]!.changesColumns).toBe(true);
    expect(dates.map((date) => date.withYear)).toEqual([true, false, false, true]);
  });
});
