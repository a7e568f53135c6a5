/** Runs statements that define or look: each asks for rights, leaves a receipt where it changed something, and says what it did. */
import { randomUUID } from 'node:crypto';
import { LakeError } from '../../core/errors';
import { readDefinition, type DefineStatement } from '../../core/sql/define';
import { demand, nameOfIdentity, type Identity } from '../access/access';
import { deleteNamespace, dropRelation, getNamespace, listRelations, nameOf, type Relation } from '../catalog/relations';
import type { ChangeResult } from '../change/changes';
import { teardownOf } from '../lake/account';
import type { QueryResult } from '../query/queries';
import { allReadersOf, readersOf, readerWords } from '../query/readers';
import type { Services } from '../services';
import { alterTable, changeWords } from './alter';
import { createNamespace, createTable, createView } from './create';
import { look, seen, type Look } from './look';
import { dropToTrash, undrop } from './trash';

export type DefineServices = Pick<Services, 'database' | 'lake' | 'queries' | 'changes' | 'files' | 'upkeep' | 'events' | 'receipts' | 'config'>;

/** What was done, in words. */
export interface Done {
  done: string;
  /** Full name of what was made or changed. */
  table?: string;
  version?: number;
  /** Of a table that was made from a query. */
  filled?: ChangeResult;
}

export interface DefineOptions {
  id?: string;
  sql: string;
  as: Identity;
  maxRows: number;
  /** Keep the rows for paging. */
  keep?: boolean;
}

export type DefineResult = QueryResult & { done?: string; /** Of SHOW and DESCRIBE, which read no rows and leave no receipt. */ isLook?: true };

export class Definitions {
  constructor(readonly services: DefineServices) {}

  /** What the statement would do, in words; nothing is changed. */
  async plan(sql: string, as: Identity): Promise<string[]> {
    const statement = readDefinition(sql);
    const { database, lake, queries } = this.services;
    switch (statement.kind) {
      case 'drop': {
        const relation = await seen(this.services, statement.name, as);
        demand(as, 'manage', relation);
        const { files, bytes, ...readers } = await teardownOf(database, lake, queries.statements, relation, as);
        const goes = relation.kind === 'view' ? 'The view goes' : !relation.managed || statement.keepFiles ? `${nameOf(relation)} leaves the catalog; its ${files} files stay` : `${files} files, ${bytes} bytes, wait in the trash for ${this.services.config.trashDays} days`;
        return [`${goes}.`, ...broken(readers.views), ...readerWords({ ...readers, views: [] })];
      }
      case 'alter-table': {
        const relation = await seen(this.services, statement.table, as);
        demand(as, 'manage', relation);
        return [`${nameOf(relation)}: ${changeWords(statement.change)}.`, ...readerWords(await allReadersOf(database, queries.statements, relation, as))];
      }
      case 'drop-namespace': {
        demand(as, 'manage', { namespace: statement.namespace });
        const inside = await listRelations(database, statement.namespace);
        return [inside.length === 0 ? `The namespace ${statement.namespace} is empty and goes.` : statement.cascade ? `${inside.map(nameOf).join(', ')} go with it.` : `It holds ${inside.map(nameOf).join(', ')}, so it cannot go without CASCADE.`];
      }
      default:
        return [];
    }
  }

  async run(options: DefineOptions): Promise<DefineResult> {
    const id = options.id ?? randomUUID();
    const started = performance.now();
    const statement = readDefinition(options.sql);
    if (statement.kind === 'show') return this.#looked(id, await look(this.services, statement, options.as), options, started);
    const base = { id, who: nameOfIdentity(options.as), kind: 'write' as const, sql: options.sql, tables: [], rowCount: null, planMs: null, engineMs: null };
    const isFilled = statement.kind === 'create-table' && statement.source !== undefined;
    const { receipts } = this.services;
    try {
      const { done, table, version, filled } = await this.#do(statement, options.sql, options.as, id);
      const totalMs = performance.now() - started;
      // The change that filled it has left a receipt of its own.
      if (filled) return { ...filled, done };
      receipts.put({ ...base, outcome: 'done', written: { table: table ?? '', ...(version === undefined ? {} : { version }), operation: statement.kind }, totalMs, problem: null });
      return { id, columns: [{ name: 'done', type: 'varchar' }], rows: [[done]], rowCount: 1, truncated: false, done, receipt: { id, tables: [], planMs: 0, engineMs: 0, totalMs } };
    } catch (error) {
      if (!isFilled) receipts.put({ ...base, outcome: 'failed', written: null, totalMs: performance.now() - started, problem: error instanceof LakeError ? error.message : 'An unexpected error.' });
      throw error;
    } finally {
      await receipts.settled();
    }
  }

  async #do(statement: Exclude<DefineStatement, { kind: 'show' }>, sql: string, as: Identity, id: string): Promise<Done> {
    const { services } = this;
    switch (statement.kind) {
      case 'create-namespace':
        return createNamespace(services, statement, as);
      case 'create-table':
        return createTable(services, statement, sql, as, id);
      case 'create-view':
        return createView(services, statement, sql, as);
      case 'alter-table':
        return alterTable(services, await seen(this.services, statement.table, as), statement.change, as);
      case 'drop':
        return this.#drop(statement, as);
      case 'undrop': {
        demand(as, 'manage', statement.name);
        const back = await undrop(services, statement.name, nameOfIdentity(as));
        return { done: `${nameOf(back)} is back at ${back.storage}:${back.location}, with all its versions.`, table: nameOf(back) };
      }
      case 'drop-namespace':
        return this.#dropNamespace(statement, as);
    }
  }

  async #drop({ what, name, ifExists, keepFiles }: Extract<DefineStatement, { kind: 'drop' }>, as: Identity): Promise<Done> {
    const { database, events } = this.services;
    const relation = await seen(this.services, name, as).catch((error: unknown) => {
      if (ifExists && error instanceof LakeError && error.kind === 'not-found') return undefined;
      throw error;
    });
    if (!relation) return { done: `There is no ${what} ${nameOf(name)}, so nothing had to be done.` };
    demand(as, 'manage', relation);
    if (relation.kind !== what) throw new LakeError('bad-request', `${nameOf(relation)} is a ${relation.kind}. Use DROP ${relation.kind.toUpperCase()}.`, { table: nameOf(relation), position: name.start });
    return this.#dropOne(relation, keepFiles, as, () => dropRelation(database, relation, nameOfIdentity(as)).then(() => events.tell({ topic: 'catalog' })));
  }

  async #dropOne(relation: Relation, keepFiles: boolean, as: Identity, leave: () => Promise<void>): Promise<Done> {
    const table = nameOf(relation);
    if (relation.kind === 'table' && relation.managed && !keepFiles) {
      const { files, views, keepUntil } = await dropToTrash(this.services, relation, as);
      return { done: [`${table} was dropped; its ${files} files wait in the trash until ${keepUntil.toISOString().slice(0, 10)} (UNDROP TABLE ${table}).`, ...broken(views)].join(' '), table };
    }
    const { database, queries } = this.services;
    const views = await readersOf(database, queries.statements, relation, as);
    await leave();
    return { done: [`${table} has left the catalog${relation.kind === 'table' ? '; its files stay where they are' : ''}.`, ...broken(views)].join(' '), table };
  }

  async #dropNamespace({ namespace: name, ifExists, cascade }: Extract<DefineStatement, { kind: 'drop-namespace' }>, as: Identity): Promise<Done> {
    const { database, events } = this.services;
    demand(as, 'manage', { namespace: name });
    const namespace = await getNamespace(database, name).catch((error: unknown) => {
      if (ifExists && error instanceof LakeError && error.kind === 'not-found') return undefined;
      throw error;
    });
    if (!namespace) return { done: `There is no namespace ${name}, so nothing had to be done.` };
    const inside = await listRelations(database, namespace.name);
    if (inside.length > 0 && !cascade) throw new LakeError('conflict', `${namespace.name} holds ${inside.map(nameOf).join(', ')}. Nothing was changed.`, { hint: `DROP NAMESPACE ${namespace.name} CASCADE drops them with it.` });
    for (const relation of inside) await this.#dropOne(relation, false, as, () => dropRelation(database, relation, nameOfIdentity(as)));
    await deleteNamespace(database, namespace, nameOfIdentity(as));
    events.tell({ topic: 'catalog' });
    return { done: `The namespace ${namespace.name} was dropped${inside.length > 0 ? `, with ${inside.map(nameOf).join(', ')}` : ''}.` };
  }

  #looked(id: string, { columns, rows }: Look, { maxRows, keep, as }: DefineOptions, started: number): DefineResult {
    const shown = rows.slice(0, maxRows);
    const totalMs = performance.now() - started;
    if (keep) this.services.queries.keepRows(id, { columns, rows: shown, as });
    return { id, isLook: true, columns, rows: shown, rowCount: shown.length, truncated: shown.length < rows.length, receipt: { id, tables: [], planMs: 0, engineMs: 0, totalMs } };
  }
}

function broken(views: readonly string[]): string[] {
  return views.length > 0 ? [`${views.join(', ')} ${views.length === 1 ? 'reads' : 'read'} it, and can no longer be read.`] : [];
}
