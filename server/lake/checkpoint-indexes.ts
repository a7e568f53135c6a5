/**
 * Large checkpoints kept in columns, each in a database file of its own in the data folder: made once by the work engine,
 * searched there, so that the API process never holds the files of a large table. A checkpoint never changes, nor does
 * its index; what was committed since is laid over it in memory.
 */
import { createHash, randomUUID } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, renameSync, rmSync, statSync, utimesSync } from 'node:fs';
import path from 'node:path';
import type { Add, Remove } from '../../core/delta/actions';
import type { CheckpointIndexes, FileIndex, IndexedColumn } from '../../core/delta/live-files';
import type { VectorDescriptor } from '../../core/delta/deletion-vector';
import { fileKey } from '../../core/delta/file-key';
import { encodeFilePath } from '../../core/delta/log';
import { parseJson } from '../../core/json';
import { keepPromise, Lru } from '../../core/lru';
import type { Predicate } from '../../core/scan/predicate';
import { parseTypeName } from '../../core/schema/type-names';
import { quoteText } from '../../core/sql/tokens';
import type { ObjectStore } from '../../core/storage/object-store';
import type { EngineCalls } from '../engine/engine';
import { EngineError } from '../engine/failures';
import { quoteList } from '../engine/instances';
import type { LakeStore } from '../storage/lake-store';
import type { OpenStorage } from './lake';
import type { Lease, LocalFiles } from './local-files';
import { ADD_COLUMNS, buildSql, conditionSql, statsSql, type AddShape } from './index-sql';

/** From about ten thousand files on. */
const FROM_BYTES = 3e6;
/** Indexes open at once, and kept on disk. */
const OPEN = 16;
const KEPT = 64;
const BATCH = 5000;
/** Changes when indexes are made otherwise. */
const FORM = 2;
/** After an index went to disk, its copy in memory stays for searches that began there. */
const SWITCH_MS = 10_000;

/** How local copies of a store's files come about. */
export type Localizer = (store: LakeStore, files: readonly string[]) => Promise<Pick<Lease, 'pathOf' | 'release'>>;

/** Files in place where they lie on this machine, else copies. */
export function localizer(local: LocalFiles, storages: () => readonly OpenStorage[]): Localizer {
  return async (store, files) => {
    const storage = storages().find((each) => each.store === store);
    if (!storage) throw new Error('the store is of no connected storage');
    const infos = await Promise.all(files.map((each) => store.head(each)));
    return local.lease(storage, infos.flatMap((info) => (info ? [info] : [])));
  };
}

export class EngineIndexes implements CheckpointIndexes {
  readonly #open = new Lru<Promise<EngineIndex>>(OPEN);
  #keeping: Promise<unknown> = Promise.resolve();

  constructor(
    readonly engine: EngineCalls,
    readonly folder: string,
    readonly localize: Localizer,
    readonly fromBytes = FROM_BYTES,
  ) {
    mkdirSync(folder, { recursive: true });
  }

  async head(store: ObjectStore, paths: readonly string[]): Promise<Record<string, unknown>[]> {
    const lease = await this.localize(store as LakeStore, paths);
    try {
      const files = quoteList(paths.map((each) => lease.pathOf({ path: each })));
      const columns = await this.#columns(files);
      const wanted = ['protocol', 'metaData', 'txn', 'domainMetadata', 'sidecar'].filter((each) => columns.has(each));
      const { rows } = await this.engine.call('run', {
        sql: wanted.map((each) => `SELECT '${each}', to_json("${each}")::VARCHAR FROM read_parquet(${files}, union_by_name = true) WHERE "${each}" IS NOT NULL`).join(' UNION ALL '),
      });
      return rows.map(([kind, text]) => ({ [String(kind)]: withoutNulls(parseJson(String(text))) }));
    } finally {
      lease.release();
    }
  }

  async open(store: ObjectStore, paths: readonly string[], columns: readonly IndexedColumn[]): Promise<FileIndex> {
    const infos = await Promise.all(paths.map((each) => store.head(each)));
    const key = createHash('sha256').update(JSON.stringify([FORM, store.uri, columns.map(({ path: of, type }) => [of, type]), infos.map((info, index) => [paths[index], info?.bytes, info?.modified, info?.etag])])).digest('hex').slice(0, 32);
    return keepPromise(this.#open, key, () => this.#make(store as LakeStore, paths, columns, key));
  }

  async #make(store: LakeStore, paths: readonly string[], columns: readonly IndexedColumn[], key: string): Promise<EngineIndex> {
    const file = path.join(this.folder, `${key}.index`);
    const name = `index_${key}`;
    const isKept = existsSync(file);
    const shape = isKept ? undefined : await this.#build(store, paths, columns, name);
    if (isKept) {
      utimesSync(file, new Date(), new Date());
      await this.#attach(file, name);
    }
    const { rows } = await this.engine.call('run', { sql: `SELECT count(*), coalesce(sum(size), 0), sum(row_count), count(row_count), count(vector) FROM ${isKept ? name : inMemory(name)}.files` });
    const [count, bytes, rowCount, told, vectors] = rows[0]!.map(Number) as [number, number, number, number, number];
    const place = { store, paths, localize: this.localize, shape: async () => shape ?? this.#shape(store, paths) };
    const index = new EngineIndex(this.engine, isKept ? name : inMemory(name), columns, { count, bytes, rows: told === count && vectors === 0 ? rowCount : undefined }, place);
    if (!isKept) this.#keeping = this.#keeping.then(() => this.#keep(index, name, file)).catch(() => undefined);
    return index;
  }

  /** When every index is on disk. */
  async settled(): Promise<void> {
    await this.#keeping;
  }

  #attach(file: string, name: string): Promise<unknown> {
    return this.engine.call('run', { sql: `ATTACH IF NOT EXISTS ${quoteText(file)} AS ${name} (READ_ONLY)` });
  }

  /** In the engine's memory, where it can be searched at once. */
  async #build(store: LakeStore, paths: readonly string[], columns: readonly IndexedColumn[], name: string): Promise<AddShape> {
    const lease = await this.localize(store, paths);
    try {
      const local = paths.map((each) => lease.pathOf({ path: each }));
      const shape = await this.#shape(store, paths);
      const build = (careful: boolean) => this.engine.call('run', { sql: [`DROP SCHEMA IF EXISTS ${inMemory(name)} CASCADE`, `CREATE SCHEMA ${inMemory(name)}`, ...buildSql(inMemory(name), local, columns, shape, careful)].join('; ') });
      await build(false).catch((error: unknown) => {
        // Statistics of some file are no JSON: they count as unknown.
        if (error instanceof EngineError && /json/i.test(error.message)) return build(true);
        throw error;
      });
      return shape;
    } finally {
      lease.release();
    }
  }

  /** To a file that is given its name when it is whole; from then on the index is searched there. */
  async #keep(index: EngineIndex, name: string, file: string): Promise<void> {
    const made = `${file}.${randomUUID()}.making`;
    const making = `making_${randomUUID().replaceAll('-', '')}`;
    try {
      await this.engine.call('run', { sql: `ATTACH ${quoteText(made)} AS ${making}; CREATE TABLE ${making}.files AS FROM ${inMemory(name)}.files; CREATE TABLE ${making}.removes AS FROM ${inMemory(name)}.removes; DETACH ${making}` });
      renameSync(made, file);
      await this.#attach(file, name);
      index.name = name;
      // Searches that began before may still be under way.
      setTimeout(() => void this.engine.call('run', { sql: `DROP SCHEMA IF EXISTS ${inMemory(name)} CASCADE` }).catch(() => undefined), SWITCH_MS).unref();
      this.#clear();
    } finally {
      for (const each of [made, `${made}.wal`]) rmSync(each, { force: true });
    }
  }

  async #shape(store: LakeStore, paths: readonly string[]): Promise<AddShape> {
    const lease = await this.localize(store, paths);
    try {
      const types = await this.#columns(quoteList(paths.map((each) => lease.pathOf({ path: each }))));
      const add = types.get('add');
      return { fields: new Set(add?.kind === 'struct' ? add.fields.map((field) => field.name) : []), hasRemoves: types.has('remove') };
    } finally {
      lease.release();
    }
  }

  async #columns(files: string): Promise<Map<string, ReturnType<typeof parseTypeName>>> {
    const { rows } = await this.engine.call('run', { sql: `DESCRIBE SELECT * FROM read_parquet(${files}, union_by_name = true)` });
    return new Map(rows.map(([name, type]) => [String(name), parseTypeName(String(type))]));
  }

  /** Those longest unused go first. */
  #clear(): void {
    const files = readdirSync(this.folder).filter((each) => each.endsWith('.index')).map((each) => ({ file: path.join(this.folder, each), used: statSync(path.join(this.folder, each)).mtimeMs }));
    for (const { file } of files.sort((a, b) => b.used - a.used).slice(KEPT)) rmSync(file, { force: true });
  }
}

function inMemory(name: string): string {
  return `memory.new_${name}`;
}

/** Where the statistics of an index's files stand. */
interface StatsPlace {
  store: LakeStore;
  paths: readonly string[];
  localize: Localizer;
  shape: () => Promise<AddShape>;
}

/** An entry, and where its statistics are. */
interface Placed {
  add: Add;
  part: number;
  row: number;
}

class EngineIndex implements FileIndex {
  readonly count: number;
  readonly bytes: number;
  readonly rows: number | undefined;

  constructor(
    readonly engine: EngineCalls,
    /** Database, or schema, of its tables. */
    public name: string,
    readonly columns: readonly IndexedColumn[],
    totals: { count: number; bytes: number; rows: number | undefined },
    readonly place: StatsPlace,
  ) {
    this.count = totals.count;
    this.bytes = totals.bytes;
    this.rows = totals.rows;
  }

  async find(keys: readonly string[]): Promise<Add[]> {
    const wanted = new Set(keys);
    const found: Placed[] = [];
    for (let from = 0; from < keys.length; from += BATCH) found.push(...(await this.#placed(`path IN (${pathsOf(keys.slice(from, from + BATCH))})`)));
    const exact = found.filter(({ add }) => wanted.has(fileKey(add)));
    // Another writer's escapes: looked for by the decoded path.
    const seen = new Set(exact.map(({ add }) => fileKey(add)));
    const missing = [...wanted].filter((key) => !seen.has(key) && /[^\w./=-]/.test(key.split('\n')[0]!));
    if (missing.length > 0) exact.push(...(await this.#placed(`url_decode(path) IN (${[...new Set(missing.map((key) => key.split('\n')[0]!))].map(quoteText).join(', ')})`)).filter(({ add }) => missing.includes(fileKey(add))));
    return this.#withStats(exact);
  }

  async candidates(predicate: Predicate, without: readonly string[]): Promise<{ adds: Add[]; byPartition: number }> {
    const partition = conditionSql(predicate, this.columns, 'partition');
    const counting = partition === 'true' ? undefined : this.engine.call('run', { sql: `SELECT count(*) FROM ${this.name}.files WHERE NOT (${partition})${without.length === 0 ? '' : ` AND path NOT IN (${pathsOf(without)})`}` });
    const [placed, counted] = await Promise.all([this.#placed(conditionSql(predicate, this.columns, 'all')), counting]);
    // What the bounds say was asked already, so the statistics are left where they are.
    return { adds: placed.map(({ add }) => add), byPartition: Number(counted?.rows[0]![0] ?? 0) };
  }

  async *batches(): AsyncIterable<Add[]> {
    for (let from = 0; from < this.count; from += BATCH) yield await this.#withStats(await this.#placed(`rowid >= ${from} AND rowid < ${from + BATCH}`));
  }

  async *removes(): AsyncIterable<Remove[]> {
    for (let from = 0; ; from += BATCH) {
      const { rows } = await this.engine.call('run', { sql: `SELECT remove FROM ${this.name}.removes WHERE rowid >= ${from} AND rowid < ${from + BATCH}` });
      if (rows.length === 0) return;
      yield rows.map(([text]) => withoutNulls(parseJson(String(text))) as Remove);
    }
  }

  /** Without statistics but for the number of rows. */
  async #placed(where: string): Promise<Placed[]> {
    const { rows } = await this.engine.call('run', { sql: `SELECT ${ADD_COLUMNS} FROM ${this.name}.files WHERE ${where}` });
    return rows.map(([file, partitionValues, size, modified, vector, baseRowId, rowVersion, tags, rowCount, part, row]) => ({
      part: Number(part), row: Number(row),
      add: {
        path: String(file), partitionValues: (partitionValues ? JSON.parse(String(partitionValues)) : {}) as Add['partitionValues'], size: Number(size), modificationTime: Number(modified), dataChange: true,
        ...(rowCount === null ? {} : { stats: `{"numRecords":${Number(rowCount)}}` }),
        ...(vector === null ? {} : { deletionVector: withoutNulls(JSON.parse(String(vector))) as VectorDescriptor }),
        ...(baseRowId === null ? {} : { baseRowId: Number(baseRowId) }),
        ...(rowVersion === null ? {} : { defaultRowCommitVersion: Number(rowVersion) }),
        ...(tags === null ? {} : { tags: JSON.parse(String(tags)) as Record<string, string> }),
      },
    }));
  }

  /** From the checkpoint itself; where it has left the log meanwhile, the number of rows is all that is known. */
  async #withStats(placed: readonly Placed[]): Promise<Add[]> {
    const parts = new Map<number, Placed[]>();
    for (const each of placed) parts.set(each.part, [...(parts.get(each.part) ?? []), each]);
    for (const [part, entries] of parts) {
      const file = this.place.paths[part]!;
      const lease = await this.place.localize(this.place.store, [file]).catch(() => undefined);
      if (!lease) continue;
      try {
        const stats = statsSql(await this.place.shape());
        const { rows } = await this.engine.call('run', { sql: `SELECT file_row_number, ${stats} FROM read_parquet(${quoteList([lease.pathOf({ path: file })])}) WHERE file_row_number IN (${entries.map(({ row }) => row).join(', ')})` });
        const texts = new Map(rows.map(([row, text]) => [Number(row), text]));
        for (const { add, row } of entries) {
          const text = texts.get(row);
          if (typeof text === 'string') add.stats = text;
        }
      } catch (error) {
        if (!(error instanceof EngineError)) throw error;
      } finally {
        lease.release();
      }
    }
    return placed.map(({ add }) => add);
  }
}

/** Keys are of decoded paths, the index has them as the log does, so both spellings are asked for. */
function pathsOf(keys: readonly string[]): string {
  const paths = keys.flatMap((key) => {
    const decoded = key.split('\n')[0]!;
    return [decoded, encodeFilePath(decoded)];
  });
  return [...new Set(paths)].map(quoteText).join(', ');
}

/** Structs of the engine have every field; actions have only those that are said. */
function withoutNulls(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(withoutNulls);
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(Object.entries(value).filter(([, each]) => each !== null).map(([key, each]) => [key, withoutNulls(each)]));
}
