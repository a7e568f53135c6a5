/**
 * What is in containers, unpacked once into a folder of the data folder, by a process that can be ended. A container that
 * changed has another size, time or etag, so another folder; those longest unused go first.
 */
import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { LakeError } from '../../core/errors';
import type { ContainerKind } from '../../core/storage/members';
import type { ObjectInfo } from '../../core/storage/object-store';
import type { Unpacked } from '../engine/containers';
import type { EngineCalls } from '../engine/engine';
import type { LakeStore } from '../storage/lake-store';
import { inOtherProcess } from './local-files';

export interface OpenContainer extends Unpacked {
  /** On this machine. */
  folder: string;
}

/** One that was used so short a time ago may be about to be opened. */
const STAYS_MS = 15 * 60_000;
const INDEX = 'index.json';
/** No container may hold so many times its own size, beyond what any may. */
const MOST_TIMES = 200;
const ANY_BYTES = 1e9;

export class Containers {
  readonly #kept = new Map<string, { bytes: number; used: number; content: OpenContainer }>();
  readonly #making = new Map<string, Promise<OpenContainer>>();
  /** Those that cannot be read, so that they are not tried with every listing. */
  readonly #bad = new Map<string, LakeError>();

  constructor(
    readonly folder: string,
    readonly limitBytes: number,
    readonly engine: EngineCalls,
  ) {
    mkdirSync(folder, { recursive: true });
    for (const name of readdirSync(folder)) this.#readKept(path.join(folder, name));
  }

  /** `name` is `storage:path`. Fails with what is wrong with the container. */
  async open(store: LakeStore, storage: string, file: ObjectInfo, kind: ContainerKind): Promise<OpenContainer> {
    const key = createHash('sha256')
      .update([store.uri, file.path, file.bytes, file.modified, file.etag ?? '', kind].join('\0'))
      .digest('hex')
      .slice(0, 32);
    const kept = this.#kept.get(key);
    if (kept) {
      kept.used = Date.now();
      return kept.content;
    }
    const bad = this.#bad.get(key);
    if (bad) throw bad;
    const making =
      this.#making.get(key) ??
      this.#make(store, `${storage}:${file.path}`, file, kind, key).finally(() => this.#making.delete(key));
    this.#making.set(key, making);
    return making;
  }

  async #make(
    store: LakeStore,
    name: string,
    file: ObjectInfo,
    kind: ContainerKind,
    key: string,
  ): Promise<OpenContainer> {
    const folder = path.join(this.folder, key);
    const part = `${folder}.part`;
    rmSync(part, { recursive: true, force: true });
    mkdirSync(part, { recursive: true });
    try {
      const here = (await store.localPaths?.([file.path]))?.get(file.path);
      const source = here ?? path.join(part, 'container');
      if (here === undefined) await store.fetchFile(file.path, source);
      const mostBytes = Math.min(this.limitBytes, ANY_BYTES + file.bytes * MOST_TIMES);
      const found = await inOtherProcess(
        name,
        this.engine.call('container', { kind, source, target: part, name, mostBytes }),
      );
      if (here === undefined) rmSync(source);
      writeFileSync(path.join(part, INDEX), JSON.stringify(found));
      rmSync(folder, { recursive: true, force: true });
      renameSync(part, folder);
      return this.#keep(key, folder, found);
    } catch (error) {
      rmSync(part, { recursive: true, force: true });
      // What took too long or too much may not the next time.
      if (error instanceof LakeError && error.kind === 'bad-file') {
        if (this.#bad.size > 1000) this.#bad.clear();
        this.#bad.set(key, error);
      }
      throw error;
    }
  }

  #keep(key: string, folder: string, found: Unpacked): OpenContainer {
    const content = { ...found, folder };
    this.#kept.set(key, { bytes: found.members.reduce((sum, each) => sum + each.bytes, 0), used: Date.now(), content });
    this.#evict();
    return content;
  }

  #evict(): void {
    let bytes = [...this.#kept.values()].reduce((sum, each) => sum + each.bytes, 0);
    for (const [key, each] of [...this.#kept].sort((a, b) => a[1].used - b[1].used)) {
      if (bytes <= this.limitBytes || Date.now() - each.used < STAYS_MS) return;
      this.#kept.delete(key);
      rmSync(each.content.folder, { recursive: true, force: true });
      bytes -= each.bytes;
    }
  }

  /** What an earlier run unpacked; what it did not finish is removed. */
  #readKept(folder: string): void {
    const index = path.join(folder, INDEX);
    if (folder.endsWith('.part') || !existsSync(index)) {
      rmSync(folder, { recursive: true, force: true });
      return;
    }
    try {
      this.#keep(path.basename(folder), folder, JSON.parse(readFileSync(index, 'utf8')) as Unpacked);
    } catch {
      rmSync(folder, { recursive: true, force: true });
    }
  }
}
