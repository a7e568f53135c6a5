/**
 * Whose a place is: the one rule that every door asks before a table is put somewhere or a file is named by one. A table's
 * files, metadata, manifests and locations lie in its own folder, or where nobody's table lies and only for those who may
 * manage everything; never in the folder of another table, and never in the trash.
 */
import { LakeError } from '../../core/errors';
import { below, decodedUri, insideStorage, normalPath, normalUri } from '../../core/storage/paths';
import { mayDo, mayDoEverywhere, type Identity } from '../access/access';
import type { Sql } from '../catalog/database';
import { listRelations, nameOf, type Namespace, type Relation } from '../catalog/relations';
import type { Lake } from './lake';
import { folderOfNew, locationOf, TRASH_FOLDER, warehouseOf, type Place } from './places';

/** A table's own place. */
export interface OwnPlace {
  /** Absent for one that is not in the catalog yet. */
  id?: number;
  name: string;
  place: Place;
}

/** Whose places are asked about, by whom. */
export interface Asking {
  sql: Sql;
  lake: Lake;
  as: Identity;
}

/** Looks the catalog up once, and only where a path is not in the table's own folder. */
export class Belonging {
  #relations: Promise<Relation[]> | undefined;

  constructor(
    readonly asking: Asking,
    readonly own: OwnPlace,
  ) {}

  /** Fails with `refused` for a file, folder or location that this table may not name; `what` is what it is called: "the manifest". */
  async check(what: string, uri: string): Promise<void> {
    const { own } = this;
    const home = spelledPlace(own.place);
    const wanted = spelled(this.asking.lake, uri);
    if (wanted === undefined) throw new LakeError('bad-request', `${own.name}: ${what} ${uri} lies outside of every connected storage, so it could not be read here. Nothing was changed.`, { table: own.name });
    if (holds(home, wanted)) return;
    const other = await this.#ownerOf(wanted);
    if (other) throw new LakeError('refused', `${own.name}: ${what} ${uri} lies in the folder of ${this.#called(other)}, whose files are its own. Nothing was changed.`, { table: own.name });
    if (this.asking.lake.storages().some((storage) => storage.storage.kind !== 'postgres' && holds(spelledPlace({ storage, path: TRASH_FOLDER }), wanted))) throw new LakeError('refused', `${own.name}: ${what} ${uri} lies among dropped tables. Nothing was changed.`, { table: own.name });
    if (mayDoEverywhere(this.asking.as, 'manage')) return;
    throw new LakeError('refused', `${own.name}: ${what} ${uri} lies outside of the table's folder ${locationOf(own.place)}. Nothing was changed.`, { table: own.name, hint: 'Whoever may manage everything can put files elsewhere.' });
  }

  async #ownerOf(uri: string): Promise<Relation | undefined> {
    const all = await (this.#relations ??= listRelations(this.asking.sql));
    return all.find((other) => other.id !== this.own.id && holds(uriOf(this.asking.lake, other), uri));
  }

  /** One that the asker may not see has no name for them. */
  #called(other: Relation): string {
    return mayDo(this.asking.as, 'see', other) ? nameOf(other) : 'another table';
  }
}

/**
 * Whether a new table may lie at a place: fails with `refused` or `bad-request` where it is another's, holds another's, lies
 * in the trash, or is not one that the namespace gives to those who may not manage everything.
 */
export async function checkPlaceForNew({ sql, lake, as }: Asking, { id, name, place }: OwnPlace, namespace: Namespace): Promise<void> {
  const where = locationOf(place);
  if (place.path === '') throw new LakeError('bad-request', 'A table cannot lie at the root of a storage.', { table: name });
  if (inTrash(place)) throw new LakeError('refused', `${name} cannot lie in ${where}, among dropped tables.`, { table: name });
  if (!mayDoEverywhere(as, 'manage')) {
    const home = homeOf(lake, namespace);
    if (!home || !holds(spelledPlace(home), spelledPlace(place))) {
      throw new LakeError('refused', `${name} cannot lie in ${where}: tables of the namespace ${namespace.name} lie below ${home ? locationOf(home) : 'its folder'}. Nothing was changed.`, { table: name, hint: 'Leave the location out, or let somebody who may manage everything make the table.' });
    }
  }
  const other = await tableAround(sql, lake, place, id);
  if (other) throw new LakeError('bad-request', `${name} cannot lie in ${where}: ${mayDo(as, 'see', other) ? nameOf(other) : 'another table'} is there. Nothing was changed.`, { table: name, hint: 'Choose a folder of its own.' });
}

/** A table in whose folder the place lies, or that lies in it, whichever storages they are named by; none for tables over a whole storage. */
export async function tableAround(sql: Sql, lake: Lake, place: Place, except?: number): Promise<Relation | undefined> {
  const where = spelledPlace(place);
  return (await listRelations(sql)).find((other) => {
    const uri = other.id === except ? undefined : uriOf(lake, other);
    return uri !== undefined && (holds(uri, where) || holds(where, uri));
  });
}

/** Undefined for views, for tables over a whole storage, and where the storage is gone. */
function uriOf(lake: Lake, { storage, location }: Relation): string | undefined {
  if (storage === null || location === null || location === '') return undefined;
  const found = lake.storages().find((each) => each.storage.name === storage);
  return found && spelledPlace({ storage: found, path: location });
}

function holds(folder: string | undefined, uri: string): boolean {
  return folder !== undefined && (folder === uri || below(folder, uri) !== undefined);
}

/** The folder in which the product itself would put tables of the namespace. */
function homeOf(lake: Lake, namespace: Namespace): Place | undefined {
  if (namespace.storage !== null && namespace.folder !== null) return { storage: lake.storage(namespace.storage), path: namespace.folder };
  if (lake.storages().every(({ storage }) => storage.kind === 'postgres')) return undefined;
  return { storage: warehouseOf(lake, undefined), path: folderOfNew(namespace) };
}

function inTrash({ path }: Place): boolean {
  return path === TRASH_FOLDER || path.startsWith(`${TRASH_FOLDER}/`);
}

/**
 * Where a location is, in one spelling however its storage is written, so that no way of writing leads out of a folder.
 * Undefined where it lies in no storage.
 */
function spelled(lake: Lake, uri: string): string | undefined {
  for (const { storage, store } of lake.storages()) {
    if (storage.kind === 'postgres') continue;
    const inside = normalUri(uri) === normalUri(store.uri) ? '' : insideStorage(store.uri, uri);
    if (inside !== undefined) return absolute(store.uri, normalPath(inside));
  }
  return undefined;
}

function spelledPlace({ storage, path }: Place): string {
  return absolute(storage.store.uri, path);
}

function absolute(root: string, path: string): string {
  const plain = normalUri(decodedUri(root)).replace(/\/+$/, '');
  return path === '' ? plain : `${plain}/${path}`;
}
