/** Runs statements that change rows of Delta and Iceberg tables: resolve, plan, write new files sealed, commit one version, keep a receipt. */
import { randomUUID } from 'node:crypto';
import { rmSync } from 'node:fs';
import { readdir, stat } from 'node:fs/promises';
import path from 'node:path';
import { latestState } from '../../core/delta/operations';
import { checkWritable } from '../../core/delta/protocol';
import { DeltaTable } from '../../core/delta/table';
import { AlreadyLoaded, LakeError, placingErrors } from '../../core/errors';
import { IcebergTable } from '../../core/iceberg/table';
import { TRUE } from '../../core/scan/predicate';
import type { Field } from '../../core/schema/types';
import { readChange, type ChangeStatement, type Range } from '../../core/sql/change';
import type { Snapshot } from '../../core/table/contract';
import { retrying, STATEMENT_RETRIES } from '../../core/table/retry';
import { nameOfIdentity, type Identity } from '../access/access';
import type { ReceiptBook } from '../catalog/receipt-book';
import type { ReceiptTable } from '../catalog/receipts';
import type { Config } from '../config';
import { EngineError } from '../engine/failures';
import type { Events } from '../events';
import type { DeltaUpkeep } from '../lake/delta-upkeep';
import { randomIds, systemClock, type OpenStorage } from '../lake/lake';
import { GivingWay } from '../lake/giving-way';
import { prepareQuery, receiptTable, type PlannedTable } from '../query/prepare';
import type { Queries, QueryResult } from '../query/queries';
import { withInstance } from '../query/sealed-instance';
import { composeChange, type ComposedChange } from './composed-change';
import { commitDelta, trackingFields } from './delta-change';
import { branchState, commitIceberg, lineageFields } from './iceberg-change';
import { BROKEN_RULE } from './new-rows';
import type { ChangeOutcome, RowChange } from './row-change';

export interface ChangeOptions {
  id?: string;
  sql: string;
  as: Identity;
  /** A load that must not happen twice; where it did already nothing is written, and the answer says so. */
  loadId?: string;
  /** How new rows go into files, by the options' names; of statements that only bring rows. */
  files?: Readonly<Record<string, string>>;
  /** A table that is not in the catalog yet, filled from a query that is part of the text. */
  into?: { name: string; table: DeltaTable | IcebergTable; storage: OpenStorage; source: Range };
}

/** The answer of a query, with one row that counts what was done. */
export interface ChangeResult extends QueryResult {
  written: { table: string; /** Null where no row was concerned, so that no version was made. */ version: number | null; operation: string; /** The load was in the table before. */ alreadyLoaded?: { version: number | null } };
}

export class Changes {
  readonly #scratch: string;

  constructor(
    readonly queries: Queries,
    readonly upkeep: Pick<DeltaUpkeep, 'afterCommit'>,
    readonly receipts: ReceiptBook,
    readonly events: Events,
    readonly config: Config,
    readonly givingWay: Pick<GivingWay, 'inTurn'> = new GivingWay(),
  ) {
    this.#scratch = path.join(config.home, 'scratch', 'changes');
    rmSync(path.join(config.home, 'scratch'), { recursive: true, force: true });
  }

  /** What the statement would look at, without running it. */
  async plan(sql: string, as: Identity): Promise<PlannedTable[]> {
    const statement = readChange(sql);
    const target = await this.#target(statement, as);
    const { pin } = await target.begin();
    const composed = composeChange(sql, statement);
    return (await inUsersPlaces(composed, async () => prepareQuery(await this.queries.resolver(as, new Map([[target.name, pin]])).resolve(composed.query.text), this.queries.statements, this.queries.roots, composed.target))).tables;
  }

  async run(options: ChangeOptions): Promise<ChangeResult> {
    const id = options.id ?? randomUUID();
    const started = performance.now();
    let tables: ReceiptTable[] = [];
    let table = '';
    const base = { id, who: nameOfIdentity(options.as), kind: 'write' as const, sql: options.sql, planMs: null, engineMs: null };
    try {
      const { into } = options;
      const statement = into ? filling(into.source) : readChange(options.sql);
      const target = into ? this.#targetOf(into.name, into.table, into.storage) : await this.#target(statement, options.as);
      table = target.name;
      const outcome = await this.#withRetries(id, options, statement, target, (read) => {
        tables = read;
      });
      const totalMs = performance.now() - started;
      const written = { table, version: outcome.version, operation: outcome.operation, ...outcome.counts, ...(outcome.alreadyLoaded ? { alreadyLoaded: outcome.alreadyLoaded } : {}) };
      this.receipts.put({ ...base, tables, outcome: 'done', written, rowCount: outcome.counts.rowsInserted + outcome.counts.rowsUpdated + outcome.counts.rowsDeleted, totalMs, problem: null });
      if (outcome.version !== null) {
        this.events.tell({ topic: 'table', name: table });
        await Promise.all([target.settled(), this.receipts.settled()]);
      }
      return { ...answer(outcome), id, written, receipt: { id, tables, planMs: 0, engineMs: totalMs, totalMs } };
    } catch (error) {
      const problem = error instanceof LakeError ? error.message : 'An unexpected error.';
      const cancelled = error instanceof LakeError && error.kind === 'cancelled';
      this.receipts.put({ ...base, tables, outcome: cancelled ? 'cancelled' : 'failed', written: table ? { table } : null, rowCount: null, totalMs: performance.now() - started, problem });
      throw error;
    } finally {
      // A write is answered only when its receipt is kept too.
      await this.receipts.settled();
    }
  }

  /** Of a statement that runs: rows that the step at hand has gone through, and bytes written so far. */
  async progress(id: string): Promise<{ rows: number; of: number; bytes: number } | null> {
    const rows = await this.queries.engine.call('progress', { id });
    return rows && { ...rows, bytes: await bytesUnder(path.join(this.#scratch, id)) };
  }

  async #target(statement: ChangeStatement, as: Identity): Promise<Target> {
    const { name, start, branch } = statement.target;
    return placingErrors((before = start) => before, async () => {
      const { name: fullName, table, storage } = await this.queries.resolver(as).open(name, 'write');
      if (table instanceof DeltaTable && branch !== undefined) throw new LakeError('bad-request', `${fullName} is kept as Delta, which has no branches. Nothing was changed.`, { table: fullName });
      if (table instanceof DeltaTable || table instanceof IcebergTable) return this.#targetOf(fullName, table, storage, branch);
      throw new LakeError('unsupported', `${fullName} is kept as ${table.format}; rows can be changed in Delta and Iceberg tables. Nothing was changed.`, { table: fullName });
    });
  }

  #targetOf(name: string, table: DeltaTable | IcebergTable, storage: OpenStorage, branch = 'main'): Target {
    return table instanceof DeltaTable ? deltaTarget(name, table, storage, this.upkeep) : icebergTarget(name, table, storage, branch);
  }

  async #withRetries(id: string, options: ChangeOptions, statement: ChangeStatement, target: Target, told: (tables: ReceiptTable[]) => void): Promise<ChangeOutcome> {
    let last: unknown;
    try {
      return await retrying(target.name, STATEMENT_RETRIES, systemClock, async () => {
        try {
          // Waiting for others takes nobody's turn.
          return await this.givingWay.inTurn(target.name, () => this.queries.lanes.changes.run(nameOfIdentity(options.as), () => this.#attempt(id, options, statement, target, told), this.queries.underWay.signalOf(id)));
        } catch (error) {
          if (error instanceof AlreadyLoaded) return alreadyLoaded(statement, error);
          if (!(error instanceof LakeError && error.kind === 'conflict')) throw error;
          last = error;
          return undefined;
        }
      });
    } catch (error) {
      // What stood in the way last says more than how often it was tried.
      throw error instanceof LakeError && error.kind === 'conflict' ? (last ?? error) : error;
    }
  }

  async #attempt(id: string, { sql, as, loadId, files }: ChangeOptions, statement: ChangeStatement, target: Target, told: (tables: ReceiptTable[]) => void): Promise<ChangeOutcome> {
    const attempt = await target.begin();
    const composed = composeChange(sql, statement);
    const resolver = this.queries.resolver(as, new Map([[target.name, attempt.pin]]));
    const prepared = await inUsersPlaces(composed, async () => prepareQuery(await resolver.resolve(composed.query.text), this.queries.statements, this.queries.roots, composed.target));
    // Looked at while the instance is made ready; nothing of the user's runs before.
    const checked = composed.query.checkParts(this.queries.engine);
    checked.catch(() => undefined);
    told(prepared.tables.filter((table) => !table.withPositions).map(receiptTable));
    const tables = await Promise.all(prepared.tables.map((table) => (table.withPositions ? asTarget(table, statement, attempt.extraFields) : table)));
    const scratch = path.join(this.#scratch, id);
    const { engine } = this.queries;
    return withInstance(this.queries, { id, scratch, prepared, tables }, async ({ scans, step }) => {
      await checked;
      const change: RowChange = {
        statement, composed, name: target.name, scans, others: tables.filter((each) => !each.withPositions), ...targetOf(tables),
        writing: { step, scratch, store: target.storage.store }, tree: engine, sqlOf: (range) => prepared.compileRange(scans.relations, range), sql,
        ...(loadId === undefined ? {} : { loadId }), ...(files && (statement.kind === 'insert' || statement.kind === 'replace') ? { files } : {}),
      };
      return attempt.commit(change, nameOfIdentity(as)).catch(sayingWhichRule);
    });
  }
}

/** A rule of the table that new rows break is told as such. */
function sayingWhichRule(error: unknown): never {
  const rule = error instanceof EngineError ? error.message.indexOf(BROKEN_RULE) : -1;
  if (rule < 0) throw error;
  throw new LakeError('refused', `${withoutOurs((error as EngineError).message.slice(rule))}. Nothing was changed.`);
}

/** Files of a statement's scratch, which come and go while it runs. */
async function bytesUnder(folder: string): Promise<number> {
  const entries = await readdir(folder, { withFileTypes: true, recursive: true }).catch(() => []);
  const sizes = await Promise.all(entries.filter((entry) => entry.isFile()).map((entry) => stat(path.join(entry.parentPath, entry.name)).then((info) => info.size, () => 0)));
  return sizes.reduce((sum, size) => sum + size, 0);
}

/** All columns are the query's own, in its order. */
function filling(source: Range): ChangeStatement {
  return { kind: 'insert', target: { name: [], start: source.start, end: source.start }, byName: false, source };
}

/** A table that rows of are changed, as far as a statement must know it. */
interface Target {
  name: string;
  storage: OpenStorage;
  /** Looks at the table's newest state. Fails when it cannot be written to. */
  begin(): Promise<Attempt>;
  /** After a commit. */
  settled(): Promise<void>;
}

interface Attempt {
  /** The state that the statement is worked out from. */
  pin: number | Snapshot;
  /** Columns of rows that are read beside the table's own. */
  extraFields: Field[];
  commit(change: RowChange, who: string): Promise<ChangeOutcome>;
}

function deltaTarget(name: string, table: DeltaTable, storage: OpenStorage, upkeep: Pick<DeltaUpkeep, 'afterCommit'>): Target {
  return {
    name, storage,
    begin: async () => {
      const base = await latestState(table);
      checkWritable(name, base.version, base.protocol, base.metadata);
      return { pin: base.version, extraFields: trackingFields(base), commit: (change, who) => commitDelta({ ...change, base, table, ports: { clock: systemClock, ids: randomIds, who } }) };
    },
    settled: () => upkeep.afterCommit(table, storage),
  };
}

function icebergTarget(name: string, table: IcebergTable, storage: OpenStorage, branch: string): Target {
  return {
    name, storage,
    begin: async () => {
      const base = await branchState(table, branch);
      return { pin: base.snapshot, extraFields: lineageFields(base.metadata), commit: (change, who) => commitIceberg({ ...change, base, table, ports: { clock: systemClock, ids: randomIds, who } }) };
    },
    settled: async () => undefined,
  };
}

/** Rows without a match in the source may be anywhere, so every file is looked at; tracked rows bring their ids. */
async function asTarget(table: PlannedTable, statement: ChangeStatement, extraFields: readonly Field[]): Promise<PlannedTable> {
  const needsAll = statement.kind === 'merge' && statement.clauses.some((clause) => clause.when === 'not-matched-by-source');
  const plan = needsAll ? await table.source.snapshot.plan(TRUE) : table.plan;
  return { ...table, plan: { ...plan, fields: [...plan.fields, ...extraFields] } };
}

/** Nothing was done, since it was done before. */
function alreadyLoaded({ kind }: ChangeStatement, { loadedIn }: AlreadyLoaded): ChangeOutcome {
  const counts = { rowsInserted: 0, rowsUpdated: 0, rowsDeleted: 0, rowsCopied: 0, filesAdded: 0, filesRemoved: 0, bytesAdded: 0, bytesRemoved: 0, vectorsAdded: 0, changeFiles: 0 };
  return { operation: kind, version: null, counts, alreadyLoaded: { version: loadedIn ?? null } };
}

function targetOf(tables: readonly PlannedTable[]): { target?: PlannedTable } {
  const target = tables.find((table) => table.withPositions);
  return target ? { target } : {};
}

/** The row is shown without the columns that are ours. */
function withoutOurs(message: string): string {
  return message.split('\n')[0]!.replace(/,"__act":-?\w+/, '').trim();
}

/** Positions of errors in the composed query are made those of the user's text. */
function inUsersPlaces<T>({ query }: ComposedChange, work: () => Promise<T>): Promise<T> {
  return placingErrors((before) => (before === undefined ? undefined : query.originalPosition(before)), work);
}

function answer({ version, counts }: ChangeOutcome): Pick<QueryResult, 'columns' | 'rows' | 'rowCount' | 'truncated'> {
  const row: Record<string, number | null> = {
    version, rows_inserted: counts.rowsInserted, rows_updated: counts.rowsUpdated, rows_deleted: counts.rowsDeleted,
    files_added: counts.filesAdded, files_removed: counts.filesRemoved, bytes_added: counts.bytesAdded, bytes_removed: counts.bytesRemoved,
  };
  return { columns: Object.keys(row).map((name) => ({ name, type: 'bigint' })), rows: [Object.values(row)], rowCount: 1, truncated: false };
}
