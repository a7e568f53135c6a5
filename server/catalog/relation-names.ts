/** Relations by name, kept until the catalog changes: a query names tables far more often than they change. */
import { keepPromise, Lru } from '../../core/lru';
import type { Events } from '../events';
import type { Database } from './database';
import { getRelation, listRelationNames, type Relation, type RelationName } from './relations';

const MOST = 5000;

export class RelationNames {
  readonly #kept = new Lru<Promise<Relation>>(MOST);
  #all: Promise<readonly RelationName[]> | undefined;

  constructor(
    readonly database: Database,
    events: Events,
  ) {
    events.listen((event) => {
      if (event.topic !== 'catalog') return;
      this.#kept.clear();
      this.#all = undefined;
    });
  }

  /** All of them, in order, without what only their own page shows. */
  all(): Promise<readonly RelationName[]> {
    const all = this.#all ?? listRelationNames(this.database);
    this.#all = all;
    all.catch(() => {
      if (this.#all === all) this.#all = undefined;
    });
    return all;
  }

  /** Fails with `not-found` naming what there is instead. */
  get(namespace: string, name: string): Promise<Relation> {
    return keepPromise(this.#kept, `${namespace}\0${name}`.toLowerCase(), () => getRelation(this.database, namespace, name));
  }
}
