/** Manifests of Iceberg tables, decoded once: in memory while they are used, on disk across restarts. They never change. */
import { createHash } from 'node:crypto';
import { mkdirSync, readdirSync, rmSync, statSync } from 'node:fs';
import { utimes } from 'node:fs/promises';
import path from 'node:path';
import { Worker } from 'node:worker_threads';
import { decodeEntries, type EntryColumns } from '../../core/iceberg/entry-columns';
import { LakeError } from '../../core/errors';
import { programFile } from '../program-files';
import type { OpenStorage } from './lake';
import type { ManifestAnswer, ManifestAsk } from './manifest-reply';

const WORKERS = 2;
/** Smaller ones are decoded faster than a worker is asked. */
const SMALL_BYTES = 8 * 1024;
/** Decoded manifests in memory. */
const MEMORY_BYTES = 64e6;
/** Decoded manifests on disk. */
const DISK_BYTES = 2e9;

interface Waiting {
  resolve(columns: EntryColumns | undefined): void;
  reject(error: Error): void;
}

export class ManifestCache {
  readonly #kept = new Map<string, { columns: EntryColumns; bytes: number }>();
  readonly #reading = new Map<string, Promise<EntryColumns>>();
  readonly #waiting = new Map<number, Waiting>();
  #workers: Worker[] = [];
  #next = 1;
  #bytes = 0;

  constructor(readonly folder: string) {
    mkdirSync(folder, { recursive: true });
    trim(folder);
  }

  async read(storage: OpenStorage, file: string, bytes: number): Promise<EntryColumns> {
    const key = `${storage.storage.id} ${storage.store.uri} ${file}`;
    const kept = this.#kept.get(key);
    if (kept) {
      this.#kept.delete(key);
      this.#kept.set(key, kept);
      return kept.columns;
    }
    const reading = this.#reading.get(key) ?? this.#load(storage, file, bytes, key).finally(() => this.#reading.delete(key));
    this.#reading.set(key, reading);
    return reading;
  }

  close(): void {
    for (const worker of this.#workers) void worker?.terminate();
    this.#workers = [];
  }

  async #load(storage: OpenStorage, file: string, bytes: number, key: string): Promise<EntryColumns> {
    const columns = await this.#decoded(storage, file, bytes, key);
    const size = sizeOf(columns);
    this.#kept.set(key, { columns, bytes: size });
    this.#bytes += size;
    for (const [oldest, each] of this.#kept) {
      if (this.#bytes <= MEMORY_BYTES || oldest === key) break;
      this.#kept.delete(oldest);
      this.#bytes -= each.bytes;
    }
    return columns;
  }

  async #decoded({ store }: OpenStorage, file: string, bytes: number, key: string): Promise<EntryColumns> {
    const isLocal = store.root !== undefined;
    if (isLocal && bytes <= SMALL_BYTES) return decodeEntries(await store.read(file), file);
    const cached = path.join(this.folder, createHash('sha256').update(key).digest('hex').slice(0, 40));
    const isKept = await utimes(cached, new Date(), new Date()).then(() => true, () => false);
    const source = (await store.localPaths?.([file]))?.get(file);
    if (isKept || source !== undefined) {
      const columns = await this.#ask({ name: file, source, cached });
      if (columns) return columns;
    }
    return (await this.#ask({ name: file, source: await store.read(file), cached }))!;
  }

  /** Undefined where it is not kept and no source is given. */
  #ask(ask: Omit<ManifestAsk, 'id'>): Promise<EntryColumns | undefined> {
    return new Promise((resolve, reject) => {
      const id = this.#next++;
      this.#waiting.set(id, { resolve, reject });
      const worker = this.#worker(id % WORKERS);
      // The process stays for an answer that is on its way, and for nothing else of a worker's.
      worker.ref();
      worker.postMessage({ id, ...ask } satisfies ManifestAsk);
    });
  }

  #worker(index: number): Worker {
    const known = this.#workers[index];
    if (known) return known;
    const worker = new Worker(path.join(programFile('server'), 'manifest-worker.js'));
    worker.on('message', (answer: ManifestAnswer) => {
      const waiting = this.#waiting.get(answer.id);
      this.#waiting.delete(answer.id);
      if (this.#waiting.size === 0) for (const each of this.#workers) each?.unref();
      if ('problem' in answer) waiting?.reject(new LakeError(answer.problem.kind, answer.problem.message, answer.problem.details));
      else waiting?.resolve(answer.columns);
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
}

function sizeOf(columns: EntryColumns): number {
  const views = [...Object.values(columns), ...columns.maps.values()].filter((each): each is Uint8Array => ArrayBuffer.isView(each));
  return views.reduce((sum, view) => sum + view.byteLength, 0) + columns.partitions.length * 200;
}

/** What was unused for longest goes first, and what was left unfinished. */
function trim(folder: string): void {
  const files = readdirSync(folder).map((name) => ({ file: path.join(folder, name), name })).map((each) => ({ ...each, ...statSync(each.file) }));
  let bytes = files.reduce((sum, each) => sum + each.size, 0);
  for (const each of files.sort((a, b) => a.mtimeMs - b.mtimeMs)) {
    if (bytes <= DISK_BYTES && !each.name.endsWith('.part')) continue;
    rmSync(each.file, { force: true });
    bytes -= each.size;
  }
}
