import { LakeError } from '../errors';
import { Lru } from '../lru';
import { constantStats } from '../scan/constant-stats';
import { planScan, totalsOf, withRuledOut, type DataFile } from '../scan/plan';
import type { Predicate } from '../scan/predicate';
import { remembering } from '../scan/prune';
import { findField, physicalName, type TableSchema } from '../schema/types';
import type { ObjectStore } from '../storage/object-store';
import { below, joinPath } from '../storage/paths';
import type { AsOf, LakeTable, Snapshot, TimelineEntry } from '../table/contract';
import { parseValue } from '../values/text';
import type { Add, Commit } from './actions';
import { openCheckpoint } from './checkpoint';
import { loadVector, vectorId, vectorPath, type VectorDescriptor } from './deletion-vector';
import { buildHistory } from './history';
import { commitPath, earliestVersion, extendListing, filePath, isSameObject, listLog, readCommit, type LogListing } from './log';
import { allFiles, IndexedFiles, type CheckpointIndexes } from './live-files';
import { physicalPredicate } from './physical-predicate';
import { checkReadable } from './protocol';
import { mappingMode, schemaOf } from './schema';
import { Replay, verifyChecksum, type LogState } from './state';
import { rowCountOf, statsLookup } from './stats';
import { hasOwnTimes, timeOfVersion, versionAt } from './times';

/** A handful of states is enough: the latest, and those that people look at. */
const STATES_KEPT = 8;
const COMMITS_KEPT = 2000;
const VECTORS_KEPT = 500;

/** A Delta table in a folder of a store. Keeps what it has read: commits never change once written. */
export class DeltaTable implements LakeTable {
  readonly format = 'delta';
  #log: LogListing | undefined;
  #behind: (() => Promise<unknown>) | undefined;
  #working: Promise<unknown> = Promise.resolve();
  readonly #commits = new Lru<Commit>(COMMITS_KEPT);
  readonly #states = new Map<number, LogState>();
  readonly #snapshots = new Lru<Snapshot>(STATES_KEPT);
  readonly #vectors = new Lru<Promise<Uint32Array>>(VECTORS_KEPT);
  readonly #adds = new WeakMap<DataFile, Add>();

  /** `root` is the table's folder inside the store; `name` is what errors call it. */
  constructor(
    readonly store: ObjectStore,
    readonly root: string,
    readonly name: string,
    /** For tables of very many files; without it every checkpoint is read whole. */
    readonly indexes?: CheckpointIndexes,
  ) {}

  /** The newest `most` versions, oldest first. */
  async history(most = Infinity): Promise<TimelineEntry[]> {
    const log = await this.log();
    return buildHistory(this, log, most);
  }

  async snapshot(asOf: AsOf): Promise<Snapshot> {
    const log = await (asOf.kind === 'latest' ? this.newest() : this.log());
    // A version that is named needs no other commit read, so damage after it does not matter.
    const version = asOf.kind === 'latest' ? log.latest : await versionAt(this, log, asOf);
    const state = await this.state(version, log);
    checkReadable(this.name, version, state.protocol);
    const kept = this.#snapshots.get(String(version));
    if (kept) return kept;
    const snapshot = this.#snapshotOf(state, await timeOfVersion(this, log, version, hasOwnTimes(state.metadata)));
    this.#snapshots.set(String(version), snapshot);
    return snapshot;
  }

  /** The log as it is listed now. */
  async log(): Promise<LogListing> {
    const before = this.#log;
    const log = await listLog(this.store, this.root, this.name);
    if (before && !isContinued(before, log)) this.#forget();
    this.#log = log;
    return log;
  }

  /** The log as it was last listed, if the version is in it. */
  listed(version: number): LogListing | undefined {
    return this.#log?.commits.has(version) ? this.#log : undefined;
  }

  /** Work that may wait until `settled` is called, that may fail, and that newer work of the kind makes needless. */
  writeBehind(work: () => Promise<unknown>): void {
    this.#behind = work;
  }

  /** Does what was left for later: after a commit, its checksum file. */
  async settled(): Promise<void> {
    const work = this.#behind;
    this.#behind = undefined;
    if (work) this.#working = this.#working.then(work).catch(() => undefined);
    await this.#working;
  }

  /** The log up to its newest version; what lies behind may be as it was when it was last listed. */
  async newest(): Promise<LogListing> {
    const extended = this.#log && (await extendListing(this.store, this.root, this.#log));
    return extended ?? this.log();
  }

  /** The reconciled state of one version. */
  async state(version: number, log: LogListing): Promise<LogState> {
    const known = this.#states.get(version);
    if (known) return known;
    if (version === log.latest || !log.commits.has(version)) earliestVersion(log, this.root, this.name);
    const from = Math.max(-1, ...[...this.#states.keys(), ...log.checkpoints.keys()].filter((each) => each <= version));
    const kept = this.#states.get(from);
    const checkpoint = kept || from < 0 ? undefined : await openCheckpoint(this.store, this.root, log.checkpoints.get(from)!, from, this.indexes, this.name);
    const replay = new Replay(this.name, kept, checkpoint?.files);
    if (checkpoint) replay.apply(checkpoint.commit);
    for (let next = from + 1; next <= version; ) {
      // "Log compaction files": one may stand for the commits from its first to its last.
      const compaction = log.compactions.filter((each) => each.from === next && each.to <= version && each.to > each.from).sort((a, b) => b.to - a.to)[0];
      replay.apply(compaction ? await readCommit(this.store, compaction.path, compaction.to) : await this.commit(next, log));
      next = compaction ? compaction.to + 1 : next + 1;
    }
    const state = replay.stateAt(version);
    const checksum = log.checksums.get(version);
    if (checksum) await verifyChecksum(this.store, checksum, state, this.name);
    this.#keep(state);
    return state;
  }

  /** Takes up a version that was just committed here, so that it need not be read. */
  adopt(state: LogState, commit: Commit): void {
    this.#commits.set(String(commit.version), commit);
    this.#keep(state);
  }

  #keep(state: LogState): void {
    this.#states.set(state.version, state);
    if (this.#states.size > STATES_KEPT) this.#states.delete(this.#states.keys().next().value!);
  }

  async commit(version: number, log: LogListing): Promise<Commit> {
    const kept = this.#commits.get(String(version));
    if (kept) return kept;
    const path = log.commits.get(version)?.path ?? commitPath(this.root, version);
    if (!log.commits.has(version)) throw new LakeError('bad-file', `${this.name}: the commit file ${path} is missing.`, { table: this.name, version, path });
    const commit = await readCommit(this.store, path, version);
    this.#commits.set(String(version), commit);
    return commit;
  }

  /** The rows that a vector deletes, read once. */
  vector(descriptor: VectorDescriptor): Promise<Uint32Array> {
    const key = vectorId(descriptor);
    const known = this.#vectors.get(key);
    if (known) return known;
    const loading = loadVector(this.store, descriptor, (path) => this.storePath(path));
    this.#vectors.set(key, loading);
    loading.catch(() => this.#vectors.delete(key));
    return loading;
  }

  /** The place in the store of a path as the log has it, decoded. Fails for one outside the storage. */
  storePath(path: string): string {
    if (!/^[a-z][a-z0-9+.-]*:/i.test(path)) {
      if (path.split('/').includes('..')) throw new LakeError('bad-file', `The log of ${this.name} names a file that lies outside the table's folder: ${path}.`, { table: this.name, path });
      return joinPath(this.root, path);
    }
    const inside = below(this.store.uri, path);
    if (inside !== undefined) return inside;
    throw new LakeError('unsupported', `${this.name} has a data file outside its storage: ${path}.`, { table: this.name, path });
  }

  /** The places in the store of an entry's file and of its vector. */
  storePathsOf({ path, deletionVector }: { path: string; deletionVector?: VectorDescriptor }): string[] {
    const vector = deletionVector && vectorPath(deletionVector);
    return [filePath(path), ...(vector ? [vector] : [])].map((each) => this.storePath(each));
  }

  /** One live file as planning and reading need it. */
  dataFile(add: Add, schema: TableSchema, partitionColumns: readonly string[]): DataFile {
    const { constants, partition } = this.partitionOf(add, schema, partitionColumns);
    const physicalRows = rowCountOf(add.stats);
    const deleted = Number(add.deletionVector?.cardinality ?? 0);
    const stats = statsLookup(add.stats, schema.fields, deleted);
    const file: DataFile = {
      path: this.storePath(filePath(add.path)),
      bytes: Number(add.size),
      ...(physicalRows === undefined ? {} : { rows: physicalRows - deleted }),
      ...(add.deletionVector ? { rowFilter: this.#rowFilter(add.deletionVector, physicalRows) } : {}),
      modified: Number(add.modificationTime),
      partition,
      constants,
      partitionStats: constantStats(constants, schema.fields),
      stats: remembering((column) => (column[0]! in constants ? undefined : stats(column))),
    };
    this.#adds.set(file, add);
    return file;
  }

  /** The entry of the log that a file of one of this table's plans stands for. */
  addOf(file: DataFile): Add {
    return this.#adds.get(file)!;
  }

  /** Typed values of the partition columns, which stand in the log and not in the file. */
  partitionOf({ partitionValues, path }: { partitionValues: Add['partitionValues']; path: string }, schema: TableSchema, partitionColumns: readonly string[]): Pick<DataFile, 'constants' | 'partition'> {
    const constants: DataFile['constants'] = {};
    const partition: DataFile['partition'] = {};
    for (const name of partitionColumns) {
      const column = findField(schema.fields, name);
      if (!column) throw new LakeError('bad-file', `${this.name} is partitioned by "${name}", which is not among its columns.`, { table: this.name });
      const text = partitionText(partitionValues[physicalName(column)]);
      partition[name] = text;
      try {
        constants[name] = text === null ? null : parseValue(column.type, text);
      } catch {
        throw new LakeError('bad-file', `The log of ${this.name} gives ${path} the value "${text}" in the partition column ${name}, which cannot be read as its type.`, { table: this.name, path });
      }
    }
    return { constants, partition };
  }

  #rowFilter(descriptor: VectorDescriptor, physicalRows: number | undefined): NonNullable<DataFile['rowFilter']> {
    return { listed: 'left-out', count: Number(descriptor.cardinality), key: vectorId(descriptor), ...(physicalRows === undefined ? {} : { physicalRows }), load: () => this.vector(descriptor) };
  }

  #forget(): void {
    this.#commits.clear();
    this.#states.clear();
    this.#snapshots.clear();
    this.#vectors.clear();
  }

  #snapshotOf(state: LogState, at: number): Snapshot {
    const { metadata } = state;
    const schema = schemaOf(metadata, this.name);
    const match = mappingMode(metadata.configuration, this.name) === 'id' ? 'field-id' : 'name';
    const dataFile = (add: Add) => this.dataFile(add, schema, metadata.partitionColumns);
    const { files } = state;
    let listed: Promise<DataFile[]> | undefined;
    const dataFiles = () => (listed ??= allFiles(files).then((all) => [...all.values()].map(dataFile)));
    const isIndexed = files instanceof IndexedFiles;
    return {
      format: 'delta',
      version: state.version,
      at,
      schema,
      partitioning: metadata.partitionColumns.map((name) => ({ source: name, transform: 'identity', name })),
      sortedBy: [],
      properties: metadata.configuration,
      files: dataFiles,
      totals: async () => (isIndexed ? { files: files.count, bytes: files.bytes, rows: await files.rows() } : totalsOf(await dataFiles())),
      plan: async (predicate: Predicate) => {
        if (!isIndexed) return planScan({ kind: 'parquet', match }, schema.fields, await dataFiles(), predicate);
        const { files: left, ruledOut } = await files.candidates(physicalPredicate(predicate, schema.fields));
        return withRuledOut(planScan({ kind: 'parquet', match }, schema.fields, left.map(([, add]) => dataFile(add)), predicate), ruledOut);
      },
    };
  }
}

/** Whether the commits that were known are still the same files. */
function isContinued(before: LogListing, now: LogListing): boolean {
  if (now.latest < before.latest) return false;
  for (const [version, file] of now.commits) {
    const known = before.commits.get(version);
    if (known && !isSameObject(known, file)) return false;
  }
  return true;
}

/** The protocol: an empty string is null. Some writers leave numbers and booleans unquoted. */
function partitionText(value: unknown): string | null {
  return value === undefined || value === null || value === '' ? null : String(value);
}
