/** A local folder as an object store. */
import { createHash } from 'node:crypto';
import { constants, createWriteStream, lstatSync, readdirSync, realpathSync, rmSync, statSync } from 'node:fs';
import { copyFile, link, mkdir, open, readdir, readlink, realpath, rename, rm, rmdir, stat, unlink, utimes, type FileHandle } from 'node:fs/promises';
import { hostname } from 'node:os';
import path from 'node:path';
import { pipeline } from 'node:stream/promises';
import { pathToFileURL } from 'node:url';
import { LakeError } from '../../core/errors';
import type { Clock, FolderPage, ObjectInfo } from '../../core/storage/object-store';
import { baseName, joinPath, normalPath, parentPath } from '../../core/storage/paths';
import type { LakeStore } from './lake-store';

let temporaryFiles = 0;

export class DiskStore implements LakeStore {
  /** Files on their way to the disk; they are there before the next commit shows. */
  readonly #syncing = new Set<Promise<unknown>>();
  readonly uri: string;
  readonly root: string;
  /** When given, files take its time as their modified time; the demo's history lies in the past. */
  readonly #stamp: Clock | undefined;

  constructor(root: string, options: { stampWith?: Clock } = {}) {
    this.root = realpathSync(root);
    this.uri = pathToFileURL(this.root).href;
    this.#stamp = options.stampWith;
  }

  /** The file's place on disk. Fails when the path, or a link on it, leads out of the storage. */
  async localPath(storePath: string): Promise<string> {
    const full = path.join(this.root, normalPath(storePath));
    const real = await realpath(full).catch((error: NodeJS.ErrnoException) => {
      throw asLakeError(error, storePath);
    });
    return this.#inside(real, storePath);
  }

  #inside(real: string, storePath: string): string {
    if (real === this.root || real.startsWith(this.root + path.sep)) return real;
    throw new LakeError('refused', `${storePath} is a link that leads out of its storage.`, { path: storePath, hint: 'Put the file itself there, or connect the folder that it lies in as a storage of its own.' });
  }

  /** For programs that open files by their path, such as the engine; asked just before they do. A file that is not there stays where it was named. */
  async localPaths(paths: readonly string[]): Promise<Map<string, string>> {
    const found = new Map<string, string>();
    const folders = new Map<string, string>();
    for (const [index, storePath] of paths.entries()) {
      const full = path.join(this.root, normalPath(storePath));
      const named = path.dirname(full);
      let folder = folders.get(named);
      if (folder === undefined) {
        folder = this.#inside(await realpath(named).catch(() => named), storePath);
        folders.set(named, folder);
      }
      const here = path.join(folder, path.basename(full));
      // Synchronous on purpose: several times as fast, and a few microseconds each.
      const isLink = isLinkAt(here, storePath);
      found.set(storePath, isLink ? this.#inside(await realpath(here).catch(() => here), storePath) : here);
      if (index % LOOKED_AT_ONCE === LOOKED_AT_ONCE - 1) await new Promise((resolve) => setImmediate(resolve));
    }
    return found;
  }

  /** Opens what was checked: a link that is put there meanwhile is not followed. */
  async #openHere(storePath: string): Promise<FileHandle> {
    const real = await this.localPath(storePath);
    const file = await open(real, constants.O_RDONLY | constants.O_NOFOLLOW).catch((error: NodeJS.ErrnoException) => {
      throw asLakeError(error, storePath);
    });
    // A file that was replaced meanwhile, as commits replace theirs, is another of the same place.
    const opened = await readlink(`/proc/self/fd/${file.fd}`).catch(() => real);
    if (opened.startsWith(this.root + path.sep)) return file;
    await file.close();
    throw new LakeError('refused', `${storePath} became another file while it was opened.`, { path: storePath });
  }

  async list(folder: string, signal?: AbortSignal): Promise<ObjectInfo[]> {
    const found: ObjectInfo[] = [];
    const start = normalPath(folder);
    const full = await this.#folderHere(start);
    if (full === undefined) return found;
    // Below the first folder no link is followed, so every place is inside.
    const pending = [{ inside: start, full }];
    for (let folders = 1; pending.length > 0; folders++) {
      const next = pending.pop()!;
      const page = entriesOf(next.inside, next.full);
      found.push(...page.files);
      for (const name of page.folders.reverse()) pending.push({ inside: joinPath(next.inside, name), full: `${next.full}/${name}` });
      if (folders % FOLDERS_AT_ONCE === 0) await new Promise((resolve) => setImmediate(resolve));
      signal?.throwIfAborted();
    }
    return found;
  }

  async listFolder(folder: string): Promise<FolderPage> {
    const inside = normalPath(folder);
    const full = await this.#folderHere(inside);
    return full === undefined ? { folders: [], files: [] } : entriesOf(inside, full);
  }

  #folderHere(inside: string): Promise<string | undefined> {
    return this.localPath(inside).catch((error: unknown) => {
      if (error instanceof LakeError && error.kind === 'not-found') return undefined;
      throw error;
    });
  }

  async head(storePath: string): Promise<ObjectInfo | undefined> {
    try {
      const info = await stat(await this.localPath(storePath));
      return info.isFile() ? { path: normalPath(storePath), bytes: info.size, modified: Math.floor(info.mtimeMs) } : undefined;
    } catch (error) {
      if (error instanceof LakeError && error.kind === 'not-found') return undefined;
      throw error;
    }
  }

  async read(storePath: string, range?: { start: number; end: number }): Promise<Uint8Array> {
    const file = await this.#openHere(storePath);
    try {
      const info = await file.stat();
      if (!info.isFile()) throw new LakeError('bad-request', `${storePath} is a folder, where a file was expected.`, { path: storePath });
      const { size } = info;
      const start = Math.min(range?.start ?? 0, size);
      const length = Math.max(0, Math.min(range?.end ?? size, size) - start);
      const bytes = new Uint8Array(length);
      if (length === 0) return bytes;
      await file.read(bytes, 0, length, start);
      return bytes;
    } finally {
      await file.close();
    }
  }

  async put(storePath: string, bytes: Uint8Array): Promise<void> {
    const full = await this.#makeRoom(storePath);
    const [temporary] = await Promise.all([this.#temporary(full, bytes), this.#synced()]);
    await rename(temporary, full);
    await syncPath(path.dirname(full));
  }

  /** Linking a finished file is atomic and refuses to replace; renaming would replace, exclusive creation shows half a file. */
  async putIfAbsent(storePath: string, bytes: Uint8Array): Promise<boolean> {
    const full = await this.#makeRoom(storePath);
    // What this file may speak of must be on disk before it shows.
    const [temporary] = await Promise.all([this.#temporary(full, bytes), this.#synced()]);
    try {
      await link(temporary, full);
      await Promise.all([syncPath(path.dirname(full)), unlink(temporary)]);
      return true;
    } catch (error) {
      await unlink(temporary).catch(() => undefined);
      if ((error as NodeJS.ErrnoException).code === 'EEXIST') return false;
      throw error;
    }
  }

  /** Files that were put before are on disk. */
  async #synced(): Promise<void> {
    await Promise.all(this.#syncing);
  }

  async delete(storePath: string): Promise<void> {
    const inside = normalPath(storePath);
    const folder = await this.localPath(parentPath(inside)).catch((error: unknown) => {
      if (error instanceof LakeError && error.kind === 'not-found') return undefined;
      throw error;
    });
    if (folder !== undefined) await rm(path.join(folder, baseName(inside)), { force: true });
  }

  async putFile(storePath: string, localFile: string): Promise<void> {
    const full = await this.#makeRoom(storePath);
    await rename(localFile, full).catch(async (error: NodeJS.ErrnoException) => {
      // From another disk: a copy beside the target first, so that no half file shows.
      if (error.code !== 'EXDEV') throw error;
      const temporary = temporaryName(full);
      await copyFile(localFile, temporary);
      await rename(temporary, full);
      await unlink(localFile);
    });
    await this.stamp(storePath);
    const syncing = Promise.all([syncPath(full), syncPath(path.dirname(full))]).catch(() => undefined).finally(() => this.#syncing.delete(syncing));
    this.#syncing.add(syncing);
  }

  async fetchFile(storePath: string, localFile: string): Promise<void> {
    const file = await this.#openHere(storePath);
    await pipeline(file.createReadStream(), createWriteStream(localFile));
  }

  async hasFolder(folder: string): Promise<boolean> {
    return this.localPath(folder).then(async (full) => (await stat(full)).isDirectory(), () => false);
  }

  async makeFolder(folder: string): Promise<void> {
    await this.#makeRoom(joinPath(normalPath(folder), 'x'));
  }

  async move(from: string, to: string): Promise<void> {
    const full = await this.#makeRoom(to);
    await rename(await this.localPath(from), full);
    await syncPath(path.dirname(full));
  }

  async removeFolder(folder: string): Promise<void> {
    const full = await this.localPath(folder);
    for (const entry of await readdir(full, { withFileTypes: true })) if (entry.isDirectory()) await this.removeFolder(joinPath(folder, entry.name));
    await rmdir(full).catch((error: NodeJS.ErrnoException) => {
      if (error.code !== 'ENOTEMPTY') throw error;
    });
  }

  /** Gives a file that the engine wrote the store's time. */
  async stamp(storePath: string): Promise<void> {
    if (!this.#stamp) return;
    const seconds = this.#stamp.now() / 1000;
    await utimes(path.join(this.root, normalPath(storePath)), seconds, seconds);
  }

  async #makeRoom(storePath: string): Promise<string> {
    const inside = normalPath(storePath);
    if (inside === '') throw new LakeError('bad-request', 'A file needs a name.');
    if (inside.split('/').some((step) => Buffer.byteLength(step) > LONGEST_NAME)) throw asLakeError(Object.assign(new Error('too long'), { code: 'ENAMETOOLONG' }), storePath);
    const full = path.join(this.root, inside);
    const folder = parentPath(inside);
    // What is there already is looked at first, so that no folder is made beyond a link that leads out.
    for (let there = folder; (await this.#folderHere(there)) === undefined; there = parentPath(there));
    await mkdir(path.dirname(full), { recursive: true }).catch((error: NodeJS.ErrnoException) => {
      throw asLakeError(error, storePath);
    });
    await this.localPath(folder);
    return full;
  }

  async #temporary(full: string, bytes: Uint8Array): Promise<string> {
    const temporary = temporaryName(full);
    const file = await open(temporary, 'wx');
    try {
      await file.writeFile(bytes);
      if (this.#stamp) await file.utimes(this.#stamp.now() / 1000, this.#stamp.now() / 1000);
      await file.sync();
    } finally {
      await file.close();
    }
    return temporary;
  }
}

/** Folders that are read before others get a turn. */
const FOLDERS_AT_ONCE = 100;

/** Synchronous on purpose: several times as fast as the asynchronous calls, and a folder at a time. */
function entriesOf(inside: string, full: string): FolderPage {
  const files: ObjectInfo[] = [];
  const folders: string[] = [];
  for (const entry of readdirSync(full, { withFileTypes: true })) {
    if (entry.isDirectory()) folders.push(entry.name);
    else if (entry.isFile() && isTemporary(entry.name)) clearLeftBehind(full, entry.name);
    else if (entry.isFile()) {
      // A file may go between the two calls.
      const info = statSync(`${full}/${entry.name}`, { throwIfNoEntry: false });
      if (info) files.push({ path: inside === '' ? entry.name : `${inside}/${entry.name}`, bytes: info.size, modified: Math.floor(info.mtimeMs) });
    }
  }
  return { folders: folders.sort(), files: files.sort((a, b) => (a.path < b.path ? -1 : 1)) };
}

/** Several machines may write to one folder. */
const HOST = createHash('sha1').update(hostname()).digest('hex').slice(0, 8);

function temporaryName(full: string): string {
  return path.join(path.dirname(full), `.${createHash('sha1').update(full).digest('hex').slice(0, 12)}.${HOST}.${process.pid}.${temporaryFiles++}.tmp`);
}

/** Files on their way, never part of anything: with the machine and the process that writes them, or of the engine. */
const TEMPORARY = /^\.[0-9a-f]{12}\.(?:([0-9a-f]{8})\.)?(\d+)\.\d+\.tmp$/;
const ENGINES = /^\.[0-9a-f-]{36}\.writing$/;
/** No write takes longer. */
const LONGEST_WRITE_MS = 24 * 3_600_000;

function isTemporary(name: string): boolean {
  return TEMPORARY.test(name) || ENGINES.test(name);
}

/** What a killed writer left behind goes when its folder is next listed; what somebody may still be writing stays. */
function clearLeftBehind(folder: string, name: string): void {
  const [, host, pid] = TEMPORARY.exec(name) ?? [];
  try {
    const isOver = host === HOST ? !isAlive(Number(pid)) : Date.now() - statSync(`${folder}/${name}`).mtimeMs > LONGEST_WRITE_MS;
    if (isOver) rmSync(`${folder}/${name}`, { force: true });
  } catch {
    // A folder that may only be read, or a file that went by itself.
  }
}

function isAlive(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return true;
  } catch (error) {
    return (error as NodeJS.ErrnoException).code === 'EPERM';
  }
}

/** A file's bytes, or a folder's entries. */
async function syncPath(full: string): Promise<void> {
  const handle = await open(full, 'r');
  try {
    await handle.sync();
  } finally {
    await handle.close();
  }
}

/** In bytes; what file systems take (common practice). */
const LONGEST_NAME = 255;
function isLinkAt(full: string, storePath: string): boolean {
  try {
    return lstatSync(full, { throwIfNoEntry: false })?.isSymbolicLink() ?? false;
  } catch (error) {
    throw asLakeError(error as NodeJS.ErrnoException, storePath);
  }
}

/** Paths that are looked at before others get a turn. */
const LOOKED_AT_ONCE = 500;

/** What the system says of a path, as the storage's own word; other errors stay as they are. */
function asLakeError(error: NodeJS.ErrnoException, storePath: string): Error {
  const shown = storePath.length > 120 ? `${storePath.slice(0, 120)}…` : storePath;
  switch (error.code) {
    case 'ENOENT':
      return missing(storePath);
    case 'ENOTDIR':
      return missing(storePath);
    case 'ENAMETOOLONG':
      return new LakeError('bad-request', `The name ${shown} is longer than this machine's file system takes.`, { path: shown, hint: 'Shorten it; where a table names a file so, its log or metadata is damaged.' });
    case 'EISDIR':
      return new LakeError('bad-request', `${shown} is a folder, where a file was expected.`, { path: storePath });
    case 'EEXIST':
      return new LakeError('conflict', `${shown} is a file, where a folder was expected.`, { path: storePath });
    case 'ELOOP':
      return new LakeError('refused', `${shown} is a link that leads nowhere.`, { path: storePath });
    case 'EACCES':
    case 'EPERM':
      return new LakeError('refused', `${shown} may not be read or written by the user that the server runs as.`, { path: storePath });
    default:
      return error;
  }
}

function missing(storePath: string): LakeError {
  return new LakeError('not-found', `There is no file or folder ${storePath === '' ? '(root)' : storePath}.`, { path: storePath });
}
