/** The folder that files are written to: whether they may go there, and what stands in it. */
import { LakeError } from '../../core/errors';
import type { ObjectInfo } from '../../core/storage/object-store';
import { below, joinPath, normalPath, parentPath } from '../../core/storage/paths';
import type { Existing } from '../../core/write/folder-write';
import { demand, type Identity } from '../access/access';
import { listRelations, nameOf } from '../catalog/relations';
import type { Place } from '../lake/places';
import type { Services } from '../services';

export interface WriteTarget extends Place {
  /** What stands there now. */
  existing: ObjectInfo[];
}

/** `place`: `storage:folder`. Nothing is changed. */
export async function writeTarget({ lake, database }: Pick<Services, 'lake' | 'database'>, place: string, existing: Existing, as: Identity): Promise<WriteTarget> {
  const cut = place.indexOf(':');
  const storage = lake.storage(place.slice(0, cut));
  if (storage.storage.kind === 'postgres') throw new LakeError('bad-request', `${storage.storage.name} is a database; files are written to a folder or a bucket.`);
  const path = normalPath(place.slice(cut + 1));
  if (path === '') throw new LakeError('bad-request', 'Files are written to a folder, not to the root of a storage.', { path });
  const there = await storage.store.list(path);
  await mustBeNoTable(storage, path, there);
  for (const relation of (await listRelations(database)).filter(({ storage: name, location }) => name === storage.storage.name && location !== null && location !== '')) {
    const location = relation.location!;
    const isInside = location === path || below(location, path) !== undefined;
    if (!isInside && (existing !== 'clear' || below(path, location) === undefined)) continue;
    if (relation.definition.kind === 'lake' || existing === 'clear') {
      throw new LakeError('conflict', `${nameOf(relation)} lies at ${storage.storage.name}:${location}, so files are not ${existing === 'clear' ? 'cleared' : 'written'} there by hand. Nothing was done.`, { path, hint: isInside && relation.definition.kind === 'lake' ? `INSERT INTO ${nameOf(relation)} writes rows to it.` : 'Choose another folder.' });
    }
    demand(as, 'write', relation);
  }
  return { storage, path, existing: there };
}

/** Fails where files stand and nothing was said of them. */
export function mustBeWelcome({ storage, path, existing }: WriteTarget, wanted: Existing): void {
  if (existing.length === 0 || wanted !== 'refuse') return;
  throw new LakeError('conflict', `${existing.length} files stand in ${storage.storage.name}:${path} already. Nothing was written.`, { path, hint: "Say existing = 'add' to write beside them, existing = 'clear' to remove them first, or choose another folder." });
}

/** A table that is in no catalog is one all the same. */
async function mustBeNoTable({ store, storage }: Place['storage'], path: string, there: readonly ObjectInfo[]): Promise<void> {
  const isTable = (folder: string) => new LakeError('conflict', `A table of the lake lies in ${storage.name}:${folder}, so no files are written there by hand.`, { path: folder, hint: 'Choose another folder.' });
  const log = there.find((file) => /(^|\/)(_delta_log\/|metadata\/[^/]*\.metadata\.json$)/.test(file.path));
  if (log) throw isTable(parentPath(parentPath(log.path)));
  for (let folder = parentPath(path); folder !== ''; folder = parentPath(folder)) {
    if (await store.hasFolder(joinPath(folder, '_delta_log'))) throw isTable(folder);
    const { files } = await store.listFolder(joinPath(folder, 'metadata'));
    if (files.some((file) => file.path.endsWith('.metadata.json'))) throw isTable(folder);
  }
}
