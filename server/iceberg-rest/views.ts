/** Views as the open REST catalog protocol has them (Iceberg view specification). Views of the catalog that were made here show in the same form. */
import { randomUUID } from 'node:crypto';
import { LakeError } from '../../core/errors';
import { stringifyJson } from '../../core/json';
import { fromDialect, OFFERED_DIALECTS, OWN_DIALECT, toDialect } from '../../core/sql/dialects';
import { assignIds, schemaJson, type StructJson } from '../../core/iceberg/schema';
import { highestId } from '../../core/iceberg/updates';
import { parseTypeName } from '../../core/schema/type-names';
import { field } from '../../core/schema/types';
import { toBytes } from '../../core/storage/object-store';
import { joinPath } from '../../core/storage/paths';
import { demand, mayDo, nameOfIdentity, type Identity } from '../access/access';
import { createRelation, dropRelation, findRelation, listRelations, redefineRelation, type Relation, type ViewDefinition } from '../catalog/relations';
import type { Services } from '../services';
import { alreadyExists, badRequest, noSuch } from './errors';
import { levelsOf, namespaceOf } from './names';
import { IcebergNamespaces } from './namespaces';
import { Belonging } from '../lake/belonging';
import { uuidFrom } from '../lake/lake';
import { locationOf, placeOf, warehouseOf, type Place } from '../lake/places';
import { renameTo, type TableIdentifier } from './tables';

const VERSIONS_KEPT = 10;
const LAST_ADDED = -1;

export interface ViewVersion {
  'version-id': number;
  'timestamp-ms': number;
  'schema-id': number;
  summary: Record<string, string>;
  representations: { type: 'sql'; sql: string; dialect: string }[];
  'default-catalog'?: string;
  'default-namespace': string[];
}

export interface ViewMetadata {
  'view-uuid': string;
  'format-version': 1;
  location: string;
  schemas: StructJson[];
  'current-version-id': number;
  versions: ViewVersion[];
  'version-log': { 'timestamp-ms': number; 'version-id': number }[];
  properties: Record<string, string>;
}

export type ViewUpdate =
  | { action: 'assign-uuid'; uuid: string }
  | { action: 'upgrade-format-version'; 'format-version': number }
  | { action: 'add-schema'; schema: StructJson }
  | { action: 'set-location'; location: string }
  | { action: 'set-properties'; updates: Record<string, string> }
  | { action: 'remove-properties'; removals: string[] }
  | { action: 'add-view-version'; 'view-version': ViewVersion }
  | { action: 'set-current-view-version'; 'view-version-id': number };

export interface LoadedView {
  metadataLocation: string;
  metadata: ViewMetadata;
}

export class IcebergViews {
  constructor(readonly services: Pick<Services, 'database' | 'lake' | 'events' | 'queries'>) {}

  async list(identity: Identity, namespace: string): Promise<TableIdentifier[]> {
    const all = await listRelations(this.services.database, namespace);
    return all.filter((each) => each.kind === 'view' && mayDo(identity, 'see', each)).sort((a, b) => (a.name < b.name ? -1 : 1)).map((each) => ({ namespace: levelsOf(each.namespace), name: each.name }));
  }

  async relation(identity: Identity, namespace: string, name: string): Promise<Relation> {
    const relation = await findRelation(this.services.database, namespace, name);
    if (relation?.kind !== 'view' || !mayDo(identity, 'see', relation)) throw noSuch('View', `There is no view ${namespace}.${name} in the catalog.`);
    return relation;
  }

  async load(identity: Identity, namespace: string, name: string): Promise<LoadedView> {
    const relation = await this.relation(identity, namespace, name);
    demand(identity, 'read', relation);
    return this.#stateOf(relation, identity);
  }

  async create(identity: Identity, namespace: string, request: { name: string; location?: string; schema: StructJson; 'view-version': ViewVersion; properties: Record<string, string> }, warehouse: string | undefined): Promise<LoadedView> {
    const { database, lake, events } = this.services;
    demand(identity, 'manage', { namespace, name: request.name });
    await new IcebergNamespaces(this.services).ensure(identity, namespace);
    if (await findRelation(database, namespace, request.name)) throw alreadyExists(`${namespace}.${request.name} exists in the catalog already.`);
    const place = request.location === undefined ? this.#placeForNew(namespace, request.name, warehouse) : placeOf(lake, request.location);
    if (request.location !== undefined) await this.#mayLieAt(identity, namespace, request.name, request.location);
    const empty: ViewMetadata = { 'view-uuid': randomUUID(), 'format-version': 1, location: locationOf(place), schemas: [], 'current-version-id': 0, versions: [], 'version-log': [], properties: request.properties };
    const metadata = applyViewUpdates(empty, [{ action: 'add-schema', schema: request.schema }, { action: 'add-view-version', 'view-version': { ...request['view-version'], 'schema-id': LAST_ADDED } }, { action: 'set-current-view-version', 'view-version-id': LAST_ADDED }], Date.now());
    const location = await this.#write(place, metadata, 0);
    await createRelation(database, { namespace, name: request.name, kind: 'view', definition: definitionOf(metadata, location) }, nameOfIdentity(identity));
    events.tell({ topic: 'catalog' });
    return { metadata, metadataLocation: location };
  }

  async replace(identity: Identity, namespace: string, name: string, { requirements, updates }: { requirements: { type: string; uuid?: string }[]; updates: ViewUpdate[] }): Promise<LoadedView> {
    const { database, lake, events } = this.services;
    const relation = await this.relation(identity, namespace, name);
    demand(identity, 'manage', relation);
    const { metadata: before } = await this.#stateOf(relation, identity);
    for (const requirement of requirements) {
      if (requirement.type === 'assert-view-uuid' && requirement.uuid?.toLowerCase() !== before['view-uuid'].toLowerCase()) throw new LakeError('conflict', `${namespace}.${name}: its UUID is ${before['view-uuid']}, where ${requirement.uuid} was expected.`);
    }
    const metadata = applyViewUpdates(before, updates, Date.now());
    const place = placeOf(lake, metadata.location);
    if (updates.some(({ action }) => action === 'set-location')) await this.#mayLieAt(identity, namespace, name, metadata.location);
    const location = await this.#write(place, metadata, metadata['current-version-id']);
    await redefineRelation(database, relation, definitionOf(metadata, location), nameOfIdentity(identity));
    events.tell({ topic: 'catalog' });
    return { metadata, metadataLocation: location };
  }

  async drop(identity: Identity, namespace: string, name: string): Promise<void> {
    const relation = await this.relation(identity, namespace, name);
    demand(identity, 'manage', relation);
    await dropRelation(this.services.database, relation, nameOfIdentity(identity));
    this.services.events.tell({ topic: 'catalog' });
  }

  async rename(identity: Identity, source: TableIdentifier, destination: TableIdentifier): Promise<void> {
    await renameTo(this.services, identity, await this.relation(identity, namespaceOf(source.namespace), source.name), destination);
  }

  /** A view that was made here has one version: what it is now. */
  async #stateOf(relation: Relation, identity: Identity): Promise<LoadedView> {
    const { definition } = relation;
    if (definition.kind !== 'view') throw new Error('not a view');
    if (definition.iceberg) return { metadata: definition.iceberg.metadata as unknown as ViewMetadata, metadataLocation: definition.iceberg.location };
    const columns = relation.columns ?? (await this.services.queries.columnsOf(definition.sql, identity)).map(({ name, type }) => ({ name, type }));
    const { fields } = assignIds(columns.map((column) => field(column.name, parseTypeName(column.type))), 0);
    const place = this.#placeForNew(relation.namespace, relation.name, undefined);
    const at = Date.parse(relation.createdAt);
    const metadata: ViewMetadata = {
      'view-uuid': uuidFrom(`view ${relation.id}`), 'format-version': 1, location: locationOf(place), schemas: [schemaJson({ id: 0, fields })], 'current-version-id': 1, properties: relation.description ? { comment: relation.description } : {},
      versions: [{ 'version-id': 1, 'timestamp-ms': at, 'schema-id': 0, summary: {}, representations: offered(definition.sql), 'default-namespace': levelsOf(relation.namespace) }],
      'version-log': [{ 'timestamp-ms': at, 'version-id': 1 }],
    };
    return { metadata, metadataLocation: `${metadata.location}/metadata/catalog-${relation.id}.metadata.json` };
  }

  /** In a folder that a view of that name is given, or for those who may manage everything one that is no table's. */
  #mayLieAt(identity: Identity, namespace: string, name: string, location: string): Promise<void> {
    const { database, lake } = this.services;
    return new Belonging({ sql: database, lake, as: identity }, { name: `${namespace}.${name}`, place: this.#placeForNew(namespace, name, undefined) }).check('the location', location);
  }

  #placeForNew(namespace: string, name: string, warehouse: string | undefined): Place {
    return { storage: warehouseOf(this.services.lake, warehouse), path: joinPath('warehouse', ...levelsOf(namespace), `${name}.view`) };
  }

  async #write({ storage, path }: Place, metadata: ViewMetadata, number: number): Promise<string> {
    const file = joinPath(path, 'metadata', `${String(number).padStart(5, '0')}-${randomUUID()}.metadata.json`);
    await storage.store.put(file, toBytes(stringifyJson(metadata, 2)));
    return locationOf({ storage, path: file });
  }
}

/** In our own words where it is given so or means the same in the first dialect that can be taken over; else as it was given, which says so when it is read. */
export function definitionOf(metadata: ViewMetadata, location: string): ViewDefinition {
  const version = metadata.versions.find((each) => each['version-id'] === metadata['current-version-id'])!;
  const { representations, 'default-namespace': levels, 'default-catalog': catalog } = version;
  const names = { ...(levels.length > 0 ? { defaultNamespace: namespaceOf(levels) } : {}), ...(catalog === undefined ? {} : { defaultCatalog: catalog }) };
  const base = { kind: 'view' as const, iceberg: { metadata: asJson(metadata), location }, ...names };
  const own = representations.find((each) => each.dialect.toLowerCase() === OWN_DIALECT);
  if (own) return { ...base, sql: own.sql };
  const tried = representations.map(({ sql, dialect }) => ({ sql, dialect, made: fromDialect(sql, dialect) }));
  for (const { made } of tried) if ('sql' in made) return { ...base, sql: made.sql };
  const [{ sql, dialect, made }] = tried as [(typeof tried)[number]];
  return { ...base, sql, foreign: { dialect, problem: (made as { problem: string }).problem } };
}

/** Our own text, and the same in the dialects in which it means the same. */
function offered(sql: string): ViewVersion['representations'] {
  const others = OFFERED_DIALECTS.flatMap((dialect) => {
    const made = toDialect(sql, dialect);
    return 'sql' in made ? [{ type: 'sql' as const, sql: made.sql, dialect }] : [];
  });
  return [{ type: 'sql', sql, dialect: OWN_DIALECT }, ...others];
}

export function applyViewUpdates(base: ViewMetadata, updates: readonly ViewUpdate[], now: number): ViewMetadata {
  const added: { schema?: number; version?: number } = {};
  return updates.reduce<ViewMetadata>((view, update) => {
    switch (update.action) {
      case 'assign-uuid':
        return { ...view, 'view-uuid': update.uuid.toLowerCase() };
      case 'upgrade-format-version':
        if (update['format-version'] !== 1) throw badRequest(`The view format version ${update['format-version']} is not supported; 1 is.`);
        return view;
      case 'set-location':
        return { ...view, location: update.location.replace(/\/+$/, '') };
      case 'set-properties':
        return { ...view, properties: { ...view.properties, ...update.updates } };
      case 'remove-properties':
        return { ...view, properties: Object.fromEntries(Object.entries(view.properties).filter(([key]) => !update.removals.includes(key))) };
      case 'add-schema': {
        highestId(update.schema.fields);
        added.schema = Math.max(-1, ...view.schemas.map((each) => each['schema-id'] ?? 0)) + 1;
        return { ...view, schemas: [...view.schemas, { ...update.schema, 'schema-id': added.schema }] };
      }
      case 'add-view-version': {
        const given = update['view-version'];
        const schemaId = given['schema-id'] === LAST_ADDED ? added.schema : given['schema-id'];
        if (!view.schemas.some((each) => each['schema-id'] === schemaId)) throw badRequest(`The view version names the schema ${given['schema-id']}, which there is not.`);
        const dialects = given.representations.map((each) => each.dialect.toLowerCase());
        const twice = dialects.find((each, index) => dialects.indexOf(each) !== index);
        if (twice !== undefined) throw badRequest(`The view version has two representations in the dialect "${twice}".`);
        added.version = Math.max(0, ...view.versions.map((each) => each['version-id'])) + 1;
        return { ...view, versions: [...view.versions, { ...given, 'version-id': added.version, 'schema-id': schemaId! }] };
      }
      case 'set-current-view-version': {
        const id = update['view-version-id'] === LAST_ADDED ? added.version : update['view-version-id'];
        if (!view.versions.some((each) => each['version-id'] === id)) throw badRequest(`There is no view version ${update['view-version-id']}.`);
        const kept = view.versions.slice(-VERSIONS_KEPT);
        const versions = kept.some((each) => each['version-id'] === id) ? kept : [view.versions.find((each) => each['version-id'] === id)!, ...kept.slice(1)];
        return { ...view, versions, 'current-version-id': id!, 'version-log': [...view['version-log'], { 'timestamp-ms': now, 'version-id': id! }] };
      }
    }
  }, base);
}

function asJson(metadata: ViewMetadata): Record<string, unknown> {
  return JSON.parse(stringifyJson(metadata)) as Record<string, unknown>;
}
