/** What rests on files or on a table: told before anything is moved or removed. */
import { LakeError } from '../../core/errors';
import type { ObjectInfo } from '../../core/storage/object-store';
import { below } from '../../core/storage/paths';
import { LATEST } from '../../core/table/contract';
import { mayDo, type Identity } from '../access/access';
import { listRelations, type Relation } from '../catalog/relations';
import type { Sql } from '../catalog/database';
import { allReadersOf, readersOf, type Readers } from '../query/readers';
import type { Statements } from '../query/statements';
import type { Lake, OpenStorage } from './lake';

export interface TableUse {
  name: string;
  managed: boolean;
  /** Files of its newest version that are among those asked about; null where they cannot be told. */
  files: number | null;
  of: number | null;
  /** Views that read it. */
  views: string[];
}

export interface FilesAccount {
  files: number;
  bytes: number;
  tables: TableUse[];
}

/** Everything under the paths, each a file or a folder. Fails with `not-found` naming one that is neither. */
export async function filesUnder({ store, storage }: OpenStorage, paths: readonly string[]): Promise<ObjectInfo[]> {
  const found = await Promise.all(paths.map(async (path) => {
    const single = await store.head(path);
    if (single) return [single];
    if (!(await store.hasFolder(path))) throw new LakeError('not-found', `There is no file or folder ${path} in ${storage.name}.`, { path });
    return store.list(path);
  }));
  return [...new Map(found.flat().map((file) => [file.path, file])).values()];
}

export async function accountOfFiles(sql: Sql, lake: Lake, statements: Statements, storage: OpenStorage, paths: readonly string[], as: Identity): Promise<FilesAccount> {
  const files = await filesUnder(storage, paths);
  const gone = new Set(files.map((file) => file.path));
  const near = (await listRelations(sql)).filter((relation) => relation.kind === 'table' && relation.storage === storage.storage.name && paths.some((path) => touches(relation.location ?? '', path)));
  const tables: TableUse[] = [];
  for (const relation of near) {
    const live = await lake.table(relation).snapshot(LATEST).then((snapshot) => snapshot.files()).catch(() => undefined);
    const used = live?.filter((file) => gone.has(file.path)).length ?? null;
    const holdsItsLog = files.some((file) => isLog(below(relation.location ?? '', file.path)));
    if (used === 0 && !holdsItsLog) continue;
    tables.push({ name: `${relation.namespace}.${relation.name}`, managed: relation.managed, files: used, of: live?.length ?? null, views: await readersOf(sql, statements, relation, as) });
  }
  return { files: files.length, bytes: files.reduce((sum, file) => sum + file.bytes, 0), tables };
}

function touches(location: string, path: string): boolean {
  return location === path || below(location, path) !== undefined || below(path, location) !== undefined;
}

/** A table whose log or metadata goes is lost as a whole. */
function isLog(inside: string | undefined): boolean {
  return inside !== undefined && /^(_delta_log|metadata)\//.test(inside);
}

export interface Teardown extends Readers {
  name: string;
  kind: Relation['kind'];
  managed: boolean;
  storage: string | null;
  location: string | null;
  /** All that lies in its folder, old versions and logs too; null for a view. */
  files: number | null;
  bytes: number | null;
  versions: number | null;
  /** Tables that lie inside its folder, so that the folder cannot go. */
  inside: string[];
}

/** What taking a table or view down would leave and break. */
export async function teardownOf(sql: Sql, lake: Lake, statements: Statements, relation: Relation, as: Identity): Promise<Teardown> {
  const name = `${relation.namespace}.${relation.name}`;
  const base = { name, kind: relation.kind, managed: relation.managed, storage: relation.storage, location: relation.location, ...(await allReadersOf(sql, statements, relation, as)) };
  if (relation.kind === 'view' || relation.location === null) return { ...base, files: null, bytes: null, versions: null, inside: [] };
  const { store } = lake.storageOf(relation);
  const [files, history, all] = await Promise.all([store.list(relation.location), lake.table(relation).history().catch(() => []), listRelations(sql)]);
  const inside = all.filter((other) => other.id !== relation.id && other.storage === relation.storage && (other.location === relation.location || below(relation.location!, other.location ?? '') !== undefined)).map((other) => (mayDo(as, 'see', other) ? `${other.namespace}.${other.name}` : 'another table'));
  return { ...base, files: files.length, bytes: files.reduce((sum, file) => sum + file.bytes, 0), versions: history.filter((entry) => entry.version !== undefined).length, inside };
}

/**
 * Removes every file of a folder, and the folder. Where the storage refuses, the rest is tried all the same; fails with
 * `refused` saying how many files are left.
 */
export async function removeUnder({ store }: OpenStorage, paths: readonly string[], files: readonly ObjectInfo[], onFile: (done: number) => void = () => undefined): Promise<void> {
  const left: { path: string; error: unknown }[] = [];
  for (const [index, file] of files.entries()) {
    await store.delete(file.path).catch((error: unknown) => left.push({ path: file.path, error }));
    onFile(index + 1 - left.length);
  }
  if (left.length > 0) {
    const [{ path, error }] = left as [{ path: string; error: unknown }];
    throw new LakeError('refused', `${left.length} of ${files.length} files could not be removed; the first is ${path}${error instanceof LakeError ? ` (${error.message})` : ''}.`, { path, hint: 'The storage refuses to remove files. What is left belongs to no table any more; remove it by the storage page once it may be.' });
  }
  for (const path of paths) if (await store.hasFolder(path)) await store.removeFolder(path);
}
