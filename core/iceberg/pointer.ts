/** Where a table's current metadata file is, and how the next one takes its place in one step. */
import { gzipSync } from 'node:zlib';
import { LakeError } from '../errors';
import type { Ids, ObjectStore } from '../storage/object-store';
import { toBytes, toText } from '../storage/object-store';
import { baseName, joinPath } from '../storage/paths';
import { metadataBytes, type TableMetadata } from './metadata';

export interface MetadataPointer {
  /** Path in the store of the current metadata file, or undefined when the table does not exist yet. */
  current(): Promise<string | undefined>;
  /**
   * Makes `next` current if `expected` still is, and returns its path; undefined when somebody else came first.
   * `number` counts the metadata files of the table from 1.
   */
  replace(expected: string | undefined, next: TableMetadata, number: number): Promise<string | undefined>;
}

function isPacked({ properties }: TableMetadata): boolean {
  return properties?.['write.metadata.compression-codec'] === 'gzip';
}

export interface WrittenMetadata {
  /** In the store. */
  path: string;
  number: number;
  bytes: Uint8Array;
  isPacked: boolean;
  /** Names of the files that the metadata's own log names, which stay. */
  logged: ReadonlySet<string>;
}

/** The catalog's compare-and-swap of one table's pointer. */
export interface PointerCell {
  read(): Promise<string | undefined>;
  swap(expected: string | undefined, next: string): Promise<boolean>;
}

/** A pointer in memory, as of a table that is in no catalog yet. */
export function memoryCell(first?: string): PointerCell {
  let current = first;
  return {
    read: async () => current,
    swap: async (expected, next) => {
      if (expected !== current) return false;
      current = next;
      return true;
    },
  };
}

/**
 * The catalog owns the pointer: the metadata file gets a name nobody else can have, then the cell is swapped. After
 * that the state is also published the way file-system readers look for it (`v{N}.metadata.json`, `version-hint.text`);
 * those never decide anything, and show committed states only.
 */
export class CatalogPointer implements MetadataPointer {
  #publishing = false;
  #waiting: WrittenMetadata | undefined;
  /** Names of copies that stand beside the table's own metadata files, oldest first; undefined until they were looked for. */
  #copies: string[] | undefined;

  constructor(
    readonly store: ObjectStore,
    readonly root: string,
    readonly cell: PointerCell,
    readonly ids: Ids,
  ) {}

  current(): Promise<string | undefined> {
    return this.cell.read();
  }

  async replace(expected: string | undefined, next: TableMetadata, number: number): Promise<string | undefined> {
    const written = await this.write(next, number);
    if (!(await this.cell.swap(expected, written.path))) {
      await this.store.delete(written.path);
      return undefined;
    }
    await this.published(written);
    return written.path;
  }

  /** A metadata file that nothing points to yet. */
  write(next: TableMetadata, number: number): Promise<WrittenMetadata> {
    return this.writeAt(this.nameFor(next, number), next, number);
  }

  /** Where a metadata file with this number will lie; asked for before it is written by what comes after it. */
  nameFor(next: TableMetadata, number: number): string {
    return joinPath(this.root, 'metadata', `${String(number).padStart(5, '0')}-${this.ids.uuid()}${isPacked(next) ? '.gz' : ''}.metadata.json`);
  }

  async writeAt(path: string, next: TableMetadata, number: number): Promise<WrittenMetadata> {
    const plain = metadataBytes(next);
    const bytes = isPacked(next) ? gzipSync(plain) : plain;
    await this.store.put(path, bytes);
    return { path, number, bytes, isPacked: isPacked(next), logged: new Set((next['metadata-log'] ?? []).map((each) => baseName(each['metadata-file']))) };
  }

  /** Shows a committed state to file-system readers. While one is being shown only the newest of those that wait is shown next. */
  async published(written: WrittenMetadata): Promise<void> {
    if (this.#publishing) {
      if (!this.#waiting || this.#waiting.number < written.number) this.#waiting = written;
      return;
    }
    this.#publishing = true;
    try {
      for (let next: WrittenMetadata | undefined = written; next; next = this.#waiting) {
        this.#waiting = undefined;
        const name = `v${next.number}${next.isPacked ? '.gz' : ''}.metadata.json`;
        await publish(this.store, this.root, next.number, { name, bytes: next.bytes });
        await this.#clearCopies(name, next.logged);
      }
    } finally {
      this.#publishing = false;
    }
  }

  /** Copies of older states, which nothing names any more. Failing to remove them fails nothing; upkeep finds them. */
  async #clearCopies(newest: string, logged: ReadonlySet<string>): Promise<void> {
    try {
      this.#copies ??= (await this.store.listFolder(joinPath(this.root, 'metadata'))).files
        .map(({ path }) => baseName(path)).filter((name) => isCopy(name) && name !== newest).sort((a, b) => metadataNumber(a)! - metadataNumber(b)!);
      this.#copies.push(newest);
      // Of a table that followed its own files before, such files are no copies.
      for (const name of this.#copies.splice(0, this.#copies.length - COPIES_KEPT)) if (!logged.has(name)) await this.store.delete(joinPath(this.root, 'metadata', name));
    } catch (error) {
      if (!(error instanceof LakeError)) throw error;
    }
  }
}

/** Copies that stay: the one that the hint names, and the one that somebody may be reading who just read the hint. */
export const COPIES_KEPT = 2;

/** Whether a file is the state of a table as file-system readers look for it. */
export function isCopy(path: string): boolean {
  return /(^|\/)v\d+(\.gz)?\.metadata\.json$/.test(path);
}

/** It is committed by now, so what only helps others to find it may fail. */
async function publish(store: ObjectStore, root: string, number: number, metadata?: { name: string; bytes: Uint8Array }): Promise<void> {
  const put = (name: string, content: Uint8Array) => store.put(joinPath(root, 'metadata', name), content);
  try {
    if (metadata) await put(metadata.name, metadata.bytes);
    await put('version-hint.text', toBytes(String(number)));
  } catch (error) {
    if (!(error instanceof LakeError)) throw error;
  }
}

/** Nobody's catalog owns the table: the files themselves are the truth, `v{N}.metadata.json` put if absent. */
export class FilePointer implements MetadataPointer {
  constructor(
    readonly store: ObjectStore,
    readonly root: string,
  ) {}

  async current(): Promise<string | undefined> {
    const { files } = await this.store.listFolder(joinPath(this.root, 'metadata'));
    const numbered = files
      .map(({ path }) => ({ path, number: metadataNumber(path) }))
      .filter((each): each is { path: string; number: number } => each.number !== undefined)
      .sort((a, b) => a.number - b.number);
    const hint = files.find(({ path }) => baseName(path) === 'version-hint.text');
    if (!hint) return numbered.at(-1)?.path;
    // The hint may lag behind, never lead; the file-system layout's numbered files after it count.
    const from = Number(toText(await this.store.read(hint.path)).trim());
    if (!Number.isInteger(from)) throw new LakeError('bad-file', `${hint.path}: expected a version number.`, { path: hint.path });
    return numbered.findLast((each) => /^v\d/.test(baseName(each.path)) && each.number >= from)?.path ?? numbered.at(-1)?.path;
  }

  async replace(expected: string | undefined, next: TableMetadata, number: number): Promise<string | undefined> {
    if ((await this.current()) !== expected) return undefined;
    const path = joinPath(this.root, 'metadata', `v${number}.metadata.json`);
    if (!(await this.store.putIfAbsent(path, metadataBytes(next)))) return undefined;
    await publish(this.store, this.root, number);
    return path;
  }
}

/** 5 for `v5.metadata.json`, `v5.gz.metadata.json` and `00005-<uuid>.metadata.json`. */
export function metadataNumber(path: string): number | undefined {
  const match = /^(?:v(\d+)|(\d+)-[^/]*?)(?:\.gz)?\.metadata\.json(?:\.gz)?$/.exec(baseName(path));
  return match ? Number(match[1] ?? match[2]) : undefined;
}
