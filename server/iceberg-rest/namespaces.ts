/** Namespaces as the open REST catalog protocol has them: nested, with properties; one shows where something in it may be seen. */
import { LakeError } from '../../core/errors';
import { demand, demandEverywhere, maySeeNamespace, nameOfIdentity, type Identity } from '../access/access';
import { changeNamespace, deleteNamespace, ensureNamespace, listNamespaces, type Namespace } from '../catalog/relations';
import type { Services } from '../services';
import { alreadyExists, noSuch, ProtocolError } from './errors';
import { levelsOf, namespaceOf } from './names';
import { locationOf, placeOf, type Place } from '../lake/places';

/** Kept as the catalog's own description, place and owner, and shown as properties. */
const OWN = ['comment', 'location', 'owner'];

export class IcebergNamespaces {
  constructor(readonly services: Pick<Services, 'database' | 'lake' | 'events'>) {}

  /** The ones right below `parent`, or at the top; a level that only stands in longer names is one too. */
  async list(identity: Identity, parent: string | undefined): Promise<string[][]> {
    const names = await this.#visible(identity);
    if (parent !== undefined && !names.some((name) => isOrBelow(name, parent))) throw noSuch('Namespace', `There is no namespace "${parent}" in the catalog.`);
    const depth = parent === undefined ? 1 : levelsOf(parent).length + 1;
    const children = names.filter((name) => parent === undefined || (isOrBelow(name, parent) && name.length > parent.length)).map((name) => levelsOf(name).slice(0, depth).join('.'));
    return [...new Set(children)].sort().map(levelsOf);
  }

  async load(identity: Identity, name: string): Promise<{ namespace: string[]; properties: Record<string, string> }> {
    const found = await this.find(identity, name);
    return { namespace: levelsOf(found?.name ?? name), properties: found ? this.#propertiesOf(found) : {} };
  }

  /** Undefined for a level that only stands in longer names. Fails for one that there is not, or that may not be seen. */
  async find(identity: Identity, name: string): Promise<Namespace | undefined> {
    const all = await listNamespaces(this.services.database);
    const found = all.find((each) => each.name.toLowerCase() === name.toLowerCase());
    const isThere = found !== undefined || all.some((each) => isOrBelow(each.name, name));
    if (!isThere || !maySeeNamespace(identity, name)) throw noSuch('Namespace', `There is no namespace "${name}" in the catalog.`);
    return found;
  }

  /** A level that only stands in longer names becomes a namespace of its own when something is put in it. Fails for one that there is not. */
  async ensure(identity: Identity, name: string): Promise<Namespace> {
    const found = await this.find(identity, name);
    if (found) return found;
    const { database, events } = this.services;
    await database.transaction((sql) => ensureNamespace(sql, name, nameOfIdentity(identity), ''));
    events.tell({ topic: 'catalog' });
    return (await listNamespaces(database)).find((each) => each.name.toLowerCase() === name.toLowerCase())!;
  }

  async create(identity: Identity, levels: readonly string[], properties: Record<string, string>): Promise<{ namespace: string[]; properties: Record<string, string> }> {
    const name = namespaceOf(levels);
    const { database, events } = this.services;
    demand(identity, 'manage', { namespace: name });
    const all = await listNamespaces(database);
    if (all.some((each) => each.name.toLowerCase() === name.toLowerCase())) throw alreadyExists(`The namespace "${name}" exists already.`);
    const place = this.#placeGiven(identity, properties.location);
    await database.transaction((sql) => ensureNamespace(sql, name, nameOfIdentity(identity), properties.comment ?? ''));
    const made = (await listNamespaces(database)).find((each) => each.name === name)!;
    await changeNamespace(database, made, { owner: properties.owner ?? '', properties: without(properties, OWN), ...(place ? { place: { storageId: place.storage.storage.id, folder: place.path } } : {}) }, nameOfIdentity(identity));
    events.tell({ topic: 'catalog' });
    return this.load(identity, name);
  }

  async changeProperties(identity: Identity, name: string, { removals, updates }: { removals: string[]; updates: Record<string, string> }): Promise<{ updated: string[]; removed: string[]; missing: string[] }> {
    const both = removals.find((key) => key in updates);
    if (both !== undefined) throw new ProtocolError(422, 'UnprocessableEntityException', `The property ${both} is to be both set and removed.`);
    const namespace = await this.find(identity, name);
    if (!namespace) throw noSuch('Namespace', `"${name}" is only a level of other namespaces; create it first.`);
    demand(identity, 'manage', { namespace: namespace.name });
    const before = this.#propertiesOf(namespace);
    if (removals.includes('location')) demandEverywhere(identity, 'manage', 'untie a namespace from its folder');
    const place = removals.includes('location') ? null : this.#placeGiven(identity, updates.location === before.location ? undefined : updates.location);
    const next = { ...without(before, removals), ...updates };
    await changeNamespace(this.services.database, namespace, {
      description: next.comment ?? '', owner: next.owner ?? '', properties: without(next, OWN),
      ...(place === undefined ? {} : { place: place && { storageId: place.storage.storage.id, folder: place.path } }),
    }, nameOfIdentity(identity));
    this.services.events.tell({ topic: 'catalog' });
    return { updated: Object.keys(updates), removed: removals.filter((key) => key in before), missing: removals.filter((key) => !(key in before)) };
  }

  async drop(identity: Identity, name: string): Promise<void> {
    const namespace = await this.find(identity, name);
    demand(identity, 'manage', { namespace: name });
    const all = await listNamespaces(this.services.database);
    const inner = all.find((each) => isOrBelow(each.name, name) && each.name.length > name.length);
    const notEmpty = (what: string) => new ProtocolError(409, 'NamespaceNotEmptyException', `The namespace "${name}" is not empty: ${what}.`);
    if (inner) throw notEmpty(`${inner.name} is in it`);
    await deleteNamespace(this.services.database, namespace!, nameOfIdentity(identity)).catch((error: unknown) => {
      throw error instanceof LakeError && error.kind === 'conflict' ? notEmpty('there are tables in it') : error;
    });
    this.services.events.tell({ topic: 'catalog' });
  }

  /** The folder that tables of a namespace lie in decides what those who manage it can reach. */
  #placeGiven(identity: Identity, location: string | undefined): Place | undefined {
    if (location === undefined) return undefined;
    demandEverywhere(identity, 'manage', 'tie a namespace to a folder');
    return placeOf(this.services.lake, location);
  }

  async #visible(identity: Identity): Promise<string[]> {
    return (await listNamespaces(this.services.database)).map((each) => each.name).filter((name) => maySeeNamespace(identity, name));
  }

  #propertiesOf({ description, owner, properties, storage, folder }: Namespace): Record<string, string> {
    const place = storage !== null && folder !== null ? this.services.lake.storages().find((each) => each.storage.name === storage) : undefined;
    return { ...properties, ...(description ? { comment: description } : {}), ...(owner ? { owner } : {}), ...(place ? { location: locationOf({ storage: place, path: folder! }) } : {}) };
  }
}

function isOrBelow(name: string, outer: string): boolean {
  const [inner, around] = [name.toLowerCase(), outer.toLowerCase()];
  return inner === around || inner.startsWith(`${around}.`);
}

function without(properties: Record<string, string>, keys: readonly string[]): Record<string, string> {
  return Object.fromEntries(Object.entries(properties).filter(([key]) => !keys.includes(key)));
}
