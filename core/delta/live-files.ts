/** The live files of one version: as a list in memory, or by an index of a large checkpoint with what came after it. */
import type { Predicate } from '../scan/predicate';
import type { LogicalType } from '../schema/types';
import type { ObjectStore } from '../storage/object-store';
import type { Add, Remove } from './actions';
import { fileKey } from './file-key';

export type LiveFile = [key: string, add: Add];

/** What is left to be judged file by file, and what was ruled out without being looked at. */
export interface Candidates {
  files: LiveFile[];
  ruledOut: { byPartition: number; byBounds: number; bytes: number };
}

export interface LiveFiles {
  readonly count: number;
  readonly bytes: number;
  /** Those of the keys that are live. */
  get(keys: readonly string[]): Promise<Map<string, Add>>;
  /** `predicate` speaks of columns by their physical names. */
  candidates(predicate: Predicate): Promise<Candidates>;
  /** Every file, some thousands at a time. */
  batches(): AsyncIterable<LiveFile[]>;
  /** Rows of all files, where every file says. */
  rows(): Promise<number | undefined>;
  /** Tombstones that lie in the index; those since are kept with the state. */
  olderRemoves(): AsyncIterable<Remove[]>;
  edit(): FilesEditor;
}

/** Takes changes one after the other; the files that it came from stay as they are. */
export interface FilesEditor {
  remove(remove: Remove): void;
  add(add: Add): void;
  done(): LiveFiles;
}

export async function allFiles(files: LiveFiles): Promise<Map<string, Add>> {
  const all = new Map<string, Add>();
  for await (const batch of files.batches()) for (const [key, add] of batch) all.set(key, add);
  return all;
}

export class ListedFiles implements LiveFiles {
  readonly #files: ReadonlyMap<string, Add>;
  readonly count: number;
  #bytes: number | undefined;

  constructor(files: ReadonlyMap<string, Add> = new Map()) {
    this.#files = files;
    this.count = files.size;
  }

  get bytes(): number {
    return (this.#bytes ??= [...this.#files.values()].reduce((sum, add) => sum + Number(add.size), 0));
  }

  async get(keys: readonly string[]): Promise<Map<string, Add>> {
    return new Map(keys.flatMap((key) => {
      const add = this.#files.get(key);
      return add ? [[key, add] as const] : [];
    }));
  }

  async candidates(): Promise<Candidates> {
    return { files: [...this.#files], ruledOut: { byPartition: 0, byBounds: 0, bytes: 0 } };
  }

  async *batches(): AsyncIterable<LiveFile[]> {
    yield [...this.#files];
  }

  async rows(): Promise<number | undefined> {
    return undefined;
  }

  async *olderRemoves(): AsyncIterable<Remove[]> {
    // All tombstones are kept with the state.
  }

  edit(): FilesEditor {
    const files = new Map(this.#files);
    return {
      remove: (remove) => void files.delete(fileKey(remove)),
      add: (add) => void files.set(fileKey(add), add),
      done: () => new ListedFiles(files),
    };
  }
}

/** A column whose values or bounds an index knows. */
export interface IndexedColumn {
  /** Physical names from the top down. */
  path: string[];
  type: LogicalType;
  isPartition: boolean;
}

/** The port behind which files of a large checkpoint are kept in columns, ready to be searched. */
export interface FileIndex {
  readonly count: number;
  readonly bytes: number;
  readonly rows: number | undefined;
  readonly columns: readonly IndexedColumn[];
  find(keys: readonly string[]): Promise<Add[]>;
  /** Of the files that are ruled out it is counted how many partitions alone rule out, those of the keys `without` left out. */
  candidates(predicate: Predicate, without: readonly string[]): Promise<{ adds: Add[]; byPartition: number }>;
  batches(): AsyncIterable<Add[]>;
  removes(): AsyncIterable<Remove[]>;
}

/** Makes indexes of checkpoints, and keeps them. */
export interface CheckpointIndexes {
  /** Checkpoints of so many bytes are indexed; smaller ones are read whole. */
  readonly fromBytes: number;
  /** The actions of Parquet checkpoint files that are neither add nor remove, as JSON has them. */
  head(store: ObjectStore, paths: readonly string[]): Promise<Record<string, unknown>[]>;
  open(store: ObjectStore, paths: readonly string[], columns: readonly IndexedColumn[]): Promise<FileIndex>;
}

/** An index, and the changes since. */
export class IndexedFiles implements LiveFiles {
  constructor(
    readonly index: FileIndex,
    /** Keys of the index that are no more. */
    readonly gone: ReadonlySet<string> = new Set(),
    readonly added: ReadonlyMap<string, Add> = new Map(),
    readonly count = index.count,
    readonly bytes = index.bytes,
  ) {}

  async get(keys: readonly string[]): Promise<Map<string, Add>> {
    const found = new Map<string, Add>();
    const asked: string[] = [];
    for (const key of keys) {
      const add = this.added.get(key);
      if (add) found.set(key, add);
      else if (!this.gone.has(key)) asked.push(key);
    }
    if (asked.length > 0) for (const add of await this.index.find(asked)) found.set(fileKey(add), add);
    return found;
  }

  async candidates(predicate: Predicate): Promise<Candidates> {
    const { adds, byPartition } = await this.index.candidates(predicate, [...this.gone]);
    const live = this.#live(adds);
    const left = [...live, ...this.added];
    const ruledOut = this.count - left.length;
    return { files: left, ruledOut: { byPartition, byBounds: ruledOut - byPartition, bytes: this.bytes - left.reduce((sum, [, add]) => sum + Number(add.size), 0) } };
  }

  async *batches(): AsyncIterable<LiveFile[]> {
    for await (const batch of this.index.batches()) yield this.#live(batch);
    yield [...this.added];
  }

  async rows(): Promise<number | undefined> {
    if (this.index.rows === undefined || this.gone.size > 0) return undefined;
    return this.added.size === 0 ? this.index.rows : undefined;
  }

  olderRemoves(): AsyncIterable<Remove[]> {
    return this.index.removes();
  }

  edit(): FilesEditor {
    const [gone, added] = [new Set(this.gone), new Map(this.added)];
    let { count, bytes } = this;
    return {
      remove: (remove) => {
        const key = fileKey(remove);
        const own = added.get(key);
        if (!own && gone.has(key)) return;
        // A file that was added again by the same key is in the index too, so it goes there as well.
        const size = Number(own?.size ?? remove.size ?? 0);
        gone.add(key);
        added.delete(key);
        count--;
        bytes -= size;
      },
      add: (add) => {
        const key = fileKey(add);
        if (!added.has(key)) count++;
        bytes += Number(add.size) - Number(added.get(key)?.size ?? 0);
        added.set(key, add);
      },
      done: () => new IndexedFiles(this.index, gone, added, count, bytes),
    };
  }

  #live(adds: readonly Add[]): LiveFile[] {
    return adds.map((add): LiveFile => [fileKey(add), add]).filter(([key]) => !this.gone.has(key) && !this.added.has(key));
  }
}
