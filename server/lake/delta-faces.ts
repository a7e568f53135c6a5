/**
 * Delta tables as engines of the catalog protocol see them: metadata over the same files, made for the newest version when it is
 * asked for. Which tables are offered is said by the catalog's property `offered-as-iceberg`. They are read this way; their
 * rows are changed through their own log.
 */
import { convertToIceberg } from '../../core/convert/delta-to-iceberg';
import { latestState } from '../../core/delta/operations';
import type { LogState } from '../../core/delta/state';
import type { DeltaTable } from '../../core/delta/table';
import { CatalogPointer, memoryCell } from '../../core/iceberg/pointer';
import type { TableMetadata } from '../../core/iceberg/metadata';
import { keepPromise, Lru } from '../../core/lru';
import { joinPath } from '../../core/storage/paths';
import { nameOf, type Relation } from '../catalog/relations';
import { deltaSource, type ConversionServices } from './convert-table';
import { randomIds, systemClock, uuidFrom } from './lake';

export const OFFERED = 'offered-as-iceberg';
/** Hidden from Delta's own upkeep by its name. */
const FOLDER = '_iceberg';
/** Engines may still read the metadata of before. */
const KEPT_MS = 3_600_000;
const FACES_KEPT = 200;

export interface Face {
  /** In the store. */
  path: string;
  metadata: TableMetadata;
}

export function isOffered(relation: Relation): boolean {
  return relation.kind === 'table' && relation.format === 'delta' && relation.properties[OFFERED] === 'true';
}

export class DeltaFaces {
  readonly #made = new Lru<Promise<Face>>(FACES_KEPT);

  constructor(readonly services: Pick<ConversionServices, 'lake' | 'upkeep'>) {}

  /** Of the newest version. Fails with `unsupported` naming what Iceberg cannot say of the table. */
  async of(relation: Relation): Promise<Face> {
    const table = this.services.lake.table(relation) as DeltaTable;
    const state = await latestState(table);
    return keepPromise(this.#made, `${relation.id} ${state.version}`, () => this.#make(relation, table, state));
  }

  async #make(relation: Relation, table: DeltaTable, state: LogState): Promise<Face> {
    const { lake } = this.services;
    const storage = lake.storageOf(relation);
    const { store } = storage;
    const source = await deltaSource(this.services, relation, table, state);
    const root = joinPath(relation.location ?? '', FOLDER);
    const target = lake.icebergTable(storage, root, nameOf(relation), new CatalogPointer(store, root, memoryCell(), randomIds));
    // The table is the same one whatever version is shown: its own id is the first that is asked for.
    const ids = [uuidFrom(`${store.uri}/${relation.location ?? ''} ${state.metadata.id}`)];
    await convertToIceberg(source, target, { clock: systemClock, ids: { ...randomIds, uuid: () => ids.pop() ?? randomIds.uuid() }, who: 'the catalog' });
    const { path, metadata } = await target.current();
    for (const file of await store.list(root)) if (file.modified < Date.now() - KEPT_MS) await store.delete(file.path).catch(() => undefined);
    return { path, metadata };
  }
}
