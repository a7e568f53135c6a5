import { LakeError } from '../errors';
import { readingTable } from '../fault-words';
import { keepPromise } from '../lru';
import { constantStats } from '../scan/constant-stats';
import { planScan, totalsOf, withRuledOut, type DataFile } from '../scan/plan';
import type { Predicate } from '../scan/predicate';
import { remembering } from '../scan/prune';
import { findField, physicalName, type TableSchema } from '../schema/types';
import type { ObjectStore } from '../storage/object-store';
import { insideStorage, joinPath } from '../storage/paths';
import type { AsOf, LakeTable, Snapshot, TimelineEntry } from '../table/contract';
import { parseValue } from '../values/text';
import type { Add, Commit } from './actions';
import { openCheckpoint } from './checkpoint';
import { loadVector, vectorId, vectorPath, type VectorDescriptor } from './deletion-vector';
import { buildHistory } from './history';
import { commitPath, earliestVersion, extendListing, filePath, isSameObject, listLog, readCommit, type LogListing } from './log';
import { LogMemory, type TableLog } from './log-memory';
import { allFiles, IndexedFiles, type CheckpointIndexes } from './live-files';
import { physicalPredicate } from './physical-predicate';
import { checkReadable } from './protocol';
import { mappingMode, schemaOf } from './schema';
import { Replay, verifyChecksum, type LogState } from './state';
import { rowCountOf, statsLookup } from './stats';
import { hasOwnTimes, timeOfVersion, versionAt } from './times';

/** A Delta table in a folder of a store. Keeps what it has read: commits never change once written. */
export class DeltaTable implements LakeTable {
  readonly format = 'delta';
  /** The newest listing. Replaced whole, never changed: others may be working with the one that stood here. */
  #log: TableLog | undefined;
  #memory = new LogMemory();
  #behind: (() => Promise<unknown>) | undefined;
  #working: Promise<unknown> = Promise.resolve();
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
  history(most = Infinity): Promise<TimelineEntry[]> {
    return readingTable(this.name, async () => buildHistory(this, await this.log(), most));
  }

  snapshot(asOf: AsOf): Promise<Snapshot> {
    return readingTable(this.name, () => this.#snapshot(asOf));
  }

  async #snapshot(asOf: AsOf): Promise<Snapshot> {
    const log = await this.#logFor(asOf);
    // A version that is named needs no other commit read, so damage after it does not matter.
    const version = asOf.kind === 'latest' ? log.latest : await versionAt(this, log, asOf);
    const state = await this.state(version, log);
    checkReadable(this.name, version, state.protocol, state.metadata);
    const kept = log.memory.snapshots.get(String(version));
    if (kept) return kept;
    const snapshot = this.#snapshotOf(state, await timeOfVersion(this, log, version, hasOwnTimes(state.metadata)));
    log.memory.snapshots.set(String(version), snapshot);
    return snapshot;
  }

  async #logFor(asOf: AsOf): Promise<TableLog> {
    if (asOf.kind === 'latest') return this.newest();
    const log = await this.log();
    // A version that was committed while the folder was listed is asked for by name before it is refused.
    return asOf.kind === 'number' && asOf.number > BigInt(log.latest) ? this.newest() : log;
  }

  /** The log as it is listed now. */
  async log(): Promise<TableLog> {
    const listed = await listLog(this.store, this.root, this.name);
    // Others may have listed it meanwhile, so what is known is looked at after the wait.
    const known = this.#log;
    if (!known) return this.#take({ ...listed, memory: this.#memory });
    if (isContinued(known, listed)) return this.#take({ ...listed, memory: known.memory });
    // A listing that was begun before the newest commits were known is older; of another log it is where those are gone.
    const extended = await extendListing(this.store, this.root, known);
    return extended ? this.#take({ ...extended, memory: known.memory }) : this.#take({ ...listed, memory: new LogMemory() });
  }

  /** Keeps a listing, unless a longer one of the same log is kept already. */
  #take(log: TableLog): TableLog {
    if (this.#log?.memory === log.memory && this.#log.latest > log.latest) return log;
    this.#log = log;
    this.#memory = log.memory;
    return log;
  }

  /** The log as it was last listed, if the version is in it. */
  listed(version: number): TableLog | undefined {
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
  async newest(): Promise<TableLog> {
    const known = this.#log;
    const extended = known && (await extendListing(this.store, this.root, known));
    if (!extended) return this.log();
    return extended === known ? known : this.#take({ ...extended, memory: known.memory });
  }

  /** The reconciled state of one version. */
  async state(version: number, log: TableLog): Promise<LogState> {
    const { memory } = log;
    const known = memory.state(version);
    if (known) return known;
    if (version === log.latest || !log.commits.has(version)) earliestVersion(log, this.root, this.name);
    const before = memory.stateBefore(version);
    const from = [...log.checkpoints.keys()].reduce((most, each) => (each <= version ? Math.max(most, each) : most), before?.version ?? -1);
    const kept = before?.version === from ? before : undefined;
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
    memory.keep(state);
    return state;
  }

  /**
   * Takes up a version that was just committed here to the state `base`, so that it need not be read. It is left to be
   * read where `base` is not, or no longer, what is known of the log: another log may stand in the table's place.
   */
  adopt(base: LogState | undefined, state: LogState, commit: Commit): void {
    // A table that was made just now has nothing of what stood in its place.
    if (!base) this.forget();
    else if (this.#memory.state(base.version) !== base) return;
    this.#memory.commits.set(String(commit.version), commit);
    this.#memory.keep(state);
  }

  /** What is remembered of a version, if it is. */
  remembered(version: number): LogState | undefined {
    return this.#memory.state(version);
  }

  /** Reads everything anew from now on; work that runs goes on with what it has. */
  forget(): void {
    this.#memory = new LogMemory();
    this.#log = undefined;
  }

  async commit(version: number, log: TableLog): Promise<Commit> {
    const kept = log.memory.commits.get(String(version));
    if (kept) return kept;
    const path = log.commits.get(version)?.path ?? commitPath(this.root, version);
    if (!log.commits.has(version)) throw new LakeError('bad-file', `${this.name}: the commit file ${path} is missing.`, { table: this.name, version, path });
    const commit = await readCommit(this.store, path, version);
    log.memory.commits.set(String(version), commit);
    return commit;
  }

  /** The rows that a vector deletes, read once. */
  vector(descriptor: VectorDescriptor): Promise<Uint32Array> {
    return keepPromise(this.#memory.vectors, vectorId(descriptor), () => loadVector(this.store, descriptor, (path) => this.storePath(path)));
  }

  /** The place in the store of a path as the log has it, decoded. Fails for one outside the storage. */
  storePath(path: string): string {
    if (!/^(?:[a-z][a-z0-9+.-]*:|\/)/i.test(path)) {
      if (path.split('/').includes('..')) throw new LakeError('bad-file', `The log of ${this.name} names a file that lies outside the table's folder: ${path}.`, { table: this.name, path });
      return joinPath(this.root, path);
    }
    const inside = insideStorage(this.store.uri, path);
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
      files: () => readingTable(this.name, dataFiles),
      totals: () => readingTable(this.name, async () => (isIndexed ? { files: files.count, bytes: files.bytes, rows: await files.rows() } : totalsOf(await dataFiles()))),
      plan: (predicate: Predicate) => readingTable(this.name, async () => {
        if (!isIndexed) return planScan({ kind: 'parquet', match }, schema.fields, await dataFiles(), predicate);
        const { files: left, ruledOut } = await files.candidates(physicalPredicate(predicate, schema.fields));
        return withRuledOut(planScan({ kind: 'parquet', match }, schema.fields, left.map(([, add]) => dataFile(add)), predicate), ruledOut);
      }),
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
