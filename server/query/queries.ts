/** Running queries: resolve, plan, run sealed, keep a receipt. */
import { randomUUID } from 'node:crypto';
import { mkdirSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import type { Logger } from 'pino';
import { LakeError } from '../../core/errors';
import { isWord, tokenize } from '../../core/sql/tokens';
import { nameOfIdentity, type Identity } from '../access/access';
import type { ReceiptBook } from '../catalog/receipt-book';
import type { Receipt, ReceiptTable } from '../catalog/receipts';
import type { RelationNames } from '../catalog/relation-names';
import type { Config } from '../config';
import type { EngineCalls } from '../engine/engine';
import { PAGE_ROWS, type QueryReply, type ResultColumn } from '../engine/messages';
import { translateError } from '../engine/translate';
import type { FilesAsTable } from '../lake/files-as-table';
import type { Lake } from '../lake/lake';
import { namingTheFile } from '../lake/blame';
import type { LocalFiles } from '../lake/local-files';
import { FileShapes } from './file-shapes';
import { Lane, type LaneSize } from './lanes';
import { openScans } from './open-scans';
import { prepareQuery, receiptTable, type PlannedTable, type PreparedQuery } from './prepare';
import { Resolver, type Pins } from './resolve';
import { Statements } from './statements';
import { cancelled, UnderWay, unlessAborted } from './under-way';

export interface QueryOptions {
  /** Chosen by the caller when it may want to cancel. */
  id?: string;
  sql: string;
  maxRows: number;
  /** Who asks: every table that the query names is theirs to read, or it is refused. */
  as: Identity;
  pins?: Pins;
  /** Keep the rows for paging. */
  keep?: boolean;
  /** Part of something that leaves a receipt of its own. */
  leavesNoReceipt?: boolean;
}

export interface QueryResult {
  id: string;
  columns: ResultColumn[];
  rows: unknown[][];
  rowCount: number;
  truncated: boolean;
  receipt: { id: string; tables: ReceiptTable[]; planMs: number; engineMs: number; totalMs: number };
}

/** A result whose rows wait in a file, in pages. */
export interface KeptResult {
  columns: ResultColumn[];
  rowCount: number;
  tables: ReceiptTable[];
  /** Byte offset of each page in the file, and its end. */
  pages: number[];
  file: string;
  as: Identity;
}

/** At its end, and not that of a query inside. */
function hasLimit(sql: string): boolean {
  let depth = 0;
  return tokenize(sql).some((token) => {
    depth += '([{'.includes(token.text) ? 1 : ')]}'.includes(token.text) ? -1 : 0;
    return depth === 0 && (isWord(token, 'LIMIT') || isWord(token, 'OFFSET'));
  });
}

/** What is asked, and what makes rows. */
interface Lanes {
  queries: Lane;
  changes: Lane;
}

const SMALL = { queries: { quick: 2, long: 2 }, changes: { quick: 1, long: 1 } };

const RESULT_BYTES = 256e6;
/** Rows over IPC in one message, when they are not kept. */
const INLINE_BYTES = 64e6;
const KEPT_RESULTS = 40;
/** Of all kept results together; the newest is kept in any case. */
const KEPT_BYTES = 2e9;

export class Queries {
  readonly lanes: Lanes;
  readonly underWay = new UnderWay();
  readonly #pending = new Set<string>();
  readonly results = new Map<string, KeptResult>();
  readonly #folder: string;
  readonly statements: Statements;
  readonly shapes: FileShapes;

  constructor(
    readonly lake: Lake,
    readonly files: FilesAsTable,
    readonly engine: EngineCalls,
    readonly names: RelationNames,
    readonly receipts: ReceiptBook,
    readonly config: Config,
    readonly local: LocalFiles,
    readonly log?: Pick<Logger, 'warn'>,
    sizes: Record<keyof Lanes, LaneSize> = SMALL,
  ) {
    this.lanes = { queries: new Lane(sizes.queries), changes: new Lane(sizes.changes) };
    this.statements = new Statements(engine);
    this.shapes = new FileShapes(engine);
    this.#folder = path.join(config.home, 'results');
    rmSync(this.#folder, { recursive: true, force: true });
    mkdirSync(this.#folder, { recursive: true });
  }

  /** What the query would read, without running it. */
  async plan(sql: string, as: Identity): Promise<PlannedTable[]> {
    return (await this.#prepare(sql, as, new Map())).tables;
  }

  async run(options: QueryOptions): Promise<QueryResult> {
    const started = performance.now();
    const id = options.id ?? randomUUID();
    let tables: ReceiptTable[] = [];
    let planMs: number | null = null;
    this.#pending.add(id);
    try {
      const prepared = await unlessAborted(this.underWay.signalOf(id), this.#prepare(options.sql, options.as, options.pins ?? new Map()));
      tables = prepared.tables.map(receiptTable);
      planMs = performance.now() - started;
      const reply = await this.lanes.queries.run(nameOfIdentity(options.as), () => this.#execute(id, prepared, options), this.underWay.signalOf(id));
      const totalMs = performance.now() - started;
      if (options.keep) this.#keep(id, reply, tables, options.as);
      this.#keepReceipt(id, options, { outcome: 'done', tables, rowCount: reply.rowCount, planMs, engineMs: reply.millis, totalMs, problem: null });
      return { id, columns: reply.columns, rows: reply.rows, rowCount: reply.rowCount, truncated: reply.truncated, receipt: { id, tables, planMs, engineMs: reply.millis, totalMs } };
    } catch (error) {
      const isCancelled = error instanceof LakeError && error.kind === 'cancelled';
      const problem = error instanceof LakeError ? error.message : 'An unexpected error.';
      this.#keepReceipt(id, options, { outcome: isCancelled ? 'cancelled' : 'failed', tables, rowCount: null, planMs, engineMs: null, totalMs: performance.now() - started, problem });
      throw error;
    } finally {
      this.#pending.delete(id);
    }
  }

  /** A statement under an id of its own, refused for one that was used before; `Queries.cancel` stops it wherever it is. */
  begin<T>(id: string | undefined, as: Identity, work: (id: string) => Promise<T>): Promise<T> {
    const own = id ?? randomUUID();
    return this.underWay.run(own, as, async () => id !== undefined && this.receipts.has(id), () => work(own));
  }

  /** Stops a statement that is planned, waits or runs. */
  async cancel(id: string): Promise<boolean> {
    const isUnderWay = this.underWay.abort(id);
    const known = this.#pending.delete(id) || isUnderWay;
    return (await this.engine.call('cancel', { id })) || known;
  }

  /** Columns of a query's answer, without reading a row. */
  async columnsOf(sql: string, as: Identity): Promise<ResultColumn[]> {
    const prepared = await this.#prepare(hasLimit(sql) ? sql : `${sql}\nLIMIT 0`, as, new Map());
    const nothing = { ...prepared, tables: prepared.tables.map((table) => ({ ...table, plan: { ...table.plan, considered: [] } })) };
    const id = randomUUID();
    this.#pending.add(id);
    try {
      return (await this.lanes.queries.run(nameOfIdentity(as), () => this.#execute(id, nothing, { id, sql, maxRows: 0, as }))).columns;
    } finally {
      this.#pending.delete(id);
    }
  }

  /** Rows that the engine did not make, to be paged through like those of a query. */
  keepRows(id: string, { columns, rows, as }: { columns: ResultColumn[]; rows: unknown[][]; as: Identity }): void {
    const pages = [0];
    const parts: Buffer[] = [];
    for (let from = 0; from < rows.length; from += PAGE_ROWS) {
      const page = Buffer.from(JSON.stringify(rows.slice(from, from + PAGE_ROWS)));
      parts.push(page);
      pages.push(pages.at(-1)! + page.length);
    }
    writeFileSync(path.join(this.#folder, `${id}.rows`), Buffer.concat(parts));
    this.#keep(id, { columns, rows: [], rowCount: rows.length, truncated: false, millis: 0, pages }, [], as);
  }

  get roots(): Map<string, string> {
    return new Map(this.lake.storages().flatMap(({ store, storage }) => (store.root === undefined ? [] : [[store.root, storage.name]])));
  }

  async #prepare(sql: string, as: Identity, pins: Pins): Promise<PreparedQuery> {
    const prepared = await prepareQuery(await this.resolver(as, pins).resolve(sql), this.statements, this.roots);
    const unplanned = prepared.tables.find((table) => table.unplanned !== undefined)?.unplanned;
    if (unplanned !== undefined) this.log?.warn({ sql, unplanned }, 'a query runs without a plan');
    return prepared;
  }

  /** For one query or change. */
  resolver(as: Identity, pins: Pins = new Map()): Resolver {
    return new Resolver(this.lake, this.names, this.files, this.statements, as, pins);
  }

  async #execute(id: string, { compile, tables }: PreparedQuery, options: QueryOptions): Promise<QueryReply> {
    if (!this.#pending.has(id)) throw cancelled();
    const scans = await openScans(tables, this, this.#folder);
    const spliced = compile(scans.relations);
    try {
      if (!this.#pending.has(id)) throw cancelled();
      return await this.engine.call('query', {
        id, setup: scans.setup, sql: spliced.sql, allow: scans.allow,
        limits: { rows: options.maxRows, resultBytes: options.keep ? RESULT_BYTES : INLINE_BYTES, millis: this.config.queryMillis },
        ...(options.keep ? { keepIn: path.join(this.#folder, `${id}.rows`) } : {}),
      });
    } catch (error) {
      const names = new Map(tables.map(({ standIn, source }) => [standIn, source.name]));
      throw await namingTheFile(translateError(error, { roots: this.roots, copies: scans.copies, names, originalPosition: spliced.originalPosition }), this.engine, scans.suspects);
    } finally {
      await scans.release();
    }
  }

  #keep(id: string, reply: QueryReply, tables: ReceiptTable[], as: Identity): void {
    this.results.set(id, { as, tables, columns: reply.columns, rowCount: reply.rowCount, pages: reply.pages, file: path.join(this.#folder, `${id}.rows`) });
    let bytes = [...this.results.values()].reduce((sum, each) => sum + each.pages.at(-1)!, 0);
    for (const [oldest, kept] of this.results) {
      if (this.results.size === 1 || (this.results.size <= KEPT_RESULTS && bytes <= KEPT_BYTES)) return;
      this.results.delete(oldest);
      rmSync(kept.file, { force: true });
      bytes -= kept.pages.at(-1)!;
    }
  }

  #keepReceipt(id: string, options: QueryOptions, outcome: Pick<Receipt, 'outcome' | 'tables' | 'rowCount' | 'planMs' | 'engineMs' | 'totalMs' | 'problem'>): void {
    if (options.leavesNoReceipt) return;
    this.receipts.put({ id, who: nameOfIdentity(options.as), kind: 'query', sql: options.sql, written: null, ...outcome });
  }
}
