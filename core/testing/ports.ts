/** The core's ports for tests: a clock that is set by hand, ids from a counter, and files that only claim to have been written. */
import type { Clock, Ids } from '../storage/object-store';
import type { WrittenFile } from '../table/written-file';
import type { Value } from '../values/value';

export class HandClock implements Clock {
  constructor(public at = Date.parse('2026-01-01T00:00:00Z')) {}

  now(): number {
    return this.at;
  }
}

/** Different for each `start`, so that several writers never share an id. */
export class CountingIds implements Ids {
  constructor(public next = 1) {}

  uuid(): string {
    return `00000000-0000-4000-8000-${String(this.next++).padStart(12, '0')}`;
  }

  snapshotId(): number {
    return this.next++;
  }
}

export function testPorts(start = 1, at?: string) {
  return { clock: new HandClock(at ? Date.parse(at) : undefined), ids: new CountingIds(start * 1_000_000), who: `writer ${start}` };
}

/** A data file with a bigint column `n` from `min` to `max`. */
export function writtenFile(path: string, min: number, max: number, partition: Record<string, Value | null> = {}): WrittenFile {
  const rows = max - min + 1;
  return { path, bytes: 100 + rows, rows, partition, columns: [{ path: ['n'], min: String(min), max: String(max), nullCount: 0, valueCount: rows, bytes: 8 * rows }] };
}
