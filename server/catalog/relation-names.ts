/** Relations by name, kept until the catalog changes: a query names tables far more often than they change. */
import { keepPromise, Lru } from '../../core/lru';
import type { Events } from '../events';
import type { Database } from './database';
import { getRelation, listRelationNames, type Relation, type RelationName } from './relations';

const MOST = 5000;

export class RelationNames {
  readonly #kept = new Lru<Promise<Relation>>(MOST);
  readonly #lists = new Lru<Promise<readonly RelationName[]>>(1);

  constructor(
    readonly database: Database,
    events: Events,
  ) {
    events.listen((event) => {
      if (event.topic !== 'catalog') return;
      this.#kept.clear();
      this.#lists.clear();
    });
  }

  /** All of them, in order, without what only their own page shows. */
  all(): Promise<readonly RelationName[]> {
    return keepPromise(this.#lists, '', () => listRelationNames(this.database));
  }

  /** Fails with `not-found` naming what there is instead. */
  get(namespace: string, name: string): Promise<Relation> {
    return keepPromise(this.#kept, `${namespace}\0${name}`.toLowerCase(), () => getRelation(this.database, namespace, name));
  }
}
