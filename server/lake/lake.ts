/** Storages by name, and the tables of the catalog opened through the core's contract. */
import { randomInt, randomUUID } from 'node:crypto';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { FolderTable } from '../../core/folder/table';
import { CatalogPointer, FilePointer } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import type { Clock, Ids } from '../../core/storage/object-store';
import type { LakeTable } from '../../core/table/contract';
import type { Database } from '../catalog/database';
import { CatalogListings } from '../catalog/listings';
import { readPointer, swapPointer, type Relation } from '../catalog/relations';
import { createStorage, listStorages, type Storage } from '../catalog/storages';
import { DiskStore } from '../storage/disk-store';

export interface OpenStorage {
  storage: Storage;
  store: DiskStore;
}

export const systemClock: Clock = { now: () => Date.now() };
export const randomIds: Ids = { uuid: () => randomUUID(), snapshotId: () => randomInt(1, 2 ** 47) * 32 + randomInt(0, 32) };

export class Lake {
  readonly #storages = new Map<string, OpenStorage>();
  readonly #tables = new Map<string, LakeTable>();

  constructor(readonly database: Database) {}

  /** Opens every connected storage; one whose folder is gone is left closed and says so when it is used. */
  async open(): Promise<void> {
    for (const storage of await listStorages(this.database)) this.#connect(storage);
  }

  async addStorage(storage: Omit<Storage, 'id'>, who: string): Promise<OpenStorage> {
    const opened = { store: new DiskStore(storage.location), storage: await createStorage(this.database, storage, who) };
    this.#storages.set(storage.name.toLowerCase(), opened);
    return opened;
  }

  storages(): OpenStorage[] {
    return [...this.#storages.values()];
  }

  /** Fails with `not-found` naming the storages there are. */
  storage(name: string): OpenStorage {
    const found = this.#storages.get(name.toLowerCase());
    if (found) return found;
    const names = this.storages().map(({ storage }) => storage.name);
    throw new LakeError('not-found', `There is no storage "${name}".`, { hint: names.length > 0 ? `Connected: ${names.join(', ')}.` : 'No storage is connected yet.' });
  }

  /** The table behind a relation; kept, so that what it has read is read once. */
  table(relation: Relation): LakeTable {
    const key = `${relation.id} ${JSON.stringify(relation.definition)}`;
    const kept = this.#tables.get(key);
    if (kept) return kept;
    const table = this.#openTable(relation);
    this.#tables.set(key, table);
    return table;
  }

  storageOf(relation: Relation): OpenStorage {
    return this.storage(relation.storage ?? '');
  }

  #openTable(relation: Relation): LakeTable {
    const { definition } = relation;
    const name = `${relation.namespace}.${relation.name}`;
    const { store, storage } = this.storageOf(relation);
    const root = relation.location ?? '';
    if (definition.kind === 'folder') return new FolderTable(store, root, name, definition.folder, new CatalogListings(this.database, storage.id, root));
    if (definition.kind === 'view') throw new LakeError('bad-request', `${name} is a view; it has no versions of its own.`, { table: name });
    if (relation.format === 'delta') return new DeltaTable(store, root, name);
    const pointer = definition.pointer === 'catalog'
      ? new CatalogPointer(store, root, { read: () => readPointer(this.database, relation.id), swap: (expected, next) => swapPointer(this.database, relation.id, expected, next) }, randomIds)
      : new FilePointer(store, root);
    return new IcebergTable(store, root, name, pointer);
  }

  #connect(storage: Storage): void {
    try {
      this.#storages.set(storage.name.toLowerCase(), { storage, store: new DiskStore(storage.location) });
    } catch {
      // The folder is not there now; `storage()` reports it as unknown until the server starts with it in place.
    }
  }
}
