/** Relations by name, kept until the catalog changes: a query names tables far more often than they change. */
import { keepPromise, Lru } from '../../core/lru';
import type { Events } from '../events';
import type { Database } from './database';
import { getRelation, type Relation } from './relations';

const MOST = 5000;

export class RelationNames {
  readonly #kept = new Lru<Promise<Relation>>(MOST);

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
    return keepPromise(this.#kept, `${namespace}\0${name}`.toLowerCase(), () => getRelation(this.database, namespace, name));
  }
}
