/**
 * Where the engine opens files: in place where they lie on this machine, else a local copy. Copies are of files that do
 * not change (a changed file has another size, time or etag, so another copy); they are made in parallel and the ones
 * longest unused are removed when all together are over the limit.
 */
import { createHash } from 'node:crypto';
import { mkdirSync, readdirSync, rmSync, statSync, utimesSync } from 'node:fs';
import { rename, rm, stat } from 'node:fs/promises';
import path from 'node:path';
import PQueue from 'p-queue';
import { LakeError } from '../../core/errors';
import { fieldsOfAvro } from '../../core/folder/avro-rows';
import { isCutByUs, optionsOfCopy, type Compression, type ReadOptions } from '../../core/folder/read-options';
import { avroSchemaOf } from '../../core/iceberg/avro';
import { filesToRead, type FileFormat, type ScanPlan } from '../../core/scan/plan';
import { memberPath } from '../../core/storage/members';
import { baseName } from '../../core/storage/paths';
import { readPart } from '../storage/read-part';
import type { EngineCalls } from '../engine/engine';
import { EngineError } from '../engine/failures';
import type { Calls } from '../engine/messages';
import { parquetOfLines } from '../engine/row-files';
import type { Place } from '../engine/translate';
import { convert } from '../engine/conversions';
import type { OpenStorage } from './lake';

/** A file to be opened; what tells one state of it from another is in its key. */
export interface WantedFile {
  path: string;
  bytes: number;
  modified?: number;
  etag?: string;
  /** Given for a file that is read from a Parquet copy of its rows. */
  format?: FileFormat;
  /** Given for a file of which an unpacked copy is wanted. */
  packed?: Compression;
}

/** Local files that stay until they are released. */
export interface Lease {
  pathOf(file: { path: string }): string;
  /** Copies by their local path, for naming them in errors. */
  copies: ReadonlyMap<string, Place>;
  release(): void;
}

interface Kept {
  bytes: number;
  /** Milliseconds since the epoch. */
  used: number;
  /** How many leases hold it. */
  held: number;
}

const FETCHES = 12;
const CONVERSIONS = 2;
/** Schemas of tables of a few thousand columns lie within. */
const AVRO_HEAD_BYTES = 4 * 1024 * 1024;

export class LocalFiles {
  readonly #kept = new Map<string, Kept>();
  readonly #making = new Map<string, Promise<void>>();
  readonly #fetches = new PQueue({ concurrency: FETCHES });
  readonly #conversions = new PQueue({ concurrency: CONVERSIONS });
  #bytes = 0;

  constructor(
    readonly folder: string,
    readonly limitBytes: number,
    /** Makes copies of what the engine does not read as it is; without it Avro files of tables are not read. */
    readonly engine?: EngineCalls,
  ) {
    mkdirSync(folder, { recursive: true });
    for (const storage of readdirSync(folder)) this.#readStorage(path.join(folder, storage));
  }

  /** Of all copies together. */
  get bytes(): number {
    return this.#bytes;
  }

  /** Copies of one storage's files lie here. */
  folderOf({ storage }: OpenStorage): string {
    return path.join(this.folder, String(storage.id));
  }

  /** The files that a plan reads. */
  forPlan(storage: OpenStorage, plan: ScanPlan): Promise<Lease> {
    return this.lease(storage, filesToRead(plan), plan.reader.kind === 'text' ? plan.reader.options : undefined);
  }

  async lease(storage: OpenStorage, files: readonly WantedFile[], options?: ReadOptions): Promise<Lease> {
    const converts = options !== undefined && optionsOfCopy(options) !== undefined;
    const { store } = storage;
    const inPlace = (file: WantedFile) => store.localPaths !== undefined && !converts && file.format === undefined && file.packed === undefined;
    const copied = files.filter((file) => !inPlace(file));
    const here = await store.localPaths?.(files.filter(inPlace).map((file) => file.path));
    const paths = new Map(files.map((file) => [file.path, here?.get(file.path) ?? this.#copyPath(storage, file, converts ? options : undefined)]));
    for (const { path: of } of copied) this.#hold(paths.get(of)!, 1);
    const release = () => {
      for (const { path: of } of copied) this.#hold(paths.get(of)!, -1);
      this.#evict();
    };
    try {
      await Promise.all(copied.map((file) => this.#ensure(paths.get(file.path)!, () => this.#make(storage, file, converts ? options : undefined, paths.get(file.path)!))));
    } catch (error) {
      release();
      throw error;
    }
    // What lies in a container lies elsewhere on this machine than its path says.
    const named = files.filter((file) => !inPlace(file) || memberPath(file.path)?.member);
    const copies = new Map(named.map((file) => [paths.get(file.path)!, { storage: storage.storage.name, path: file.path }]));
    return { pathOf: (file) => paths.get(file.path)!, copies, release };
  }

  #make(storage: OpenStorage, file: WantedFile, options: ReadOptions | undefined, copy: string): Promise<void> {
    if (file.format === 'avro') return this.#asParquet(storage, file, copy);
    if (file.packed !== undefined) return this.#unpacked(storage, file, file.packed, copy);
    return options ? this.#converted(storage, file, options, copy) : this.#fetched(storage, file, copy);
  }

  #copyPath(storage: OpenStorage, file: WantedFile, options: ReadOptions | undefined): string {
    const how = file.packed !== undefined ? ['unpacked', file.packed] : file.format ? [file.format, 'parquet'] : options?.format === 'xml' || (options?.format === 'json' && isCutByUs(options)) ? [JSON.stringify(options)] : options?.format === 'avro' || options?.format === 'arrow' ? [options.format] : options?.format === 'csv' && isCutByUs(options) ? [JSON.stringify({ ...options, forms: {}, nullTexts: [], misfits: '' })] : options && options.format !== 'parquet' ? [options.encoding, options.compression] : [];
    const key = createHash('sha256').update([storage.storage.id, file.path, file.bytes, file.modified ?? '', file.etag ?? '', ...how].join('\0')).digest('hex').slice(0, 32);
    const name = baseName(file.path).replace(/[^\w.-]/g, '_').slice(-60);
    return path.join(this.folderOf(storage), key.slice(0, 2), `${key}-${name}`);
  }

  #hold(copy: string, by: 1 | -1): void {
    const kept = this.#kept.get(copy) ?? { bytes: 0, used: 0, held: 0 };
    kept.held += by;
    kept.used = Date.now();
    this.#kept.set(copy, kept);
  }

  async #ensure(copy: string, make: () => Promise<void>): Promise<void> {
    if (this.#kept.get(copy)!.bytes > 0 && (await stat(copy).catch(() => undefined))) {
      utimesSync(copy, new Date(), new Date());
      return;
    }
    const making = this.#making.get(copy) ?? make().finally(() => this.#making.delete(copy));
    this.#making.set(copy, making);
    await making;
    const { size } = await stat(copy);
    const kept = this.#kept.get(copy)!;
    this.#bytes += size - kept.bytes;
    kept.bytes = size;
    this.#evict();
  }

  #fetched(storage: OpenStorage, file: WantedFile, copy: string): Promise<void> {
    return this.#fetches.add(() => this.#whole(copy, async (part) => {
      await storage.store.fetchFile(file.path, part);
      const { size } = await stat(part);
      if (size !== file.bytes) throw new LakeError('bad-file', `${storage.storage.name}:${file.path} has ${size} bytes, where ${file.bytes} were expected: it was changed, or cut short on the way.`, { path: file.path, hint: 'Crawl the folder again, or run the query again.' });
    }));
  }

  async #converted(storage: OpenStorage, file: WantedFile, options: ReadOptions, copy: string): Promise<void> {
    const source = await this.lease(storage, [file]);
    try {
      await this.#conversions.add(() => this.#whole(copy, (part) => this.#convert({ options, source: source.pathOf(file), target: part, name: `${storage.storage.name}:${file.path}` })));
    } finally {
      source.release();
    }
  }

  /** In another process where there is one: files can be made to hold a program up. */
  async #convert(ask: Omit<Calls['convert']['ask'], 'mostBytes'>): Promise<void> {
    const { options, source, target, name } = ask;
    if (!this.engine) return convert(options, source, target, name, this.limitBytes);
    await inOtherProcess(name, this.engine.call('convert', { ...ask, mostBytes: this.limitBytes }));
  }

  async #unpacked(storage: OpenStorage, { packed: _, ...file }: WantedFile, compression: Compression, copy: string): Promise<void> {
    const name = `${storage.storage.name}:${file.path}`;
    const { engine } = this;
    if (!engine) throw new LakeError('unsupported', `${name} is packed as ${compression}, which is not unpacked here.`, { path: file.path });
    const source = await this.lease(storage, [file]);
    try {
      await this.#conversions.add(() => this.#whole(copy, async (part) => {
        await inOtherProcess(name, engine.call('unpack', { source: source.pathOf(file), target: part, compression, name, mostBytes: this.limitBytes }));
      }));
    } finally {
      source.release();
    }
  }

  async #asParquet(storage: OpenStorage, { format: _, ...file }: WantedFile, copy: string): Promise<void> {
    const { engine } = this;
    const name = `${storage.storage.name}:${file.path}`;
    if (!engine) throw new LakeError('unsupported', `${name} is an Avro file, which is not read here.`, { path: file.path });
    const source = await this.lease(storage, [file]);
    const lines = `${copy}.lines.part`;
    try {
      await this.#conversions.add(() => this.#whole(copy, async (part) => {
        const fields = fieldsOfAvro(avroSchemaOf(await readPart(source.pathOf(file), { start: 0, end: AVRO_HEAD_BYTES }), name));
        await this.#convert({ options: { format: 'avro' }, source: source.pathOf(file), target: lines, name });
        await engine.call('run', { sql: parquetOfLines(fields, lines, part) });
      }));
    } finally {
      source.release();
      await rm(lines, { force: true });
    }
  }

  /** A copy appears under its name only when it is whole. */
  async #whole(copy: string, make: (part: string) => Promise<void>): Promise<void> {
    mkdirSync(path.dirname(copy), { recursive: true });
    const part = `${copy}.part`;
    try {
      await make(part);
      await rename(part, copy);
    } catch (error) {
      await rm(part, { force: true });
      throw error;
    }
  }

  #evict(): void {
    if (this.#bytes <= this.limitBytes) return;
    const idle = [...this.#kept].filter(([, kept]) => kept.held === 0).sort((a, b) => a[1].used - b[1].used);
    for (const [copy, kept] of idle) {
      if (this.#bytes <= this.limitBytes) return;
      rmSync(copy, { force: true });
      this.#kept.delete(copy);
      this.#bytes -= kept.bytes;
    }
  }

  /** Copies of an earlier run; unfinished ones are removed. */
  #readStorage(folder: string): void {
    for (const entry of readdirSync(folder, { recursive: true, withFileTypes: true })) {
      if (!entry.isFile()) continue;
      const file = path.join(entry.parentPath, entry.name);
      if (entry.name.endsWith('.part')) {
        rmSync(file);
        continue;
      }
      const { size, mtimeMs } = statSync(file);
      this.#kept.set(file, { bytes: size, used: mtimeMs, held: 0 });
      this.#bytes += size;
    }
    this.#evict();
  }
}

/** Faults of the file are told as such. `name` is `storage:path`. */
export async function inOtherProcess<T>(name: string, call: Promise<T>): Promise<T> {
  return call.catch((error: unknown) => {
    if (!(error instanceof EngineError)) throw error;
    throw new LakeError(error.kind === 'limit' ? 'limit' : 'bad-file', error.message, { path: name.slice(name.indexOf(':') + 1) });
  });
}
