/** What the demo needs to make its lake: trusted SQL, a place for files, and the core's ports with a time of their own. */
import type { RowFiles } from '../core/table/row-files';
import type { Clock, Ids, ObjectStore } from '../core/storage/object-store';
import type { MetadataPointer } from '../core/iceberg/pointer';

export interface DemoPorts {
  /** Runs trusted SQL; statements may follow each other. */
  run(sql: string): Promise<{ columns: string[]; rows: unknown[][] }>;
  /** Where files lie on disk, for the engine's own writing of landing files. */
  localRoot: string;
  store: ObjectStore;
  rowFiles: RowFiles;
  /** Registers an Iceberg table and gives the pointer that its commits swap. */
  icebergPointer(name: string, location: string, description: string): Promise<MetadataPointer>;
  registerDelta(name: string, location: string, description: string): Promise<void>;
  registerView(name: string, sql: string, description: string): Promise<void>;
  clock: DemoClock;
  ids: Ids;
  /** Multiplies the soundings. */
  scale: number;
  /** Has the measurements of the n-th day at hand in `demo.soundings`. */
  wantDay(n: number): Promise<void>;
  progress(doing: string, done: number, total: number): void;
}

/** A clock that is set by hand; the demo's history lies in fixed years. */
export class DemoClock implements Clock {
  #now = 0;

  set(iso: string): void {
    this.#now = Date.parse(iso);
    if (Number.isNaN(this.#now)) throw new Error(`"${iso}" is not a time`);
  }

  now(): number {
    return this.#now;
  }
}

/** Identifiers from a seed: the same on every run. */
export class SeededIds implements Ids {
  #state: number;

  constructor(seed: number) {
    this.#state = seed >>> 0;
  }

  uuid(): string {
    const hex = Array.from({ length: 4 }, () => this.#next().toString(16).padStart(8, '0')).join('');
    return hex.replace(/^(.{8})(.{4}).(.{3}).(.{3})(.{12})$/, '$1-$2-4$3-a$4-$5');
  }

  snapshotId(): number {
    return (this.#next() % 2 ** 20) * 2 ** 32 + this.#next() + 1;
  }

  /** A 32-bit mixing generator (splitmix-like). */
  #next(): number {
    this.#state = (this.#state + 0x9e3779b9) >>> 0;
    let mixed = this.#state;
    mixed = Math.imul(mixed ^ (mixed >>> 16), 0x85ebca6b);
    mixed = Math.imul(mixed ^ (mixed >>> 13), 0xc2b2ae35);
    return (mixed ^ (mixed >>> 16)) >>> 0;
  }
}

export const FIRST_DAY = '2026-01-01';
export const DAYS = 90;
export const PLACES = ['Gannet Sound', 'Holm Quay', 'Brackle Point', 'Whinny Sands', 'Otter Ness', 'Low Scar', 'Merrow Lock', 'Pell Island'] as const;

/** The day `n` days after the first, as `yyyy-mm-dd`. */
export function dayText(n: number): string {
  return new Date(Date.parse(FIRST_DAY) + n * 86_400_000).toISOString().slice(0, 10);
}

export function slug(place: string): string {
  return place.toLowerCase().replaceAll(' ', '-');
}
