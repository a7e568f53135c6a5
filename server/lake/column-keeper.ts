/** Keeps the catalog's list of columns true to what tables and views have, in the background. */
import type { Logger } from 'pino';
import { PRODUCT } from '../access/access';
import { LakeError } from '../../core/errors';
import { LATEST, type Snapshot } from '../../core/table/contract';
import type { Database } from '../catalog/database';
import { getRelation, unseenRelations, nameOf, noteColumns, seenColumns, type Relation, type SeenColumn } from '../catalog/relations';
import type { Events } from '../events';
import type { Queries } from '../query/queries';
import type { Lake } from './lake';

/** A table that is committed to many times in a row is looked at as often as this. */
const REST_MS = 200;

export class ColumnKeeper {
  #queue: Promise<unknown> = Promise.resolve();
  /** Tables that are to be looked at and were not yet. */
  readonly #awaited = new Set<string>();

  constructor(
    readonly database: Database,
    readonly lake: Lake,
    readonly queries: Queries,
    readonly events: Events,
    readonly log: Logger,
  ) {
    events.listen((event) => {
      if (event.topic === 'table' && !this.#awaited.has(event.name)) {
        this.#awaited.add(event.name);
        setTimeout(() => this.#later(() => this.#look(event.name)), REST_MS).unref();
      }
      if (event.topic === 'catalog') this.#later(() => this.lookAtNew());
    });
  }

  /** Columns of a table as somebody just saw it. */
  async seen(relation: Relation, snapshot: Snapshot): Promise<void> {
    await this.#note(relation, seenColumns(snapshot.schema.fields));
  }

  /** Tables and views whose columns were never seen. */
  async lookAtNew(): Promise<void> {
    for (const relation of await unseenRelations(this.database)) {
      await this.#lookAt(relation).catch((error: unknown) => {
        if (!(error instanceof LakeError)) throw error;
      });
    }
  }

  async #look(name: string): Promise<void> {
    this.#awaited.delete(name);
    const cut = name.lastIndexOf('.');
    await this.#lookAt(await getRelation(this.database, name.slice(0, cut), name.slice(cut + 1)));
  }

  async #lookAt(relation: Relation): Promise<void> {
    const columns = relation.kind === 'view' ? await this.#columnsOfView(relation) : await this.lake.table(relation).snapshot(LATEST).then((snapshot) => seenColumns(snapshot.schema.fields));
    await this.#note(relation, columns);
  }

  async #columnsOfView(relation: Relation): Promise<SeenColumn[]> {
    return this.queries.columnsOf(`SELECT * FROM "${relation.namespace.replaceAll('"', '""')}"."${relation.name.replaceAll('"', '""')}"`, PRODUCT);
  }

  async #note(relation: Relation, columns: SeenColumn[]): Promise<void> {
    if (await noteColumns(this.database, relation, columns, 'the catalog')) this.events.tell({ topic: 'columns', name: nameOf(relation) });
  }

  /** A table that cannot be read keeps the columns that it had; whoever reads it is told why. */
  #later(work: () => Promise<void>): void {
    this.#queue = this.#queue.then(work).catch((error: unknown) => {
      if (!(error instanceof LakeError)) this.log.error({ err: error }, 'keeping columns');
    });
  }
}
