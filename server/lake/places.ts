/** Where tables of the catalog lie: which storage an absolute location is in, where a new table goes, and how clients reach it. */
import { randomUUID } from 'node:crypto';
import { LakeError } from '../../core/errors';
import { below, joinPath, normalPath } from '../../core/storage/paths';
import type { Namespace, Relation } from '../catalog/relations';
import type { Lake, OpenStorage } from './lake';
import type { S3Settings } from '../storage/s3-store';

/** Where dropped tables wait. Hidden, so that no crawl finds tables in it. */
export const TRASH_FOLDER = '_dropped';

export interface Place {
  storage: OpenStorage;
  path: string;
}

/** Fails for a location in none of the connected storages: the catalog must be able to read what it answers for. */
export function placeOf(lake: Lake, location: string): Place {
  const wanted = location.replace(/^file:\/*(?=\/)/, 'file://').replace(/\/+$/, '');
  for (const storage of lake.storages()) {
    if (storage.storage.kind === 'postgres') continue;
    const uri = storage.store.uri;
    const inside = wanted === uri ? '' : below(uri, wanted);
    if (inside !== undefined) return { storage, path: normalPath(inside) };
  }
  throw new LakeError('bad-request', `The location ${location} is in none of the storages that are connected. Use one below ${lake.storages().filter(({ storage }) => storage.kind !== 'postgres').map(({ store }) => store.uri).join(' or ') || 'a storage, once one is connected'}.`);
}

/** The folder that the namespace is tied to, else one named as it is in the warehouse; never one where something lies already. */
export async function placeForNew(lake: Lake, namespace: Namespace, name: string, warehouse: string | undefined): Promise<Place> {
  const tied = warehouse === undefined && namespace.storage !== null && namespace.folder !== null;
  const storage = tied ? lake.storage(namespace.storage!) : warehouseOf(lake, warehouse);
  const folder = tied ? namespace.folder! : folderOfNew(namespace);
  const path = joinPath(folder, asStep(name));
  const { files, folders } = await storage.store.listFolder(path);
  return { storage, path: files.length + folders.length === 0 ? path : `${path}-${randomUUID().slice(0, 8)}` };
}

/** Where tables of a namespace lie that is tied to no folder, in the warehouse's storage. */
export function folderOfNew(namespace: Pick<Namespace, 'name'>): string {
  return joinPath('warehouse', ...namespace.name.split('.').map(asStep));
}

/** The storage of that name, or the first that files can be written to. */
export function warehouseOf(lake: Lake, name: string | undefined): OpenStorage {
  if (name !== undefined) return lake.storage(name);
  const found = lake.storages().find(({ storage }) => storage.kind === 'folder') ?? lake.storages().find(({ storage }) => storage.kind === 's3');
  if (!found) throw new LakeError('bad-request', 'No storage is connected yet, so there is no place for a table. Connect one first.');
  return found;
}

function asStep(name: string): string {
  return name.replace(/[^\p{L}\p{N}_.-]/gu, '_').replace(/^\.+/, '_');
}

/** What a client must know to reach the files of a storage, by the protocol's own property names ("LoadTableResult"). */
export function clientConfig({ storage }: OpenStorage): Record<string, string> {
  if (storage.kind !== 's3') return {};
  const { endpoint, region, addressing } = storage.settings as S3Settings;
  return { 's3.endpoint': endpoint, 's3.region': region, 'client.region': region, 's3.path-style-access': String(addressing === 'path') };
}

export function locationOf({ storage, path }: Place): string {
  return `${storage.store.uri}/${path}`;
}

/** Only what lies in the storage may be named by metadata that somebody commits. */
export function isWithin(storage: OpenStorage, location: string): boolean {
  try {
    const wanted = location.replace(/^file:\/*(?=\/)/, 'file://');
    const inside = below(storage.store.uri, wanted);
    return inside !== undefined && normalPath(inside) !== '';
  } catch {
    return false;
  }
}

export function relationPlace(lake: Lake, relation: Relation): Place {
  return { storage: lake.storageOf(relation), path: relation.location ?? '' };
}
