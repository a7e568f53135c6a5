/**
 * Delta tables as engines of the catalog protocol see them: metadata over the same files, made for the newest version when it is
 * asked for. Which tables are offered is said by the catalog's property `offered-as-iceberg`. They are read this way; their
 * rows are changed through their own log.
 */
import { createHash, randomUUID } from 'node:crypto';
import { convertToIceberg } from '../../core/convert/delta-to-iceberg';
import { DeltaTable } from '../../core/delta/table';
import { latestState } from '../../core/delta/operations';
import { CatalogPointer, memoryCell } from '../../core/iceberg/pointer';
import type { TableMetadata } from '../../core/iceberg/metadata';
import { joinPath } from '../../core/storage/paths';
import type { Relation } from '../catalog/relations';
import { deltaSource, type ConversionServices } from './convert-table';
import { randomIds, systemClock } from './lake';
import { nameOf } from '../catalog/relations';

export const OFFERED = 'offered-as-iceberg';
/** Hidden from Delta's own upkeep by its name. */
const FOLDER = '_iceberg';
/** Engines may still read the metadata of before. */
const KEPT_MS = 3_600_000;
const FACES_KEPT = 200;

export interface Face {
  version: number;
  /** In the store. */
  path: string;
  metadata: TableMetadata;
}

export function isOffered(relation: Relation): boolean {
  return relation.kind === 'table' && relation.format === 'delta' && relation.properties[OFFERED] === 'true';
}

export class DeltaFaces {
  readonly #made = new Map<number, { version: number; face: Promise<Face> }>();

  constructor(readonly services: Pick<ConversionServices, 'lake' | 'upkeep'>) {}

  /** Of the newest version. Fails with `unsupported` naming what Iceberg cannot say of the table. */
  async of(relation: Relation): Promise<Face> {
    const table = this.services.lake.table(relation) as DeltaTable;
    const { version } = await latestState(table);
    const known = this.#made.get(relation.id);
    if (known?.version === version) return known.face;
    const face = this.#make(relation, table);
    this.#made.set(relation.id, { version, face });
    if (this.#made.size > FACES_KEPT) this.#made.delete(this.#made.keys().next().value!);
    face.catch(() => {
      if (this.#made.get(relation.id)?.face === face) this.#made.delete(relation.id);
    });
    return face;
  }

  async #make(relation: Relation, table: DeltaTable): Promise<Face> {
    const { lake } = this.services;
    const storage = lake.storageOf(relation);
    const source = await deltaSource(this.services, relation, table);
    const root = joinPath(relation.location ?? '', FOLDER);
    const cell = memoryCell();
    const target = lake.icebergTable(storage, root, nameOf(relation), new CatalogPointer(storage.store, root, cell, randomIds));
    // The table is the same one whatever version is shown.
    const own = uuidOf(`${storage.store.uri}/${relation.location ?? ''} ${source.state.metadata.id}`);
    let isFirst = true;
    const uuid = () => (isFirst ? ((isFirst = false), own) : randomUUID());
    await convertToIceberg(source, target, { clock: systemClock, ids: { ...randomIds, uuid }, who: 'the catalog' });
    const { path, metadata } = await target.current();
    await this.#clear(storage.store, root);
    return { version: source.state.version, path, metadata };
  }

  async #clear(store: { list(folder: string): Promise<{ path: string; modified: number }[]>; delete(path: string): Promise<void> }, root: string): Promise<void> {
    for (const file of await store.list(root)) if (file.modified < Date.now() - KEPT_MS) await store.delete(file.path).catch(() => undefined);
  }
}

/** The same for the same text. */
function uuidOf(text: string): string {
  const hex = createHash('sha256').update(text).digest('hex');
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-5${hex.slice(13, 16)}-8${hex.slice(17, 20)}-${hex.slice(20, 32)}`;
}
