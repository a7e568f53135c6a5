import { LakeError } from '../errors';
import { planScan, type DataFile } from '../scan/plan';
import type { Predicate } from '../scan/predicate';
import { remembering } from '../scan/prune';
import { constantStats } from '../scan/constant-stats';
import { findField, type TableSchema } from '../schema/types';
import type { ObjectStore } from '../storage/object-store';
import { below, joinPath } from '../storage/paths';
import type { AsOf, LakeTable, Snapshot, TimelineEntry } from '../table/contract';
import { pickVersion } from '../table/versions';
import { parseValue } from '../values/text';
import type { Add, Commit } from './actions';
import { buildHistory, commitTimes } from './history';
import { applyCommit, commitPath, earliestVersion, listLog, readCheckpoint, readCommit, type LogListing, type LogState } from './log';
import { checkReadable } from './protocol';
import { parseSchema } from './schema';
import { rowCountOf, statsLookup } from './stats';

/** A Delta table in a folder of a store. Keeps what it has read: commits never change once written. */
export class DeltaTable implements LakeTable {
  readonly format = 'delta';
  readonly #commits = new Map<number, Commit>();
  readonly #states = new Map<number, LogState>();

  /** `root` is the table's folder inside the store; `name` is what errors call it. */
  constructor(
    readonly store: ObjectStore,
    readonly root: string,
    readonly name: string,
  ) {}

  async history(): Promise<TimelineEntry[]> {
    const log = await this.log();
    const first = earliestVersion(log, this.root, this.name);
    const states = [await this.state(first, log)];
    for (let version = first + 1; version <= log.latest; version++) {
      states.push(applyCommit(states.at(-1), await this.#commit(version, log), this.name));
    }
    const commits = await Promise.all(states.map(({ version }) => (log.commits.has(version) ? this.#commit(version, log) : undefined)));
    return buildHistory(states, commits, log, this.name);
  }

  async snapshot(asOf: AsOf): Promise<Snapshot> {
    const log = await this.log();
    const first = earliestVersion(log, this.root, this.name);
    const version = asOf.kind === 'latest' ? log.latest : await this.#versionAt(asOf, log, first);
    const state = await this.state(version, log);
    checkReadable(this.name, version, state.protocol, state.metadata);
    return this.#snapshotOf(state, await this.#timeOf(version, log, first));
  }

  /** The log as it is listed now. */
  async log(): Promise<LogListing> {
    return listLog(this.store, this.root, this.name);
  }

  /** The reconciled state of one version. */
  async state(version: number, log: LogListing): Promise<LogState> {
    const kept = this.#states.get(version);
    if (kept) return kept;
    const from = Math.max(-1, ...[...this.#states.keys(), ...log.checkpoints.keys()].filter((each) => each <= version));
    let state = this.#states.get(from);
    if (!state && from >= 0) state = applyCommit(undefined, await readCheckpoint(this.store, log.checkpoints.get(from)!, from), this.name);
    for (let next = from + 1; next <= version; next++) state = applyCommit(state, await this.#commit(next, log), this.name);
    this.#keep(state!);
    return state!;
  }

  async #versionAt(asOf: AsOf, log: LogListing, first: number): Promise<number> {
    // A version that is named needs no other commit read, so damage after it does not matter.
    if (asOf.kind === 'number' && asOf.number >= BigInt(first) && asOf.number <= BigInt(log.latest)) return Number(asOf.number);
    const times = await this.#times(log, first, log.latest);
    return pickVersion(this.name, times.map((at, index) => ({ version: first + index, at })), asOf).version;
  }

  async #timeOf(version: number, log: LogListing, first: number): Promise<number> {
    const own = log.commits.has(version) ? (await this.#commit(version, log)).info?.inCommitTimestamp : undefined;
    return own !== undefined ? Number(own) : (await this.#times(log, first, version)).at(-1)!;
  }

  async #times(log: LogListing, first: number, last: number): Promise<number[]> {
    const commits: (Commit | undefined)[] = [];
    for (let version = first; version <= last; version++) commits.push(log.commits.has(version) ? await this.#commit(version, log) : undefined);
    return commitTimes(commits, first, log);
  }

  async #commit(version: number, log: LogListing): Promise<Commit> {
    const kept = this.#commits.get(version);
    if (kept) return kept;
    const path = log.commits.get(version)?.path ?? commitPath(this.root, version);
    if (!log.commits.has(version)) throw new LakeError('bad-file', `${this.name}: the commit file ${path} is missing.`, { table: this.name, version, path });
    const commit = await readCommit(this.store, path, version);
    this.#commits.set(version, commit);
    return commit;
  }

  /** A handful of states is enough: the latest, and those that people look at. */
  #keep(state: LogState): void {
    this.#states.set(state.version, state);
    if (this.#states.size > 8) this.#states.delete(this.#states.keys().next().value!);
  }

  #snapshotOf(state: LogState, at: number): Snapshot {
    const { metadata } = state;
    const schema = parseSchema(metadata.schemaString, this.name);
    let files: DataFile[] | undefined;
    const dataFiles = () => (files ??= [...state.files].map(([path, add]) => this.#dataFile(path, add, schema, metadata.partitionColumns)));
    return {
      format: 'delta',
      version: state.version,
      at,
      schema,
      partitioning: metadata.partitionColumns.map((name) => ({ source: name, transform: 'identity', name })),
      sortedBy: [],
      properties: metadata.configuration,
      files: async () => dataFiles(),
      plan: async (predicate: Predicate) => planScan({ kind: 'parquet', match: 'name' }, schema.fields, dataFiles(), predicate),
    };
  }

  #dataFile(path: string, add: Add, schema: TableSchema, partitionColumns: string[]): DataFile {
    const constants: DataFile['constants'] = {};
    const partition: DataFile['partition'] = {};
    for (const name of partitionColumns) {
      const text = partitionText(add.partitionValues[name]);
      partition[name] = text;
      const column = findField(schema.fields, name);
      if (!column) throw new LakeError('bad-file', `${this.name} is partitioned by "${name}", which is not among its columns.`, { table: this.name });
      constants[name] = text === null ? null : parseValue(column.type, text);
    }
    return {
      path: this.#storePath(path),
      bytes: Number(add.size),
      rows: rowCountOf(add.stats),
      modified: Number(add.modificationTime),
      partition,
      constants,
      partitionStats: constantStats(constants, schema.fields),
      stats: remembering(statsLookup(add.stats, schema.fields)),
    };
  }

  #storePath(path: string): string {
    if (!/^[a-z][a-z0-9+.-]*:/i.test(path)) return joinPath(this.root, path);
    const inside = below(this.store.uri, path);
    if (inside !== undefined) return inside;
    throw new LakeError('unsupported', `${this.name} has a data file outside its storage: ${path}.`, { table: this.name, path });
  }
}

/** The protocol: an empty string is null. Some writers leave numbers and booleans unquoted. */
function partitionText(value: unknown): string | null {
  return value === undefined || value === null || value === '' ? null : String(value);
}
