import { LakeError } from '../errors';
import { planScan, totalsOf, type DataFile, type FileReader } from '../scan/plan';
import type { Predicate } from '../scan/predicate';
import { findField, type Field } from '../schema/types';
import type { ObjectInfo, ObjectStore } from '../storage/object-store';
import { listForPattern } from '../storage/members';
import { below, isHidden, joinPath } from '../storage/paths';
import type { AsOf, LakeTable, Snapshot, TableFormat, TimelineEntry } from '../table/contract';
import { pickVersion } from '../table/versions';
import { constantStats } from '../scan/constant-stats';
import { parseValue } from '../values/text';
import { parsePattern, type PathPattern } from './path-pattern';
import type { ReadOptions } from './read-options';

/** Plain files under one folder, read as a table. */
export interface FolderDefinition {
  /** Relative to the table's root, see path-pattern. */
  pattern: string;
  options: ReadOptions;
  /** Partitions that are hidden, or whose files lie in another folder than the pattern says. */
  exceptions?: PartitionException[];
  /** What the files showed when this was registered, in the order of `fields`; those may have been corrected since. */
  found?: Field[];
  /** Name of the saved options that these are a copy of. */
  readWith?: string;
  /** Columns in the files, then those from the path. */
  fields: Field[];
  partitionColumns: string[];
}

/** A partition, by some or all of its column texts. */
export interface PartitionException {
  values: Record<string, string | null>;
  /** Null hides it; else the folder, from the storage's root, that its files are read from. */
  folder: string | null;
}

/** One state of a folder: the files that were seen. Numbered from 1, a new number for each listing that differs. */
export interface Listing {
  version: number;
  /** Milliseconds since the epoch when it was first seen. */
  at: number;
  files: ObjectInfo[];
}

/** Where listings are remembered; plain folders have no history of their own. */
export interface ListingLog {
  /** Oldest first. */
  all(): Promise<Listing[]>;
  /** The listing's number: that of the last one if nothing differs, else the next. */
  record(files: ObjectInfo[]): Promise<Listing>;
}

export class FolderTable implements LakeTable {
  readonly format: TableFormat;

  constructor(
    readonly store: ObjectStore,
    readonly root: string,
    readonly name: string,
    readonly definition: FolderDefinition,
    readonly listings: ListingLog,
  ) {
    this.format = definition.options.format;
  }

  async history(): Promise<TimelineEntry[]> {
    await this.#current();
    const all = await this.listings.all();
    return all.map((listing, index) => difference(listing, all[index - 1]));
  }

  async snapshot(asOf: AsOf): Promise<Snapshot> {
    const current = await this.#current();
    const listing = asOf.kind === 'latest' ? current : pickVersion(this.name, await this.listings.all(), asOf);
    if (listing.version !== current.version) this.#refuseChangedFiles(listing, current);
    return this.#snapshotOf(listing);
  }

  /** Files that match the pattern now; empty and hidden ones are ignored. */
  async #current(): Promise<Listing> {
    const pattern = parsePattern(this.definition.pattern);
    const exceptions = this.definition.exceptions ?? [];
    const files = (await listForPattern(this.store, this.root, this.definition.pattern)).filter((file) => {
      const relative = below(this.root, file.path)!;
      const values = file.bytes > 0 && !isHidden(relative) ? pattern.match(relative) : undefined;
      // A folder that a partition was pointed to counts for that one alone, even inside this table.
      return values !== undefined && !exceptions.some((exception) => isOf(values, exception) || (exception.folder !== null && below(exception.folder, file.path) !== undefined));
    });
    const elsewhere = await Promise.all(exceptions.flatMap(({ folder }) => (folder === null ? [] : [this.store.list(folder).then((found) => found.filter((file) => file.bytes > 0 && !isHidden(below(folder, file.path)!)))])));
    return this.listings.record([...files, ...elsewhere.flat()]);
  }

  /** The column texts of a file: those of its path, or of the partition that was pointed to its folder. */
  #partitionOf(pattern: PathPattern, path: string): Record<string, string | null> {
    const exception = this.definition.exceptions?.find(({ folder }) => folder !== null && below(folder, path) !== undefined);
    if (exception) return exception.values;
    const relative = below(this.root, path);
    return (relative === undefined ? undefined : pattern.match(relative)) ?? {};
  }

  /** A plain folder keeps no old bytes: a state can be read again only while its files are as they were. */
  #refuseChangedFiles(old: Listing, current: Listing): void {
    const now = new Map(current.files.map((file) => [file.path, file]));
    const changed = old.files.filter((file) => now.get(file.path)?.bytes !== file.bytes || now.get(file.path)?.modified !== file.modified || now.get(file.path)?.etag !== file.etag);
    if (changed.length === 0) return;
    throw new LakeError('not-found', `${this.name} can no longer be read as it was at version ${old.version}: ${changed.length} of its ${old.files.length} files changed or went since, ${changed[0]!.path} first.`, {
      table: this.name, version: old.version, path: changed[0]!.path, hint: 'Plain folders keep no old files. A Delta or Iceberg table does.',
    });
  }

  #snapshotOf(listing: Listing): Snapshot {
    const { fields, options, partitionColumns } = this.definition;
    let files: DataFile[] | undefined;
    const dataFiles = () => (files ??= this.#dataFiles(listing));
    const reader: FileReader = options.format === 'parquet' ? { kind: 'parquet', match: 'name' } : { kind: 'text', options };
    return {
      format: this.format,
      version: listing.version,
      at: listing.at,
      schema: { fields },
      partitioning: partitionColumns.map((name) => ({ source: name, transform: 'identity', name })),
      sortedBy: [],
      properties: {},
      files: async () => dataFiles(),
      totals: async () => totalsOf(dataFiles()),
      plan: async (predicate: Predicate) => planScan(reader, fields, dataFiles(), predicate),
    };
  }

  #dataFiles(listing: Listing): DataFile[] {
    const pattern = parsePattern(this.definition.pattern);
    return listing.files.map((file) => {
      const partition = this.#partitionOf(pattern, file.path);
      const constants = Object.fromEntries(Object.entries(partition).map(([name, text]) => [name, this.#partitionValue(name, text, file.path)]));
      return {
        path: file.path,
        bytes: file.bytes,
        modified: file.modified,
        ...(file.etag === undefined ? {} : { etag: file.etag }),
        partition,
        constants,
        partitionStats: constantStats(constants, this.definition.fields),
        stats: () => undefined,
      };
    });
  }

  #partitionValue(name: string, text: string | null, path: string) {
    if (text === null) return null;
    const type = findField(this.definition.fields, name)?.type ?? { kind: 'string' };
    try {
      return parseValue(type, text);
    } catch (error) {
      throw new LakeError('bad-file', `${this.name}: the folder of ${path} gives "${text}" for ${name}, which is declared ${type.kind}.`, {
        table: this.name, path, hint: 'Crawl the folder again to find a type that fits all, or move the file away.',
      }, { cause: error });
    }
  }
}

function isOf(values: Record<string, string | null>, exception: PartitionException): boolean {
  return Object.entries(exception.values).every(([name, value]) => values[name] === value);
}

/** The full path of a pattern inside its storage, as people read it. */
export function fullPattern(root: string, definition: FolderDefinition): string {
  return joinPath(root, definition.pattern);
}

function difference(listing: Listing, before: Listing | undefined): TimelineEntry {
  const old = new Map(before?.files.map((file) => [file.path, file]));
  const now = new Map(listing.files.map((file) => [file.path, file]));
  const same = (a: ObjectInfo | undefined, b: ObjectInfo) => a?.bytes === b.bytes && a.modified === b.modified && a.etag === b.etag;
  const came = listing.files.filter((file) => !same(old.get(file.path), file));
  const went = (before?.files ?? []).filter((file) => !same(now.get(file.path), file));
  const bytes = (files: ObjectInfo[]) => files.reduce((sum, file) => sum + file.bytes, 0);
  return {
    version: listing.version, at: listing.at, kind: before ? 'listing' : 'create', operation: before ? 'files changed' : 'first seen',
    filesAdded: came.length, filesRemoved: went.length, bytesAdded: bytes(came), bytesRemoved: bytes(went), changesColumns: false, details: {},
  };
}

/** Listings kept in memory, for tests and for folders that are not registered. */
export class MemoryListings implements ListingLog {
  readonly #all: Listing[] = [];
  constructor(readonly now: () => number = () => Date.now()) {}

  async all(): Promise<Listing[]> {
    return this.#all;
  }

  async record(files: ObjectInfo[]): Promise<Listing> {
    const last = this.#all.at(-1);
    if (last && listingKey(last.files) === listingKey(files)) return last;
    const next = { version: (last?.version ?? 0) + 1, at: this.now(), files };
    this.#all.push(next);
    return next;
  }
}

/** Equal for listings with the same paths, sizes, modified times and etags. */
export function listingKey(files: readonly ObjectInfo[]): string {
  return files.map((file) => `${file.path}\0${file.bytes}\0${file.modified}\0${file.etag ?? ''}`).join('\n');
}
