/** Tables of the catalog as the open REST catalog protocol has them: made, loaded, registered, committed to, renamed and dropped. */
import { createHash, randomUUID } from 'node:crypto';
import { LakeError } from '../../core/errors';
import { filesToPurge } from '../../core/iceberg/expire';
import { commitUpdates, nextMetadata, nextNumber, type CommitPorts } from '../../core/iceberg/commit';
import { snapshotById, versionOf, type TableMetadata } from '../../core/iceberg/metadata';
import { CatalogPointer } from '../../core/iceberg/pointer';
import type { IcebergTable } from '../../core/iceberg/table';
import { applyUpdates, checkRequirements, type TableUpdate } from '../../core/iceberg/updates';
import { parentPath } from '../../core/storage/paths';
import { demand, mayDo, nameOfIdentity, type Identity } from '../access/access';
import { createRelation, dropRelation, findRelation, listRelations, nameOf, renameRelation, swapPointer, swapPointers, type Namespace, type Relation } from '../catalog/relations';
import { removeUnder } from '../lake/account';
import { Belonging, checkPlaceForNew, type OwnPlace } from '../lake/belonging';
import { DeltaFaces, isOffered } from '../lake/delta-faces';
import { randomIds, systemClock } from '../lake/lake';
import type { Services } from '../services';
import { checkAddedFiles, checkAllFiles } from './added-files';
import { alreadyExists, badRequest, noSuch } from './errors';
import { checkProperties, firstMetadata, nothing, shorthands, withKebabIds, type CommitTable, type CreateTable } from './given-tables';
import { GroupCommits, type DoneCommit, type FailedCommit } from './group-commits';
import { levelsOf, namespaceOf } from './names';
import { IcebergNamespaces } from './namespaces';
import { locationOf, placeForNew, placeOf, relationPlace, type Place } from '../lake/places';

export interface TableIdentifier {
  namespace: string[];
  name: string;
}

export interface LoadedTable {
  metadataLocation: string;
  metadata: TableMetadata;
  relation: Relation;
}

export class IcebergTables {
  readonly #turns = new Map<string, Promise<unknown>>();
  readonly #commits: GroupCommits;
  readonly #namespaces: IcebergNamespaces;
  readonly #faces: DeltaFaces;

  constructor(readonly services: Pick<Services, 'database' | 'lake' | 'events' | 'receipts' | 'names' | 'givingWay' | 'upkeep'>) {
    this.#namespaces = new IcebergNamespaces(services);
    this.#faces = new DeltaFaces(services);
    this.#commits = new GroupCommits({
      inTurn: (id, work) => this.#inTurn([id], work), swap: (relationId, expected, next) => swapPointer(services.database, relationId, expected, next),
      done: (commit) => this.#told(commit), failed: (commit) => this.#noteFailure(commit), locationOf: (relation, path) => locationOf({ ...relationPlace(services.lake, relation), path }),
    });
  }

  async list(identity: Identity, namespace: string): Promise<TableIdentifier[]> {
    return (await this.relations(identity, namespace)).filter(isShown).map((relation) => ({ namespace: levelsOf(relation.namespace), name: relation.name }));
  }

  /** Tables and views that the caller may see. */
  async relations(identity: Identity, namespace: string): Promise<Relation[]> {
    return (await listRelations(this.services.database, namespace)).filter((relation) => mayDo(identity, 'see', relation)).sort((a, b) => (a.name < b.name ? -1 : 1));
  }

  /** Fails for one that there is not, that is no Iceberg table, or that may not be seen. */
  async relation(identity: Identity, namespace: string, name: string): Promise<Relation> {
    const relation = await this.#named(namespace, name);
    if (!relation || !isShown(relation) || !mayDo(identity, 'see', relation)) throw noSuch('Table', `There is no Iceberg table ${namespace}.${name} in the catalog.`);
    return relation;
  }

  async #named(namespace: string, name: string): Promise<Relation | undefined> {
    return this.services.names.get(namespace, name).catch((error: unknown) => {
      if (error instanceof LakeError && error.kind === 'not-found') return undefined;
      throw error;
    });
  }

  async load(identity: Identity, namespace: string, name: string): Promise<LoadedTable> {
    const relation = await this.relation(identity, namespace, name);
    demand(identity, 'read', relation);
    if (isOffered(relation)) return this.#faceOf(relation);
    if (mayDo(identity, 'write', relation)) await this.services.givingWay.looks(nameOf(relation), nameOfIdentity(identity));
    return this.#loaded(relation);
  }

  async #faceOf(relation: Relation): Promise<LoadedTable> {
    const { path, metadata } = await this.#faces.of(relation);
    return { relation, metadata, metadataLocation: locationOf({ ...relationPlace(this.services.lake, relation), path }) };
  }

  async #loaded(relation: Relation): Promise<LoadedTable> {
    const { path, metadata } = await this.#table(relation).current();
    return { relation, metadata, metadataLocation: locationOf({ ...relationPlace(this.services.lake, relation), path }) };
  }

  async create(identity: Identity, namespace: string, request: CreateTable, warehouse: string | undefined): Promise<LoadedTable> {
    const { lake } = this.services;
    demand(identity, 'manage', { namespace, name: request.name });
    const home = await this.#namespaces.ensure(identity, namespace);
    await this.#mustBeFree(namespace, request.name);
    const place = request.location === undefined ? await placeForNew(lake, home, request.name, warehouse) : placeOf(lake, request.location);
    if (request.location !== undefined) await this.#mayLieAt(identity, home, request.name, place);
    const metadata = firstMetadata(request, locationOf(place), `${namespace}.${request.name}`);
    if (request['stage-create']) return { relation: unregistered(namespace, request.name, place), metadata, metadataLocation: '' };
    return this.#register(identity, namespace, request.name, place, metadata, true);
  }

  async register(identity: Identity, namespace: string, request: { name: string; 'metadata-location': string; overwrite: boolean }): Promise<LoadedTable> {
    const { database, lake } = this.services;
    demand(identity, 'manage', { namespace, name: request.name });
    const home = await this.#namespaces.ensure(identity, namespace);
    const place = placeOf(lake, request['metadata-location']);
    if (!/(^|\/)metadata\/[^/]+\.metadata\.json(\.gz)?$/.test(place.path)) throw badRequest(`${request['metadata-location']} is no metadata file of an Iceberg table: expected …/metadata/….metadata.json.`);
    const root = parentPath(parentPath(place.path));
    const full = `${namespace}.${request.name}`;
    const known = await findRelation(database, namespace, request.name);
    if (known && !request.overwrite) throw alreadyExists(`${full} exists in the catalog already.`);
    if (known) mustBeIceberg(known);
    await this.#mayLieAt(identity, home, request.name, { ...place, path: root }, known?.id);
    const table = lake.icebergTable(place.storage, root, full);
    const metadata = await table.metadataAt(place.path);
    await this.#mayBeRegistered(identity, table, metadata, { ...(known && { id: known.id }), name: full, place: { ...place, path: root } });
    if (known) await dropRelation(database, known, nameOfIdentity(identity));
    await createRelation(database, { namespace, name: request.name, kind: 'table', format: 'iceberg', storageId: place.storage.storage.id, location: root, managed: false, definition: { kind: 'lake', pointer: 'catalog' }, pointer: place.path }, nameOfIdentity(identity));
    this.services.events.tell({ topic: 'catalog' });
    return { relation: (await findRelation(database, namespace, request.name))!, metadata, metadataLocation: request['metadata-location'] };
  }

  async rename(identity: Identity, source: TableIdentifier, destination: TableIdentifier): Promise<void> {
    const relation = await this.relation(identity, namespaceOf(source.namespace), source.name);
    await renameTo(this.services, identity, relation, destination);
  }

  async drop(identity: Identity, namespace: string, name: string, purge: boolean): Promise<void> {
    const { database, lake, events } = this.services;
    const relation = await this.relation(identity, namespace, name);
    demand(identity, 'manage', relation);
    mustBeIceberg(relation);
    const storage = lake.storageOf(relation);
    const files = purge ? await filesToPurge(this.#table(relation)) : [];
    if (purge) {
      const inside = (await listRelations(database)).filter((other) => other.id !== relation.id && other.storage === relation.storage && (other.location === relation.location || (other.location ?? '').startsWith(`${relation.location}/`)));
      if (inside.length > 0) throw badRequest(`${inside.map(nameOf).join(', ')} lies in the folder of ${nameOf(relation)}, so its files cannot be removed. Nothing was changed.`);
    }
    await dropRelation(database, relation, nameOfIdentity(identity));
    if (purge) await removeUnder(storage, (await storage.store.list(relation.location!)).length === files.length ? [relation.location!] : [], files);
    events.tell({ topic: 'catalog' });
  }

  async commit(identity: Identity, namespace: string, name: string, request: CommitTable): Promise<LoadedTable> {
    const requirements = request.requirements;
    const creates = requirements.some((each) => each.type === 'assert-create');
    const relation = creates ? await findRelation(this.services.database, namespace, name) : undefined;
    if (creates && !relation) return this.#commitStaged(identity, namespace, name, request);
    if (creates && relation) throw alreadyExists(`${namespace}.${name} exists in the catalog already.`);
    const known = await this.relation(identity, namespace, name);
    demand(identity, 'write', known);
    mustBeIceberg(known);
    const table = this.#table(known);
    const { pointer } = table;
    await checkAddedFiles(table, request.updates, this.#belonging(identity, known));
    if (pointer instanceof CatalogPointer) return this.#commits.add(known, table, pointer, { identity, requirements, updates: this.#updates(identity, known, request) });
    return this.#inTurn([known.id], async () => {
      const updates = this.#updates(identity, known, request);
      const { metadata, path } = await commitUpdates(table, requirements, updates, ports(identity)).catch((error: unknown) => this.#failed({ identity, relation: known, updates, error }));
      this.#told({ identity, relation: known, updates, metadata });
      return { relation: known, metadata, metadataLocation: locationOf({ ...relationPlace(this.services.lake, known), path }) };
    });
  }

  /** All of them in one step, or none. */
  async transaction(identity: Identity, changes: readonly (CommitTable & { identifier: TableIdentifier })[]): Promise<void> {
    const relations = await Promise.all(changes.map(({ identifier }) => this.relation(identity, namespaceOf(identifier.namespace), identifier.name)));
    for (const relation of relations) demand(identity, 'write', relation);
    for (const relation of relations) mustBeIceberg(relation);
    const twice = relations.find((relation, index) => relations.findIndex((other) => other.id === relation.id) !== index);
    if (twice) throw badRequest(`${nameOf(twice)} is named twice in one transaction.`);
    await this.#inTurn(relations.map(({ id }) => id), async () => {
      const prepared = [];
      for (const [index, relation] of relations.entries()) {
        const table = this.#table(relation);
        const { pointer } = table;
        if (!(pointer instanceof CatalogPointer)) throw badRequest(`${nameOf(relation)} follows its own files, so it cannot be part of a transaction. Nothing was changed.`);
        const { path, metadata } = await table.current();
        const { requirements } = changes[index]!;
        checkRequirements(metadata, requirements, table.name);
        const updates = this.#updates(identity, relation, changes[index]!);
        await checkAddedFiles(table, updates, this.#belonging(identity, relation), metadata);
        const now = Math.max(systemClock.now(), metadata['last-updated-ms'] + 1);
        const next = nextMetadata(table, path, metadata, applyUpdates(metadata, updates, now, table.name), now);
        prepared.push({ relation, table, pointer, updates, path, next });
      }
      const written = await Promise.all(prepared.map(({ pointer, next, path }) => pointer.write(next, nextNumber(path))));
      const isDone = await swapPointers(this.services.database, prepared.map(({ relation, path }, index) => ({ relationId: relation.id, expected: path, next: written[index]!.path })));
      if (!isDone) {
        await Promise.all(prepared.map(({ table }, index) => table.store.delete(written[index]!.path).catch(() => undefined)));
        throw new LakeError('conflict', `Somebody else committed to one of ${relations.map(nameOf).join(', ')} first. Nothing was changed.`);
      }
      for (const [index, { relation, table, pointer, updates, next }] of prepared.entries()) {
        table.adopt(written[index]!.path, next);
        await pointer.published(written[index]!);
        this.#told({ identity, relation, updates, metadata: next });
      }
    });
  }

  /** The first commit of a table that was only staged: its updates describe all of it. */
  async #commitStaged(identity: Identity, namespace: string, name: string, { updates, requirements }: CommitTable): Promise<LoadedTable> {
    const { lake } = this.services;
    demand(identity, 'manage', { namespace, name });
    const full = `${namespace}.${name}`;
    checkRequirements(undefined, requirements.filter((each) => each.type === 'assert-create'), full);
    const location = updates.find((each) => each.action === 'set-location');
    if (!location) throw badRequest(`The first commit of ${full} says no location.`);
    const place = placeOf(lake, location.location);
    await this.#mayLieAt(identity, await this.#namespaces.ensure(identity, namespace), name, place);
    const own = { name: full, place };
    const belonging = new Belonging({ sql: this.services.database, lake, as: identity }, own);
    await checkAddedFiles(lake.icebergTable(place.storage, place.path, full), updates, belonging, nothing(location.location));
    const metadata = applyUpdates(nothing(location.location), updates.map((update) => this.#signed(identity, update)), systemClock.now(), full);
    const loaded = await this.#register(identity, namespace, name, place, { ...metadata, 'last-updated-ms': systemClock.now() }, true);
    this.#told({ identity, relation: loaded.relation, updates, metadata });
    return loaded;
  }

  async #register(identity: Identity, namespace: string, name: string, place: Place, metadata: TableMetadata, managed: boolean): Promise<LoadedTable> {
    const { database, events } = this.services;
    const pointer = new CatalogPointer(place.storage.store, place.path, { read: async () => undefined, swap: async () => false }, randomIds);
    const written = await pointer.write(metadata, 1);
    await createRelation(database, { namespace, name, kind: 'table', format: 'iceberg', storageId: place.storage.storage.id, location: place.path, managed, definition: { kind: 'lake', pointer: 'catalog' }, pointer: written.path }, nameOfIdentity(identity)).catch(async (error: unknown) => {
      await place.storage.store.delete(written.path).catch(() => undefined);
      throw error instanceof LakeError && error.kind === 'conflict' ? alreadyExists(error.message) : error;
    });
    await pointer.published(written);
    events.tell({ topic: 'catalog' });
    const relation = (await findRelation(database, namespace, name))!;
    this.#table(relation).adopt(written.path, metadata);
    return { relation, metadata, metadataLocation: locationOf({ ...place, path: written.path }) };
  }

  #table(relation: Relation): IcebergTable {
    return this.services.lake.table(relation) as IcebergTable;
  }

  /** Updates as they are applied: shorthands written out, locations held to the storage, snapshots with who made them. */
  #updates(identity: Identity, relation: Relation, request: CommitTable): TableUpdate[] {
    const updates = [...request.updates, ...shorthands(request)];
    checkProperties(updates);
    return updates.map((update) => this.#signed(identity, update));
  }

  #belonging(identity: Identity, relation: Relation): Belonging {
    return new Belonging({ sql: this.services.database, lake: this.services.lake, as: identity }, { id: relation.id, name: nameOf(relation), place: relationPlace(this.services.lake, relation) });
  }

  #mayLieAt(identity: Identity, namespace: Namespace, name: string, place: Place, id?: number): Promise<void> {
    return checkPlaceForNew({ sql: this.services.database, lake: this.services.lake, as: identity }, { ...(id === undefined ? {} : { id }), name: `${namespace.name}.${name}`, place }, namespace);
  }

  /** What its metadata names is held against the rule as what a commit adds is. */
  async #mayBeRegistered(identity: Identity, table: IcebergTable, metadata: TableMetadata, own: OwnPlace): Promise<void> {
    const belonging = new Belonging({ sql: this.services.database, lake: this.services.lake, as: identity }, own);
    await belonging.check('its location', metadata.location);
    await checkAllFiles(table, metadata, belonging);
  }

  /** Who made a snapshot stands in its summary, as it does for our own. */
  #signed(identity: Identity, update: TableUpdate): TableUpdate {
    if (update.action !== 'add-snapshot' || update.snapshot.summary?.['committed-by'] !== undefined) return withKebabIds(update);
    return { ...update, snapshot: { ...update.snapshot, summary: { ...update.snapshot.summary, 'committed-by': nameOfIdentity(identity) } } };
  }

  async #mustBeFree(namespace: string, name: string): Promise<void> {
    const known = await findRelation(this.services.database, namespace, name);
    if (known) throw alreadyExists(`${namespace}.${name} exists in the catalog already${known.kind === 'view' ? ', as a view' : ''}.`);
  }

  async #inTurn<T>(ids: readonly number[], work: () => Promise<T>): Promise<T> {
    const waiting = [...new Set(ids)].sort((a, b) => a - b).map((id) => this.#turns.get(String(id)) ?? Promise.resolve());
    const next = Promise.all(waiting).then(work, work);
    const done = next.catch(() => undefined);
    for (const id of ids) this.#turns.set(String(id), done);
    void done.then(() => {
      for (const id of ids) if (this.#turns.get(String(id)) === done) this.#turns.delete(String(id));
    });
    return next;
  }

  /** The timeline, the receipts and the catalog's index learn of it. */
  #told({ identity, relation, updates, metadata }: DoneCommit): void {
    const { events, receipts } = this.services;
    const added = updates.flatMap((update) => (update.action === 'add-snapshot' ? [update.snapshot] : []));
    const snapshot = added.at(-1);
    const made = snapshot && snapshotById(metadata, snapshot['snapshot-id']);
    receipts.put({
      ...receiptOf(identity, relation, updates), outcome: 'done', problem: null, rowCount: snapshot ? Number(snapshot.summary?.['added-records'] ?? 0) : null,
      written: { table: nameOf(relation), version: made ? versionOf(metadata, made) : null, ...(made ? { snapshotId: String(made['snapshot-id']), operation: made.summary?.operation, engine: engineOf(made.summary) } : {}) },
    });
    this.services.givingWay.committed(nameOf(relation), nameOfIdentity(identity));
    events.tell({ topic: 'table', name: nameOf(relation) });
  }

  #failed(commit: FailedCommit): never {
    this.#noteFailure(commit);
    throw commit.error;
  }

  #noteFailure({ identity, relation, updates, error }: FailedCommit): void {
    const problem = error instanceof LakeError ? error.message : 'An unexpected error.';
    this.services.receipts.put({ ...receiptOf(identity, relation, updates), outcome: 'failed', problem, rowCount: null, written: { table: nameOf(relation) } });
  }
}

function receiptOf(identity: Identity, relation: Relation, updates: readonly TableUpdate[]) {
  const words = [...new Set(updates.map((update) => update.action))].join(', ') || 'nothing';
  return { id: randomUUID(), who: nameOfIdentity(identity), kind: 'write' as const, sql: `COMMIT TO ${nameOf(relation)}: ${words}`, tables: [], planMs: null, engineMs: null, totalMs: null };
}

/** What an engine says of itself in a summary, by common practice. */
function engineOf(summary: Record<string, string> | undefined): string | undefined {
  return summary?.['engine-name'] ?? summary?.['app-name'] ?? Object.keys(summary ?? {}).find((key) => key.endsWith('-version') && !key.startsWith('format'))?.replace(/-version$/, '');
}

/** Of the tables that are shown, those of Delta are changed through their own log. */
function mustBeIceberg(relation: Relation): void {
  if (isOffered(relation)) throw badRequest(`${nameOf(relation)} is kept as Delta and is only read through this protocol. Nothing was changed. Change its rows through its Delta log, or by SQL here.`);
}

export function isIceberg(relation: Relation): boolean {
  return relation.kind === 'table' && relation.format === 'iceberg';
}

/** Whether clients see it as a table. */
function isShown(relation: Relation): boolean {
  return isIceberg(relation) || isOffered(relation);
}

export async function renameTo(services: Pick<Services, 'database' | 'events' | 'lake'>, identity: Identity, relation: Relation, destination: TableIdentifier): Promise<void> {
  const to = { namespace: namespaceOf(destination.namespace), name: destination.name };
  demand(identity, 'manage', relation);
  demand(identity, 'manage', to);
  const { database, events } = services;
  await new IcebergNamespaces(services).ensure(identity, to.namespace);
  if (await findRelation(database, to.namespace, to.name)) throw alreadyExists(`${nameOf(to)} exists in the catalog already.`);
  await renameRelation(database, relation, to, nameOfIdentity(identity)).catch((error: unknown) => {
    throw error instanceof LakeError && error.kind === 'conflict' ? alreadyExists(error.message) : error;
  });
  events.tell({ topic: 'catalog' });
}

/** The answer's metadata with all snapshots, or those alone that a branch or tag names. */
export function metadataFor({ metadata }: LoadedTable, snapshots: 'all' | 'refs'): TableMetadata {
  if (snapshots === 'all') return metadata;
  const named = new Set(Object.values(metadata.refs ?? {}).map((ref) => String(ref['snapshot-id'])));
  return { ...metadata, snapshots: (metadata.snapshots ?? []).filter((each) => named.has(String(each['snapshot-id']))) };
}

export function etagOf({ metadataLocation }: LoadedTable, snapshots: string): string {
  return `"${createHash('sha256').update(`${metadataLocation} ${snapshots}`).digest('hex').slice(0, 32)}"`;
}

function ports(identity: Identity): CommitPorts {
  return { clock: systemClock, ids: randomIds, who: nameOfIdentity(identity) };
}

function unregistered(namespace: string, name: string, { storage, path }: Place): Relation {
  return { id: 0, namespace, name, kind: 'table', format: 'iceberg', storage: storage.storage.name, location: path, managed: true } as Relation;
}
