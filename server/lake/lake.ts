/** Storages by name, and the tables of the catalog opened through the core's contract. */
import { createHash, randomInt, randomUUID } from 'node:crypto';
import { setTimeout as sleep } from 'node:timers/promises';
import type { CheckpointIndexes } from '../../core/delta/live-files';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { fullOptions, type GivenOptions } from '../../core/folder/read-options';
import { FolderTable, fullPattern } from '../../core/folder/table';
import { CatalogPointer, FilePointer, type MetadataPointer } from '../../core/iceberg/pointer';
import type { IcebergReaders } from '../../core/iceberg/ports';
import { IcebergTable } from '../../core/iceberg/table';
import type { Clock, Ids } from '../../core/storage/object-store';
import type { LakeTable } from '../../core/table/contract';
import type { Database } from '../catalog/database';
import { CatalogListings } from '../catalog/listings';
import { readPointer, swapPointer, type Relation } from '../catalog/relations';
import { changeStorage, createStorage, deleteStorage, listStorages, type NewStorage, type Storage } from '../catalog/storages';
import { DiskStore } from '../storage/disk-store';
import type { LakeStore } from '../storage/lake-store';
import { keysOfEnvironment, S3Store, type S3Keys, type S3Settings } from '../storage/s3-store';
import { MemberStore } from '../storage/member-store';
import { DatabaseStore } from '../sources/database-store';
import { PostgresDriver, type PostgresSettings } from '../sources/postgres';
import { SourceTable } from '../sources/source-table';
import type { Secrets } from '../storage/secrets';
import type { Containers } from './containers';

export interface OpenStorage {
  storage: Storage;
  store: LakeStore;
}

export const systemClock: Clock = { now: () => Date.now(), sleep: (milliseconds) => sleep(milliseconds) };
export const randomIds: Ids = { uuid: () => randomUUID(), snapshotId: () => randomInt(1, 2 ** 47) * 32 + randomInt(0, 32) };

/** A UUID that is the same for the same text. */
export function uuidFrom(text: string): string {
  const hex = createHash('sha256').update(text).digest('hex');
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-5${hex.slice(13, 16)}-8${hex.slice(17, 20)}-${hex.slice(20, 32)}`;
}

export class Lake {
  readonly #storages = new Map<string, OpenStorage>();
  readonly #tables = new Map<string, LakeTable>();
  /** For Delta tables of very many files; set once the engine is there. */
  indexes: CheckpointIndexes | undefined;
  /** What is in archives, spreadsheets and database files; set with the engine too. */
  containers: Containers | undefined;
  /** How Iceberg tables read their manifests and deletes; set with it. */
  icebergReaders: ((storage: OpenStorage) => IcebergReaders) | undefined;

  constructor(
    readonly database: Database,
    readonly secrets: Secrets,
  ) {}

  /** Opens every connected storage; one whose folder is gone is left closed and says so when it is used. */
  async open(): Promise<void> {
    for (const storage of await listStorages(this.database)) this.#connect(storage);
  }

  async addStorage(storage: NewStorage, who: string): Promise<OpenStorage> {
    const store = this.openStore(storage);
    const opened = { store, storage: await createStorage(this.database, { ...storage, location: store.root ?? store.uri }, who) };
    this.#storages.set(storage.name.toLowerCase(), opened);
    return opened;
  }

  /** Forgets a storage; its files stay as they are. */
  async removeStorage({ storage }: OpenStorage, who: string): Promise<void> {
    await deleteStorage(this.database, storage, who);
    this.#storages.delete(storage.name.toLowerCase());
  }

  async changeKeys(storage: Storage, secret: string | null, who: string): Promise<OpenStorage> {
    await changeStorage(this.database, { ...storage, secret }, 'change keys of storage', who);
    return this.#reopen({ ...storage, secret });
  }

  /** A store that moved to another address, with the same bucket. */
  async changeEndpoint(storage: Storage, endpoint: string, who: string): Promise<OpenStorage> {
    const moved = { ...storage, settings: { ...(storage.settings as S3Settings), endpoint } };
    await changeStorage(this.database, moved, 'change address of storage', who);
    return this.#reopen(moved);
  }

  /** A database that moved to another port. */
  async changePort(storage: Storage, port: number, who: string): Promise<OpenStorage> {
    const moved = { ...storage, settings: { ...(storage.settings as PostgresSettings), port } };
    await changeStorage(this.database, moved, 'change address of storage', who);
    return this.#reopen(moved);
  }

  /** Tables keep the store that they were opened with, so they are opened anew. */
  #reopen(storage: Storage): OpenStorage {
    const opened = { storage, store: this.openStore(storage) };
    this.#storages.set(storage.name.toLowerCase(), opened);
    this.#tables.clear();
    return opened;
  }

  /** The store behind a storage's settings; nothing is asked of it yet. */
  openStore(storage: NewStorage): LakeStore {
    const withMembers = (store: LakeStore) => new MemberStore(store, storage.name, () => this.containers);
    if (storage.kind === 'folder') return withMembers(new DiskStore(storage.location));
    const { secret, settings } = storage;
    if (storage.kind === 'postgres') {
      const place = settings as PostgresSettings;
      return new DatabaseStore(`postgres://${place.host}:${place.port}/${place.database}`, new PostgresDriver(place, () => (secret === null ? '' : this.secrets.open<string>(secret))));
    }
    return withMembers(new S3Store(settings as S3Settings, () => (secret === null ? keysOfEnvironment(process.env) : this.secrets.open<S3Keys>(secret))));
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
    const key = `${relation.id} ${relation.format} ${JSON.stringify(relation.definition)}`;
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
    if (definition.kind === 'folder') return new FolderTable(store, root, name, { ...definition.folder, options: fullOptions(definition.folder.options as GivenOptions) }, new CatalogListings(this.database, storage.id, fullPattern(root, definition.folder)));
    if (definition.kind === 'source') return sourceTable(store, definition.place, name);
    if (definition.kind === 'view') throw new LakeError('bad-request', `${name} is a view; it has no versions of its own.`, { table: name });
    if (relation.format === 'delta') return new DeltaTable(store, root, name, this.indexes);
    const pointer = definition.pointer === 'catalog'
      ? new CatalogPointer(store, root, { read: () => readPointer(this.database, relation.id), swap: (expected, next) => swapPointer(this.database, relation.id, expected, next) }, randomIds)
      : new FilePointer(store, root);
    return this.icebergTable({ store, storage }, root, name, pointer);
  }

  /** An Iceberg table in a folder; followed by its own files where no pointer is given. */
  icebergTable(storage: OpenStorage, root: string, name: string, pointer: MetadataPointer = new FilePointer(storage.store, root)): IcebergTable {
    return new IcebergTable(storage.store, root, name, pointer, this.icebergReaders?.(storage));
  }

  #connect(storage: Storage): void {
    try {
      this.#storages.set(storage.name.toLowerCase(), { storage, store: this.openStore(storage) });
    } catch {
      // The folder is not there now; `storage()` reports it as unknown until the server starts with it in place.
    }
  }
}

/** The table of a connected database. Fails when the storage is none. */
export function sourceTable(store: LakeStore, place: { schema: string; name: string }, name: string): SourceTable {
  if (!(store instanceof DatabaseStore)) throw new LakeError('bad-request', `${name} is a table of a database, but its storage is none.`, { table: name });
  return new SourceTable(store.driver, place, name);
}

/** `schema/table` or `schema.table` as a place in a database. */
export function sourcePlace(path: string): { schema: string; name: string } {
  const cut = path.search(/[/.]/);
  if (cut <= 0 || cut === path.length - 1) throw new LakeError('bad-request', `"${path}" is no table of a database; write it as schema.table.`, { path });
  return { schema: path.slice(0, cut), name: path.slice(cut + 1) };
}
