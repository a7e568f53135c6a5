/** Dropped managed tables: their files wait in a folder of their storage, come back when asked, and go when their time is over. */
import { randomUUID } from 'node:crypto';
import { LakeError } from '../../core/errors';
import { below, joinPath } from '../../core/storage/paths';
import { nameOfIdentity, type Identity } from '../access/access';
import { forgetDropped, listDropped, listOverdue, moveToDropped, takeBack, type Dropped } from '../catalog/dropped';
import { nameOf, type Relation } from '../catalog/relations';
import { removeUnder, teardownOf, type Teardown } from '../lake/account';
import type { OpenStorage } from '../lake/lake';
import { TRASH_FOLDER } from '../lake/places';
import type { Services } from '../services';

export type TrashServices = Pick<Services, 'database' | 'lake' | 'queries' | 'events' | 'config'>;

const DAY_MS = 86_400_000;

/** Fails with `conflict` where another table lies in its folder; nothing is changed then. */
export async function dropToTrash({ database, lake, queries, events, config }: TrashServices, relation: Relation, as: Identity): Promise<Teardown & { keepUntil: Date }> {
  const account = await teardownOf(database, lake, queries.statements, relation, as);
  const name = nameOf(relation);
  if (account.inside.length > 0) throw new LakeError('conflict', `${account.inside.join(', ')} ${account.inside.length === 1 ? 'lies' : 'lie'} in the folder of ${name}. Nothing was changed.`, { table: name });
  const storage = lake.storageOf(relation);
  const trash = joinPath(TRASH_FOLDER, `${name}-${randomUUID().slice(0, 8)}`);
  const keepUntil = new Date(Date.now() + config.trashDays * DAY_MS);
  await moveFolder(storage, relation.location!, trash);
  try {
    await moveToDropped(database, relation, { trash, files: account.files ?? 0, bytes: account.bytes ?? 0, keepUntil }, nameOfIdentity(as));
  } catch (error) {
    await moveFolder(storage, trash, relation.location!);
    throw error;
  }
  events.tell({ topic: 'catalog' });
  return { ...account, keepUntil };
}

/** The newest of that name. Fails with `not-found` naming what could come back, `conflict` where something lies in its place by now. */
export async function undrop({ database, lake, events }: TrashServices, name: { namespace: string; name: string }, who: string): Promise<Dropped> {
  const all = await listDropped(database);
  const found = all.find((each) => nameOf(each).toLowerCase() === nameOf(name).toLowerCase());
  if (!found) throw new LakeError('not-found', `No table ${nameOf(name)} waits in the trash.`, all.length > 0 ? { hint: `There is ${all.slice(0, 8).map(nameOf).join(', ')}.` } : {});
  const storage = lake.storage(found.storage);
  if ((await storage.store.list(found.location)).length > 0) throw new LakeError('conflict', `Something lies at ${found.storage}:${found.location} by now, so ${nameOf(name)} cannot come back there.`, { path: found.location });
  await moveFolder(storage, found.trash, found.location);
  try {
    await takeBack(database, found, who);
  } catch (error) {
    await moveFolder(storage, found.location, found.trash);
    throw error;
  }
  events.tell({ topic: 'catalog' });
  return found;
}

/** Removes what has waited long enough; the number of tables. */
export async function emptyTrash({ database, lake, log }: Pick<Services, 'database' | 'lake' | 'log'>): Promise<number> {
  const overdue = await listOverdue(database);
  for (const each of overdue) {
    try {
      const storage = lake.storage(each.storage);
      await removeUnder(storage, [each.trash], await storage.store.list(each.trash));
      await forgetDropped(database, each.id);
    } catch (error) {
      log.warn({ err: error, table: nameOf(each) }, 'a dropped table could not be removed');
    }
  }
  return overdue.length;
}

async function moveFolder({ store }: OpenStorage, from: string, to: string): Promise<void> {
  for (const file of await store.list(from)) await store.move(file.path, joinPath(to, below(from, file.path)!));
  if (await store.hasFolder(from)) await store.removeFolder(from);
}
