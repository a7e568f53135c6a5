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
import { fileKey } from '../../core/delta/file-key';
import { encodeFilePath } from '../../core/delta/log';
import { parseJson } from '../../core/json';
import { keepPromise, Lru } from '../../core/lru';
import type { Predicate } from '../../core/scan/predicate';
import { parseTypeName } from '../../core/schema/type-names';
import { quoteText } from '../../core/sql/tokens';
import type { ObjectStore } from '../../core/storage/object-store';
import type { EngineCalls } from '../engine/engine';
import { quoteList } from '../engine/instances';
import type { LakeStore } from '../storage/lake-store';
import type { OpenStorage } from './lake';
import type { Lease, LocalFiles } from './local-files';
import { ADD_COLUMNS, buildSql, conditionSql, type AddShape } from './index-sql';

/** From about ten thousand files on. */
const FROM_BYTES = 3e6;
/** Indexes open at once, and kept on disk. */
const OPEN = 16;
const KEPT = 64;
const BATCH = 5000;
/** Changes when indexes are made otherwise. */
const FORM = 1;

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
    if (!existsSync(file)) await this.#build(store, paths, columns, file);
    utimesSync(file, new Date(), new Date());
    await this.engine.call('run', { sql: `ATTACH IF NOT EXISTS ${quoteText(file)} AS ${name} (READ_ONLY)` });
    const { rows } = await this.engine.call('run', { sql: `SELECT count(*), coalesce(sum(size), 0), sum(row_count), count(row_count), count(vector) FROM ${name}.files` });
    const [count, bytes, rowCount, told, vectors] = rows[0]!.map(Number) as [number, number, number, number, number];
    this.#clear();
    return new EngineIndex(this.engine, name, columns, count, bytes, told === count && vectors === 0 ? rowCount : undefined);
  }

  /** Into a file that is given its name when it is whole. */
  async #build(store: LakeStore, paths: readonly string[], columns: readonly IndexedColumn[], file: string): Promise<void> {
    const lease = await this.localize(store, paths);
    const made = `${file}.${randomUUID()}.making`;
    const name = `making_${randomUUID().replaceAll('-', '')}`;
    try {
      const local = paths.map((each) => lease.pathOf({ path: each }));
      const types = await this.#columns(quoteList(local));
      const add = types.get('add');
      const shape: AddShape = { fields: new Set(add?.kind === 'struct' ? add.fields.map((field) => field.name) : []), hasRemoves: types.has('remove') };
      await this.engine.call('run', { sql: [`ATTACH ${quoteText(made)} AS ${name}`, ...buildSql(name, local, columns, shape), `DETACH ${name}`].join('; ') });
      renameSync(made, file);
    } finally {
      lease.release();
      for (const each of [made, `${made}.wal`]) rmSync(each, { force: true });
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

class EngineIndex implements FileIndex {
  constructor(
    readonly engine: EngineCalls,
    readonly name: string,
    readonly columns: readonly IndexedColumn[],
    readonly count: number,
    readonly bytes: number,
    readonly rows: number | undefined,
  ) {}

  async find(keys: readonly string[]): Promise<Add[]> {
    const wanted = new Set(keys);
    const found: Add[] = [];
    for (let from = 0; from < keys.length; from += BATCH) found.push(...(await this.#adds(`path IN (${pathsOf(keys.slice(from, from + BATCH))})`)));
    const exact = found.filter((add) => wanted.has(fileKey(add)));
    // Another writer's escapes: looked for by the decoded path.
    const seen = new Set(exact.map(fileKey));
    const missing = [...wanted].filter((key) => !seen.has(key) && /[^\w./=-]/.test(key.split('\n')[0]!));
    if (missing.length > 0) exact.push(...(await this.#adds(`url_decode(path) IN (${[...new Set(missing.map((key) => key.split('\n')[0]!))].map(quoteText).join(', ')})`)).filter((add) => missing.includes(fileKey(add))));
    return exact;
  }

  async candidates(predicate: Predicate, without: readonly string[]): Promise<{ adds: Add[]; ruledOut: { byPartition: number; byBounds: number; bytes: number } }> {
    const [all, partition] = [conditionSql(predicate, this.columns, 'all'), conditionSql(predicate, this.columns, 'partition')];
    const [adds, { rows }] = await Promise.all([
      this.#adds(all),
      this.engine.call('run', { sql: `SELECT count(*) FILTER (WHERE NOT (${partition})), count(*) FILTER (WHERE (${partition}) AND NOT (${all})), coalesce(sum(size) FILTER (WHERE NOT (${all})), 0) FROM ${this.name}.files${without.length === 0 ? '' : ` WHERE path NOT IN (${pathsOf(without)})`}` }),
    ]);
    const [byPartition, byBounds, bytes] = rows[0]!.map(Number) as [number, number, number];
    return { adds, ruledOut: { byPartition, byBounds, bytes } };
  }

  async *batches(): AsyncIterable<Add[]> {
    for (let from = 0; from < this.count; from += BATCH) yield this.#adds(`rowid >= ${from} AND rowid < ${from + BATCH}`);
  }

  async *removes(): AsyncIterable<Remove[]> {
    for (let from = 0; ; from += BATCH) {
      const { rows } = await this.engine.call('run', { sql: `SELECT remove FROM ${this.name}.removes WHERE rowid >= ${from} AND rowid < ${from + BATCH}` });
      if (rows.length === 0) return;
      yield rows.map(([text]) => withoutNulls(parseJson(String(text))) as Remove);
    }
  }

  async #adds(where: string): Promise<Add[]> {
    const { rows } = await this.engine.call('run', { sql: `SELECT ${ADD_COLUMNS} FROM ${this.name}.files WHERE ${where} ORDER BY rowid` });
    return rows.map(([file, partitionValues, size, modified, stats, vector, baseRowId, rowVersion, tags]): Add => ({
      path: String(file), partitionValues: (partitionValues ? JSON.parse(String(partitionValues)) : {}) as Add['partitionValues'], size: Number(size), modificationTime: Number(modified), dataChange: true,
      ...(stats === null ? {} : { stats: String(stats) }),
      ...(vector === null ? {} : { deletionVector: withoutNulls(JSON.parse(String(vector))) as Add['deletionVector'] }),
      ...(baseRowId === null ? {} : { baseRowId: Number(baseRowId) }),
      ...(rowVersion === null ? {} : { defaultRowCommitVersion: Number(rowVersion) }),
      ...(tags === null ? {} : { tags: JSON.parse(String(tags)) as Record<string, string> }),
    }) as Add);
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
