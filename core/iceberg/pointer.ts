/** Where a table's current metadata file is, and how the next one takes its place in one step. */
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

/** The catalog's compare-and-swap of one table's pointer. */
export interface PointerCell {
  read(): Promise<string | undefined>;
  swap(expected: string | undefined, next: string): Promise<boolean>;
}

/**
 * The catalog owns the pointer: the metadata file gets a name nobody else can have, then the cell is swapped. After
 * that the state is also published the way file-system readers look for it (`v{N}.metadata.json`, `version-hint.text`);
 * those never decide anything, and show committed states only.
 */
export class CatalogPointer implements MetadataPointer {
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
    const path = joinPath(this.root, 'metadata', `${String(number).padStart(5, '0')}-${this.ids.uuid()}.metadata.json`);
    const bytes = metadataBytes(next);
    await this.store.put(path, bytes);
    if (!(await this.cell.swap(expected, path))) {
      await this.store.delete(path);
      return undefined;
    }
    await this.store.put(joinPath(this.root, 'metadata', `v${number}.metadata.json`), bytes);
    await this.store.put(joinPath(this.root, 'metadata', 'version-hint.text'), toBytes(String(number)));
    return path;
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
    await this.store.put(joinPath(this.root, 'metadata', 'version-hint.text'), toBytes(String(number)));
    return path;
  }
}

/** 5 for `v5.metadata.json`, `v5.gz.metadata.json` and `00005-<uuid>.metadata.json`. */
export function metadataNumber(path: string): number | undefined {
  const match = /^(?:v(\d+)|(\d+)-[^/]*?)(?:\.gz)?\.metadata\.json(?:\.gz)?$/.exec(baseName(path));
  return match ? Number(match[1] ?? match[2]) : undefined;
}
