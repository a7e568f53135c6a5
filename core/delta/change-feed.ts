/**
 * The rows that changed between two versions (Delta protocol, "Change Data Files", "Reader Requirements for Change Data
 * Files"): from change files where a version has them, else derived from the files and vectors that came and went.
 */
import { LakeError } from '../errors';
import { planScan, totalsOf, type DataFile, type RowFilter } from '../scan/plan';
import type { Predicate } from '../scan/predicate';
import { constantStats } from '../scan/constant-stats';
import { field, type Field, type TableSchema } from '../schema/types';
import type { LakeTable, Snapshot, TimelineEntry } from '../table/contract';
import type { Add, Commit, Metadata, Remove } from './actions';
import { without } from '../values/row-positions';
import { vectorId } from './deletion-vector';
import { fileKey } from './file-key';
import { earliestVersion, filePath } from './log';
import type { TableLog } from './log-memory';
import { checkReadable } from './protocol';
import { mappingMode, schemaOf } from './schema';
import { rowCountOf } from './stats';
import { hasOwnTimes, timeOfVersion } from './times';
import type { DeltaTable } from './table';

export const CHANGE_FIELDS: readonly Field[] = [
  field('_change_type', 'string', { comment: 'insert, delete, update_preimage or update_postimage' }),
  field('_commit_version', 'long'),
  field('_commit_timestamp', 'timestamptz'),
];

/** First and last version; the newest where `until` is absent. */
export interface FeedRange {
  since: number;
  until?: number;
}

/** A table whose rows are another's changes. */
export class ChangeFeed implements LakeTable {
  readonly format = 'delta';

  constructor(
    readonly table: DeltaTable,
    readonly range: FeedRange,
  ) {}

  history(most?: number): Promise<TimelineEntry[]> {
    return this.table.history(most);
  }

  /** The whole range, whatever state is asked for. Fails naming the versions that there are. */
  async snapshot(): Promise<Snapshot> {
    const { table, range } = this;
    const log = await table.log();
    const first = earliestVersion(log, table.root, table.name);
    const until = range.until ?? log.latest;
    for (const version of [range.since, until]) {
      if (version < first || version > log.latest) throw new LakeError('not-found', `${table.name} has no version ${version}: it has versions ${first} to ${log.latest}.`, { table: table.name });
    }
    if (until < range.since) throw new LakeError('bad-request', `Changes are asked for from version ${range.since} back to ${until}; the first version must come first.`, { table: table.name });
    const state = await table.state(until, log);
    checkReadable(table.name, until, state.protocol, state.metadata);
    const schema = schemaOf(state.metadata, table.name);
    const match = mappingMode(state.metadata.configuration, table.name) === 'id' ? 'field-id' : 'name';
    const fields = [...schema.fields, ...CHANGE_FIELDS];
    let files: Promise<DataFile[]> | undefined;
    const changed = () => (files ??= this.#files(log, range.since, until, schema, state.metadata));
    return {
      format: 'delta', version: until, at: await timeOfVersion(table, log, until, hasOwnTimes(state.metadata)),
      schema: { fields }, partitioning: [], sortedBy: [], properties: {},
      files: changed,
      totals: async () => totalsOf(await changed()),
      plan: async (predicate: Predicate) => planScan({ kind: 'parquet', match }, fields, await changed(), predicate),
    };
  }

  async #files(log: TableLog, since: number, until: number, schema: TableSchema, metadata: Metadata): Promise<DataFile[]> {
    const ownTimes = hasOwnTimes(metadata);
    const files: DataFile[] = [];
    for (let version = since; version <= until; version++) {
      if (!log.commits.has(version)) {
        throw new LakeError('not-found', `The changes of version ${version} of ${this.table.name} are not known any more: its commit has left the log.`, { table: this.table.name, version });
      }
      const commit = await this.table.commit(version, log);
      const at = BigInt(await timeOfVersion(this.table, log, version, ownTimes)) * 1000n;
      const constants = { _commit_version: BigInt(version), _commit_timestamp: at };
      for (const each of await this.#ofCommit(commit, log, schema, metadata.partitionColumns)) {
        const all = { ...each.constants, ...constants };
        files.push({ ...each, constants: all, partitionStats: constantStats(all, [...schema.fields, ...CHANGE_FIELDS]) });
      }
    }
    return files;
  }

  /** "If there are change files in a version, read only those." */
  async #ofCommit(commit: Commit, log: TableLog, schema: TableSchema, partitionColumns: readonly string[]): Promise<DataFile[]> {
    if (commit.changeFiles.length > 0) {
      return commit.changeFiles.map((file) => this.table.dataFile({ ...file, modificationTime: 0 }, schema, partitionColumns));
    }
    const removes = commit.removes.filter((remove) => remove.dataChange);
    const adds = commit.adds.filter((add) => add.dataChange);
    const before = removes.length > 0 && commit.version > 0 ? await this.table.state(commit.version - 1, log) : undefined;
    const known = await before?.files.get(removes.map(fileKey));
    const files: DataFile[] = [];
    const paired = new Set<string>();
    for (const add of adds) {
      const old = removes.find((remove) => filePath(remove.path) === filePath(add.path));
      if (!old) {
        files.push(this.#as('insert', this.table.dataFile(add, schema, partitionColumns)));
        continue;
      }
      // The same file with another vector: its rows that came or went are the difference of the two.
      paired.add(filePath(add.path));
      files.push(...(await this.#difference(old, add, schema, partitionColumns)));
    }
    for (const remove of removes) {
      const path = filePath(remove.path);
      if (paired.has(path)) continue;
      const gone = known?.get(fileKey(remove));
      if (!gone) throw new LakeError('bad-file', `Version ${commit.version} of ${this.table.name} removes ${path}, which is not part of the version before.`, { table: this.table.name, version: commit.version, path });
      files.push(this.#as('delete', this.table.dataFile(gone, schema, partitionColumns)));
    }
    return files;
  }

  async #difference(old: Remove, now: Add, schema: TableSchema, partitionColumns: readonly string[]): Promise<DataFile[]> {
    const none = new Uint32Array();
    const [was, is] = await Promise.all([old.deletionVector ? this.table.vector(old.deletionVector) : none, now.deletionVector ? this.table.vector(now.deletionVector) : none]);
    const file = this.table.dataFile(now, schema, partitionColumns);
    const physicalRows = rowCountOf(now.stats);
    const filter = (rows: Uint32Array, what: string): RowFilter => ({
      listed: 'kept', count: rows.length, key: `${what} ${vectorId(old.deletionVector)} ${vectorId(now.deletionVector)}`, load: async () => rows, ...(physicalRows === undefined ? {} : { physicalRows }),
    });
    const part = (kind: 'insert' | 'delete', rows: Uint32Array): DataFile[] => (rows.length === 0 ? [] : [{ ...this.#as(kind, file), rows: rows.length, rowFilter: filter(rows, kind) }]);
    return [...part('delete', without(is, was)), ...part('insert', without(was, is))];
  }

  #as(kind: 'insert' | 'delete', file: DataFile): DataFile {
    return { ...file, constants: { ...file.constants, _change_type: kind } };
  }
}
