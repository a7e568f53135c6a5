import { LakeError } from '../errors';
import type { Clock, FolderPage, ObjectInfo, ObjectStore } from './object-store';

/** A store in memory, for tests of everything above the port. */
export class MemoryStore implements ObjectStore {
  readonly uri: string;
  readonly #files = new Map<string, { bytes: Uint8Array; modified: number }>();
  readonly #clock: Clock;

  constructor(options: { uri?: string; clock?: Clock } = {}) {
    this.uri = options.uri ?? 'memory://lake';
    this.#clock = options.clock ?? { now: () => Date.now() };
  }

  async list(folder: string): Promise<ObjectInfo[]> {
    const prefix = folder === '' ? '' : `${folder}/`;
    return [...this.#files.keys()].filter((path) => path.startsWith(prefix)).sort().map((path) => this.#info(path));
  }

  async listFolder(folder: string): Promise<FolderPage> {
    const prefix = folder === '' ? '' : `${folder}/`;
    const folders = new Set<string>();
    const files: ObjectInfo[] = [];
    for (const file of await this.list(folder)) {
      const rest = file.path.slice(prefix.length);
      const cut = rest.indexOf('/');
      if (cut < 0) files.push(file);
      else folders.add(rest.slice(0, cut));
    }
    return { folders: [...folders].sort(), files };
  }

  async head(path: string): Promise<ObjectInfo | undefined> {
    return this.#files.has(path) ? this.#info(path) : undefined;
  }

  async read(path: string, range?: { start: number; end: number }): Promise<Uint8Array> {
    const file = this.#files.get(path);
    if (!file) throw new LakeError('not-found', `There is no file ${path}.`, { path });
    return range ? file.bytes.slice(range.start, range.end) : file.bytes.slice();
  }

  async put(path: string, bytes: Uint8Array): Promise<void> {
    this.#files.set(path, { bytes: bytes.slice(), modified: this.#clock.now() });
  }

  async putIfAbsent(path: string, bytes: Uint8Array): Promise<boolean> {
    if (this.#files.has(path)) return false;
    await this.put(path, bytes);
    return true;
  }

  async delete(path: string): Promise<void> {
    this.#files.delete(path);
  }

  #info(path: string): ObjectInfo {
    const file = this.#files.get(path)!;
    return { path, bytes: file.bytes.length, modified: file.modified };
  }
}
