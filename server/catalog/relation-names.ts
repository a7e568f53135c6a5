/** Relations by name, kept until the catalog changes: a query names tables far more often than they change. */
import type { Events } from '../events';
import type { Database } from './database';
import { getRelation, type Relation } from './relations';

const MOST = 5000;

export class RelationNames {
  readonly #kept = new Map<string, Promise<Relation>>();

  constructor(
    readonly database: Database,
    events: Events,
  ) {
    events.listen((event) => {
      if (event.topic === 'catalog') this.#kept.clear();
    });
  }

  /** Fails with `not-found` naming what there is instead. */
  get(namespace: string, name: string): Promise<Relation> {
    const key = `${namespace}\0${name}`.toLowerCase();
    const kept = this.#kept.get(key);
    if (kept) return kept;
    const found = getRelation(this.database, namespace, name);
    this.#kept.set(key, found);
    found.catch(() => this.#kept.delete(key));
    if (this.#kept.size > MOST) this.#kept.delete(this.#kept.keys().next().value!);
    return found;
  }
}
