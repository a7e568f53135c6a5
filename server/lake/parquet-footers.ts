/** Rows and columns of Parquet files from their footers alone; of a store elsewhere only those bytes are fetched. */
import { mkdtemp, open, rm } from 'node:fs/promises';
import os from 'node:os';
import path from 'node:path';
import { Worker } from 'node:worker_threads';
import PQueue from 'p-queue';
import { LakeError } from '../../core/errors';
import { faultWords } from '../../core/fault-words';
import type { FileFacts } from '../../core/crawl/infer';
import { footerStart, parseFooter } from '../../core/parquet/footer';
import { Lru } from '../../core/lru';
import { parseTypeName } from '../../core/schema/type-names';
import { quoteText } from '../../core/sql/tokens';
import type { ObjectInfo } from '../../core/storage/object-store';
import type { EngineCalls } from '../engine/engine';
import { translateError } from '../engine/translate';
import { programFile } from '../program-files';
import { rootsOf, type Inspected } from './inspect';
import type { OpenStorage } from './lake';
import type { FooterAnswer, FooterAnswers, FooterAsk } from './footer-worker';

/** Of a store elsewhere: a footer is mostly smaller, so one request is enough. */
const TAIL_BYTES = 64 * 1024;
const FETCHES = 16;
/** Files in one message to a worker. */
const CHUNK = 500;
const WORKERS = 2;
/** The engine's types for so many different schemas are kept. */
const KEPT_SHAPES = 2000;

interface Waiting {
  resolve(answer: { answers: FooterAnswer[]; shapes: string[] }): void;
  reject(error: Error): void;
}

export class ParquetFooters {
  readonly #columns = new Lru<FileFacts['columns']>(KEPT_SHAPES);
  readonly #waiting = new Map<number, Waiting>();
  readonly #queue = new PQueue({ concurrency: WORKERS });
  #workers: Worker[] = [];
  #next = 1;

  constructor(readonly engine: EngineCalls) {}

  /** Facts in the order of the files; one that is no Parquet file has a problem. */
  async read(storage: OpenStorage, files: readonly ObjectInfo[]): Promise<Inspected[]> {
    const chunks = Array.from({ length: Math.ceil(files.length / CHUNK) }, (_, n) => files.slice(n * CHUNK, (n + 1) * CHUNK));
    const read = await Promise.all(chunks.map((chunk) => (storage.store.localPaths === undefined ? this.#remote(storage, chunk) : this.#local(storage.store, chunk))));
    const facts: Inspected[] = [];
    for (const [n, { answers, shapes }] of read.entries()) {
      for (const [index, answer] of answers.entries()) {
        const file = chunks[n]![index]!;
        if ('problem' in answer) facts.push({ path: file.path, columns: [], problem: `${storage.storage.name}:${file.path}: ${answer.problem}.` });
        else facts.push(await this.#fact(storage, file, answer.rows, shapes[answer.shape]!));
      }
    }
    return facts;
  }

  close(): void {
    for (const worker of this.#workers) void worker?.terminate();
    this.#workers = [];
  }

  async #fact(storage: OpenStorage, file: ObjectInfo, rows: number, shape: string): Promise<Inspected> {
    const known = this.#columns.get(shape);
    if (known) return { path: file.path, rows, columns: known, options: { format: 'parquet' } };
    try {
      const columns = await this.#describe(storage, file);
      this.#columns.set(shape, columns);
      return { path: file.path, rows, columns, options: { format: 'parquet' } };
    } catch (error) {
      if (!(error instanceof LakeError)) throw error;
      return { path: file.path, columns: [], problem: error.message };
    }
  }

  async #local(store: OpenStorage['store'], files: readonly ObjectInfo[]): Promise<{ answers: FooterAnswer[]; shapes: string[] }> {
    const here = await store.localPaths!(files.map((file) => file.path));
    return this.#queue.add(() => new Promise((resolve, reject) => {
      const id = this.#next++;
      this.#waiting.set(id, { resolve, reject });
      this.#worker(id % WORKERS).postMessage({ id, files: files.map((file): FooterAsk['files'][number] => [here.get(file.path)!, file.bytes]) } satisfies FooterAsk);
    }));
  }

  #worker(index: number): Worker {
    const known = this.#workers[index];
    if (known) return known;
    const worker = new Worker(path.join(programFile('server'), 'footer-worker.js'));
    worker.on('message', ({ id, ...answer }: FooterAnswers) => {
      this.#waiting.get(id)?.resolve(answer);
      this.#waiting.delete(id);
    });
    worker.on('error', (error) => {
      for (const each of this.#waiting.values()) each.reject(error);
      this.#waiting.clear();
      this.#workers = [];
    });
    worker.unref();
    this.#workers[index] = worker;
    return worker;
  }

  async #remote({ store }: OpenStorage, files: readonly ObjectInfo[]): Promise<{ answers: FooterAnswer[]; shapes: string[] }> {
    const shapes = new Map<string, number>();
    const answers = new Array<FooterAnswer>(files.length);
    const queue = new PQueue({ concurrency: FETCHES });
    await queue.addAll(files.map((file, index) => async () => {
      try {
        const { rows, schema } = parseFooter(await footerBytes(store, file));
        if (!shapes.has(schema)) shapes.set(schema, shapes.size);
        answers[index] = { rows, shape: shapes.get(schema)! };
      } catch (error) {
        if (error instanceof LakeError && error.kind !== 'bad-file') throw error;
        answers[index] = { problem: faultWords(error) };
      }
    }));
    return { answers, shapes: [...shapes.keys()] };
  }

  /** The engine's own types of a file's columns; of a file elsewhere by a copy with nothing in it but its ends. */
  async #describe(storage: OpenStorage, file: ObjectInfo): Promise<FileFacts['columns']> {
    const here = (await storage.store.localPaths?.([file.path]))?.get(file.path);
    if (here !== undefined) return this.#describeLocal(here, rootsOf(storage), new Map());
    const folder = await mkdtemp(path.join(os.tmpdir(), 'kind-harbor-footer-'));
    const copy = path.join(folder, 'hollow.parquet');
    try {
      await hollowCopy(file, await footerBytes(storage.store, file), copy);
      return await this.#describeLocal(copy, new Map(), new Map([[copy, { storage: storage.storage.name, path: file.path }]]));
    } finally {
      await rm(folder, { recursive: true, force: true });
    }
  }

  async #describeLocal(local: string, roots: Map<string, string>, copies: Map<string, { storage: string; path: string }>): Promise<FileFacts['columns']> {
    const { rows } = await this.engine.call('run', { sql: `DESCRIBE SELECT * FROM read_parquet(${quoteText(local)}, hive_partitioning = false)` }).catch((error: unknown) => {
      throw translateError(error, { roots, copies });
    });
    const columns = (rows as string[][]).map((row) => ({ name: row[0]!, type: parseTypeName(row[1]!) }));
    // The engine numbers names that it would not tell apart.
    if (!columns.some(({ name }) => /_\d+$/.test(name))) return columns;
    const names = topLevel((await this.engine.call('run', { sql: `SELECT name, coalesce(num_children, 0) FROM parquet_schema(${quoteText(local)}) ORDER BY column_id` })).rows as [string, number][]);
    return columns.map((column, index) => (names[index] === undefined || names[index] === column.name ? column : { ...column, inFile: names[index] }));
  }
}

/** Names of the columns themselves, of a tree that is listed from the top down. */
function topLevel(nodes: readonly [name: string, children: number][]): string[] {
  const names: string[] = [];
  const skip = (at: number): number => {
    let next = at + 1;
    for (let child = 0; child < Number(nodes[at]![1]); child++) next = skip(next);
    return next;
  };
  for (let at = 1; at < nodes.length; at = skip(at)) names.push(nodes[at]![0]);
  return names;
}

/** From the footer to the file's end, fetched in one request or two. */
async function footerBytes(store: OpenStorage['store'], file: ObjectInfo): Promise<Uint8Array> {
  const tailStart = Math.max(0, file.bytes - TAIL_BYTES);
  const tail = await store.read(file.path, { start: tailStart, end: file.bytes });
  const start = footerStart(file.bytes, tail);
  return start >= tailStart ? tail.subarray(start - tailStart) : store.read(file.path, { start, end: file.bytes });
}

/** A file of the same size that holds its first four bytes and its end; the rest takes no room on disk. */
async function hollowCopy(file: ObjectInfo, end: Uint8Array, target: string): Promise<void> {
  const copy = await open(target, 'w');
  try {
    await copy.truncate(file.bytes);
    await copy.write(Buffer.from('PAR1'), 0, 4, 0);
    await copy.write(end, 0, end.length, file.bytes - end.length);
  } finally {
    await copy.close();
  }
}
