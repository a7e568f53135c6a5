/**
 * A store in which containers are folders too: what lies below `orders.zip/` is what is in `orders.zip`. It is asked for only
 * where a path says so; listings give containers as the files they are. Members are read, never written.
 */
import { copyFile } from 'node:fs/promises';
import path from 'node:path';
import { LakeError } from '../../core/errors';
import { containerKind, mayLeadInside, memberPath } from '../../core/storage/members';
import type { FolderPage, ObjectInfo } from '../../core/storage/object-store';
import { below, joinPath, normalPath } from '../../core/storage/paths';
import type { Containers, OpenContainer } from '../lake/containers';
import type { LakeStore } from './lake-store';
import { readPart } from './read-part';

interface Inside {
  container: ObjectInfo;
  content: OpenContainer;
  /** Within the container; '' for all of it. */
  member: string;
}

export class MemberStore implements LakeStore {
  readonly uri: string;
  readonly root?: string;
  readonly localPaths?: (paths: readonly string[]) => Promise<Map<string, string>>;

  constructor(
    readonly store: LakeStore,
    readonly name: string,
    /** Absent until there is a process to unpack in. */
    readonly containers: () => Containers | undefined,
  ) {
    this.uri = store.uri;
    if (store.root !== undefined) this.root = store.root;
    if (store.localPaths) this.localPaths = (paths) => this.#localPaths(paths);
  }

  async list(folder: string, signal?: AbortSignal): Promise<ObjectInfo[]> {
    const inside = await this.#inside(folder);
    return inside ? membersBelow(inside) : this.store.list(folder, signal);
  }

  /** Every file below the folder, with what is in containers in their place. One that cannot be read stays as the file it is. */
  async listWithMembers(folder: string, signal?: AbortSignal): Promise<ObjectInfo[]> {
    const found: ObjectInfo[] = [];
    for (const file of await this.list(folder, signal)) {
      const kind = file.bytes > 0 && !memberPath(file.path)?.member ? containerKind(file.path) : undefined;
      signal?.throwIfAborted();
      const members = kind ? await this.list(file.path).catch(keepFile) : [];
      found.push(...(members.length > 0 ? members : [file]));
    }
    return found;
  }

  async containerNotes(file: string): Promise<string[]> {
    return (await this.#inside(file))?.content.notes ?? [];
  }

  async listFolder(folder: string): Promise<FolderPage> {
    const inside = await this.#inside(folder);
    if (!inside) return this.store.listFolder(folder);
    const here = normalPath(folder);
    const folders = new Set<string>();
    const files: ObjectInfo[] = [];
    for (const file of membersBelow(inside)) {
      const rest = below(here, file.path)!;
      const cut = rest.indexOf('/');
      if (cut < 0) files.push(file);
      else folders.add(rest.slice(0, cut));
    }
    return { folders: [...folders].sort(), files: files.sort((a, b) => (a.path < b.path ? -1 : 1)) };
  }

  async head(file: string): Promise<ObjectInfo | undefined> {
    if (!leadsInside(file)) return this.store.head(file);
    const found = await this.store.head(file).catch((error: unknown) => {
      if (error instanceof LakeError) return undefined;
      throw error;
    });
    if (found) return found;
    const inside = await this.#inside(file);
    return inside && membersBelow(inside).find((each) => each.path === normalPath(file));
  }

  async read(file: string, range?: { start: number; end: number }): Promise<Uint8Array> {
    const local = await this.#memberFile(file);
    return local === undefined ? this.store.read(file, range) : readPart(local, range ?? { start: 0, end: Infinity });
  }

  async fetchFile(file: string, localFile: string): Promise<void> {
    const local = await this.#memberFile(file);
    await (local === undefined ? this.store.fetchFile(file, localFile) : copyFile(local, localFile));
  }

  put(file: string, bytes: Uint8Array): Promise<void> {
    return this.store.put(file, bytes);
  }

  putIfAbsent(file: string, bytes: Uint8Array): Promise<boolean> {
    return this.store.putIfAbsent(file, bytes);
  }

  putFile(file: string, localFile: string): Promise<void> {
    return this.store.putFile(file, localFile);
  }

  delete(file: string): Promise<void> {
    return this.store.delete(file);
  }

  hasFolder(folder: string): Promise<boolean> {
    return this.store.hasFolder(folder);
  }

  makeFolder(folder: string): Promise<void> {
    return this.store.makeFolder(folder);
  }

  move(from: string, to: string): Promise<void> {
    return this.store.move(from, to);
  }

  removeFolder(folder: string): Promise<void> {
    return this.store.removeFolder(folder);
  }

  /** The container that a path leads to or into, opened; undefined where it leads to plain files or folders. */
  async #inside(file: string): Promise<Inside | undefined> {
    const place = mayLeadInside(`${file}/`) ? memberPath(normalPath(file)) : undefined;
    const containers = place && this.containers();
    if (!place || !containers) return undefined;
    const container = await this.store.head(place.container);
    // A folder may be named so.
    if (!container) return undefined;
    return {
      container,
      content: await containers.open(this.store, this.name, container, place.kind),
      member: place.member,
    };
  }

  async #memberFile(file: string): Promise<string | undefined> {
    if (!leadsInside(file)) return undefined;
    const inside = await this.#inside(file);
    if (!inside) return undefined;
    const found = inside.content.members.find((each) => each.path === inside.member);
    if (!found)
      throw new LakeError('not-found', `There is no ${inside.member} in ${this.name}:${inside.container.path}.`, {
        path: file,
      });
    return path.join(inside.content.folder, found.file);
  }

  async #localPaths(paths: readonly string[]): Promise<Map<string, string>> {
    const within = paths.filter(leadsInside);
    if (within.length === 0) return this.store.localPaths!(paths);
    const found = new Map<string, string>();
    for (const each of within) {
      const local = await this.#memberFile(each);
      if (local !== undefined) found.set(each, local);
    }
    const others = await this.store.localPaths!(paths.filter((each) => !found.has(each)));
    return new Map([...others, ...found]);
  }
}

function leadsInside(file: string): boolean {
  return mayLeadInside(file) && Boolean(memberPath(normalPath(file))?.member);
}

function keepFile(error: unknown): ObjectInfo[] {
  if (error instanceof LakeError) return [];
  throw error;
}

/** Of the time and etag of their container, since it is what changes. */
function membersBelow({ container, content, member }: Inside): ObjectInfo[] {
  const { path: at, bytes: _, ...state } = container;
  return content.members
    .filter((each) => member === '' || each.path === member || below(member, each.path) !== undefined)
    .map((each) => ({ ...state, path: joinPath(at, each.path), bytes: each.bytes }));
}
