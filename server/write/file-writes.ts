/** Writes rows of a query to files of a folder: looked at before, tried on some rows, written just so, and compared with what was foreseen. */
import { createHash, randomUUID } from 'node:crypto';
import path from 'node:path';
import { LakeError, placingErrors } from '../../core/errors';
import { Lru } from '../../core/lru';
import { twiceNamed } from '../../core/schema/types';
import { quoteName, quoteText } from '../../core/sql/tokens';
import { readWrite } from '../../core/sql/write';
import { joinPath } from '../../core/storage/paths';
import { cutFiles, filePaths, groupColumns, type RowGroup } from '../../core/write/cut';
import { fileNumberSql, fileRowsSql, sortSql, stagedGroupsSql, stagedSql } from '../../core/write/cut-sql';
import { extensionOf } from '../../core/write/file-kind';
import { columnsOf } from '../../core/write/name-pattern';
import { readFolderWrite, type FolderWrite } from '../../core/write/folder-write';
import type { Forecast } from '../../core/write/forecast';
import type { TrialOutcome, WriteOutcome, WrittenPath } from '../../core/write/outcome';
import { explainPlan } from '../../core/write/plan';
import { isDefinition, readDefinition } from '../../core/sql/define';
import { demandEverywhere, nameOfIdentity, type Identity } from '../access/access';
import type { ReceiptTable } from '../catalog/receipts';
import type { ResultColumn } from '../engine/messages';
import { tableToFill, tryTable, type TableToFill } from '../define/create';
import type { DefineServices } from '../define/definitions';
import { removeUnder } from '../lake/account';
import type { PlannedTable } from '../query/prepare';
import type { QueryResult } from '../query/queries';
import { databaseTarget, targetWords, writeToDatabase, type DatabaseTarget } from './database-writes';
import { decideCut, groupsOf, type Decision } from './decide';
import { folderSubject, foresee, needsStage, sampled, tableSubject } from './foresee';
import { withSealedRows, type SealedRows } from './sealed-rows';
import { mustBeWelcome, writeTarget, type WriteTarget } from './target';
import { fileWriter, type FileWriter } from './write-format';

/** The answer of a query, with a row for each file. */
export type WriteResult = QueryResult & { done: string; wrote: WriteOutcome };

export interface WriteOptions {
  id?: string;
  sql: string;
  as: Identity;
  onProgress?: (rows: number, of: number) => void;
  /** Keep the list of files for paging. */
  keep?: boolean;
  signal?: AbortSignal;
}

/** A write of some rows to a folder of its own, to be looked at. */
export interface TrialOptions extends WriteOptions {
  rows: number;
  /** From all over the source, else the first. */
  isSampled: boolean;
}

/** What a plan came to; kept, so that a write comes out as its forecast said. */
interface Foreseen extends Decision {
  totals: NonNullable<WriteOutcome['foreseen']>;
}

export interface PreparedWrite {
  source: string;
  columns: ResultColumn[];
  write: FolderWrite;
  target: WriteTarget;
}

const TRIALS = 'trial-writes';
const KEPT_FORECASTS = 100;

export class FileWrites {
  readonly #foreseen = new Lru<Foreseen>(KEPT_FORECASTS);

  constructor(readonly services: DefineServices) {}

  /** Of WRITE, or of CREATE TABLE AS. `sampleRows`: counts so many rows in place of all. */
  async forecast(sql: string, as: Identity, sampleRows?: number): Promise<Forecast> {
    const { engineMemory } = this.services.config;
    if (isDefinition(sql)) {
      const filled = await this.#tableToFill(sql, as);
      const { source } = filled;
      return withSealedRows(this.services.queries, { id: randomUUID(), sql: sql.slice(source.start, source.end), as }, async (sealed) => (await foresee(sealed, tableSubject(filled), sampleRows, engineMemory)).forecast);
    }
    const prepared = await this.#prepare(sql, as);
    return withSealedRows(this.services.queries, { id: randomUUID(), sql: prepared.source, as }, async (sealed) => {
      const { forecast, decision } = await foresee(sealed, folderSubject(prepared, (at) => this.#writer(at, prepared)), sampleRows, engineMemory);
      const { rows, files, bytes, costs } = forecast;
      this.#foreseen.set(forecastKey(sql, sealed.tables), { ...decision, totals: { rows, files, bytes, millis: costs.reduce((sum, each) => sum + each.millis, 0) } });
      return forecast;
    });
  }

  async #tableToFill(sql: string, as: Identity): Promise<TableToFill> {
    const statement = readDefinition(sql);
    if (statement.kind !== 'create-table') throw new LakeError('bad-request', 'What is foreseen is WRITE, and CREATE TABLE AS a query.', { position: 0 });
    return tableToFill(this.services, statement, sql, as);
  }

  /** What the query would read, and where its rows would go. */
  async plan(sql: string, as: Identity): Promise<{ tables: PlannedTable[]; does: string[] }> {
    const database = await this.#toDatabase(sql, as);
    if (database) return { tables: await this.services.queries.plan(database.source, as), does: targetWords(database.storage, database.target) };
    const { source, write, target } = await this.#prepare(sql, as);
    mustBeWelcome(target, write.existing);
    const there = target.existing.length === 0 ? '' : write.existing === 'clear' ? `, after the ${target.existing.length} files there are removed` : `, beside ${target.existing.length} that are there`;
    return { tables: await this.services.queries.plan(source, as), does: [`Writes ${write.kind.format} files to ${target.storage.storage.name}:${target.path}${there}.`, ...explainPlan(write.files, write.folders.length > 0)] };
  }

  async run(options: WriteOptions): Promise<WriteResult> {
    const database = await this.#toDatabase(options.sql, options.as);
    if (database) return this.#writeRowsTo(options, database);
    const prepared = await this.#prepare(options.sql, options.as);
    mustBeWelcome(prepared.target, prepared.write.existing);
    return this.#write(options, prepared, (sealed) => sealed);
  }

  /** Through the same steps, to a folder of its own in the same storage. */
  async trial(options: TrialOptions): Promise<TrialOutcome> {
    if (isDefinition(options.sql)) return this.#tryTable(options);
    const { rows, isSampled } = options;
    const prepared = await this.#prepare(options.sql, options.as);
    const target = { ...prepared.target, path: trialFolder(), existing: [] };
    const { wrote } = await this.#write(options, { ...prepared, target }, (sealed) => (isSampled ? sampled(sealed, rows) : { ...sealed, rows: `SELECT * FROM (${sealed.rows}\n) AS __first LIMIT ${rows}` }));
    return { storage: prepared.target.storage.storage.name, folder: target.path, rows: wrote.rows, bytes: wrote.bytes, files: wrote.files };
  }

  async #tryTable({ sql, as, rows, isSampled, id = randomUUID() }: TrialOptions): Promise<TrialOutcome> {
    const filled = await this.#tableToFill(sql, as);
    const { start, end } = filled.source;
    const some = `SELECT * FROM (${sql.slice(start, end)}\n) AS __some ${isSampled ? `USING SAMPLE reservoir(${rows} ROWS)` : `LIMIT ${rows}`}`;
    const { storage } = filled.place;
    const folder = { storage, path: trialFolder() };
    await tryTable(this.services, filled, folder, { text: sql.slice(0, start) + some, source: { start, end: start + some.length }, as, id });
    const found = (await storage.store.list(folder.path)).map((file) => ({ path: file.path.slice(folder.path.length + 1), bytes: file.bytes }));
    this.services.events.tell({ topic: 'storage', storage: storage.storage.name, folder: folder.path });
    return { storage: storage.storage.name, folder: folder.path, rows: null, bytes: found.reduce((sum, file) => sum + file.bytes, 0), files: found.map((file) => ({ ...file, rows: null })) };
  }

  /** Undefined where the statement writes to a folder. */
  async #toDatabase(sql: string, as: Identity): Promise<{ storage: string; source: string; target: DatabaseTarget } | undefined> {
    const { to, options, source } = readWrite(sql);
    const cut = to.place.indexOf(':');
    const storage = this.services.lake.storage(to.place.slice(0, cut));
    if (storage.storage.kind !== 'postgres') return undefined;
    demandEverywhere(as, 'write', 'write to a database');
    const query = sql.slice(source.start, source.end);
    const columns = await inUsersPlaces(source.start, () => this.services.queries.columnsOf(query, as));
    mustBeDistinct(columns, source.start);
    return { storage: storage.storage.name, source: query, target: await inUsersPlaces(to.start, () => databaseTarget(storage, to.place.slice(cut + 1), options, columns)) };
  }

  async #writeRowsTo(options: WriteOptions, { storage, source, target }: { storage: string; source: string; target: DatabaseTarget }): Promise<WriteResult> {
    const to = `${storage}:${target.schema}.${target.name}`;
    const { counts, result } = await this.#withReceipt(options, to, source, async (sealed) => {
      const done = await writeToDatabase(sealed, target, options);
      const columns = Object.keys(done).filter((key) => key !== 'isMade').map((name) => ({ name, type: 'bigint' }));
      return { counts: done, written: { rows: done.rowsAtSource }, columns, rows: [[done.rowsAtSource, done.rowsBefore, done.rowsAfter, done.difference]] };
    });
    const done = `${counts.rowsAtSource} rows were written to the table ${target.schema}.${target.name} of ${storage}${counts.isMade ? ', which was made' : ''}; it holds ${counts.rowsAfter}${counts.difference === 0 ? '' : `, ${counts.difference} more than it should`}.`;
    this.services.events.tell({ topic: 'storage', storage, folder: target.schema });
    return { ...result, done, wrote: { to, files: [], rows: counts.rowsAtSource, bytes: 0, cleared: null, millis: { order: 0, write: 0, put: 0 }, foreseen: null, table: counts } };
  }

  async #prepare(sql: string, as: Identity): Promise<PreparedWrite> {
    const { to, options, source } = readWrite(sql);
    await inUsersPlaces(to.start, async () => demandEverywhere(as, 'write', 'write files to a folder'));
    const query = sql.slice(source.start, source.end);
    const columns = await inUsersPlaces(source.start, () => this.services.queries.columnsOf(query, as));
    mustBeDistinct(columns, source.start);
    const write = readFolderWrite(options, columns.map(({ name }) => name));
    const target = await inUsersPlaces(to.start, () => writeTarget(this.services, to.place, write.existing, as));
    return { source: query, columns, write, target };
  }

  async #write(options: WriteOptions, prepared: PreparedWrite, narrowed: (sealed: SealedRows) => SealedRows | Promise<SealedRows>): Promise<WriteResult> {
    const { storage, path: folder } = prepared.target;
    const to = `${storage.storage.name}:${folder}`;
    const { counts: wrote, result } = await this.#withReceipt(options, to, prepared.source, async (sealed) => {
      const at = await narrowed(sealed);
      const done = await this.#writeRows(at, prepared, to, at === sealed ? this.#foreseen.get(forecastKey(options.sql, sealed.tables)) : undefined, options.onProgress);
      return {
        counts: done, written: { rows: done.rows, files: done.files.length, bytes: done.bytes },
        columns: [{ name: 'file', type: 'varchar' }, { name: 'rows', type: 'bigint' }, { name: 'bytes', type: 'bigint' }], rows: done.files.map((file) => [file.path, file.rows, file.bytes]),
      };
    });
    this.services.events.tell({ topic: 'storage', storage: storage.storage.name, folder });
    return { ...result, wrote, done: doneWords(wrote) };
  }

  /** Every write leaves a receipt, however it ends; it is answered when that is kept. */
  async #withReceipt<T>(options: WriteOptions, to: string, source: string, work: (sealed: SealedRows) => Promise<{ counts: T; written: { rows: number; files?: number; bytes?: number }; columns: ResultColumn[]; rows: unknown[][] }>): Promise<{ counts: T; result: QueryResult }> {
    const id = options.id ?? randomUUID();
    const started = performance.now();
    const { receipts, queries } = this.services;
    let tables: ReceiptTable[] = [];
    const base = { id, who: nameOfIdentity(options.as), kind: 'write' as const, sql: options.sql, planMs: null, engineMs: null };
    try {
      const { counts, written, columns, rows } = await withSealedRows(queries, { id, sql: source, as: options.as }, (sealed) => {
        tables = sealed.tables;
        return work(sealed);
      });
      const totalMs = performance.now() - started;
      receipts.put({ ...base, tables, outcome: 'done', written: { table: to, operation: 'write', ...written }, rowCount: written.rows, totalMs, problem: null });
      if (options.keep) queries.keepRows(id, { columns, rows, as: options.as });
      return { counts, result: { id, columns, rows, rowCount: rows.length, truncated: false, receipt: { id, tables, planMs: 0, engineMs: totalMs, totalMs } } };
    } catch (error) {
      const cancelled = error instanceof LakeError && error.kind === 'cancelled';
      receipts.put({ ...base, tables, outcome: cancelled ? 'cancelled' : 'failed', written: { table: to }, rowCount: null, totalMs: performance.now() - started, problem: error instanceof LakeError ? error.message : 'An unexpected error.' });
      throw error;
    } finally {
      await receipts.settled();
    }
  }

  async #writeRows(sealed: SealedRows, prepared: PreparedWrite, to: string, foreseen: Foreseen | undefined, onProgress: WriteOptions['onProgress']): Promise<WriteOutcome> {
    const { write, target } = prepared;
    const writer = this.#writer(sealed, prepared);
    const decided = foreseen ?? await decideCut(sealed, write.files, groupColumns(write).map(quoteName), writer);
    const { local, millis } = await this.#cut(sealed, write, writer, decided, onProgress);
    const putting = performance.now();
    // Where old files go, all new ones are in place before the first of them does; those of the same name are replaced one by one, last.
    const names = new Set(target.existing.map((file) => file.path));
    const isReplacing = (file: WrittenPath) => write.existing === 'clear' && names.has(joinPath(target.path, file.path));
    for (const [index, file] of [...local.filter((each) => !isReplacing(each)), ...local.filter(isReplacing)].entries()) {
      const path = joinPath(target.path, file.path);
      if (write.existing === 'add' && await target.storage.store.head(path)) throw new LakeError('conflict', `${path} is there already; ${index} of ${local.length} files were written beside it.`, { path, hint: 'Put {id} in the pattern of names.' });
      await target.storage.store.putFile(path, file.local);
    }
    const put = performance.now();
    const written = new Set(local.map((file) => joinPath(target.path, file.path)));
    const cleared = write.existing === 'clear' && target.existing.length > 0 ? await clear({ ...target, existing: target.existing.filter((file) => !written.has(file.path)) }, target.existing) : null;
    const files = local.map(({ path, rows, bytes }) => ({ path, rows, bytes }));
    return {
      to, files, cleared, rows: files.reduce((sum, file) => sum + file.rows, 0), bytes: files.reduce((sum, file) => sum + file.bytes, 0),
      millis: { ...millis, put: Math.round(put - putting) }, foreseen: foreseen?.totals ?? null,
    };
  }

  /** The files, still in scratch. */
  async #cut(sealed: SealedRows, write: FolderWrite, writer: FileWriter, { figures, ranges }: Decision, onProgress: WriteOptions['onProgress'] = () => undefined): Promise<{ local: (WrittenPath & { local: string })[]; millis: { order: number; write: number } }> {
    const when = { at: new Date(), id: randomUUID().slice(0, 6) };
    const began = performance.now();
    const cut = { groups: groupColumns(write).map(quoteName), file: fileNumberSql(write.files, figures.files, ranges), sort: write.files.sort };
    const staged = path.join(sealed.scratch, 'staged.parquet');
    let groups: (RowGroup & { from: number })[] = [{ values: [], file: null, rows: 1, from: 0 }];
    if (needsStage(write)) {
      await sealed.step(`COPY (${stagedSql(sealed.rows, cut)}) TO ${quoteText(staged)} (FORMAT parquet, COMPRESSION snappy)`);
      groups = await groupsOf(sealed, stagedGroupsSql(staged, cut));
    }
    const ordered = performance.now();
    const files = cutFiles(write.files, groups, columnsOf(write.folders).length, figures);
    const paths = filePaths(write, groups, files, extensionOf(write.kind), when);
    const total = groups.reduce((sum, group) => sum + group.rows, 0);
    const local: (WrittenPath & { local: string })[] = [];
    let done = 0;
    for (const [index, file] of files.entries()) {
      const at = path.join(sealed.scratch, `file-${index}`);
      const rows = needsStage(write) ? fileRowsSql(staged, writer.select, groups[file.group]!.from + file.from, file.rows) : inOrder(`SELECT ${writer.select.join(', ')} FROM (${sealed.rows}\n) AS __rows`, write);
      const made = await writer.write(rows, at);
      local.push({ path: paths[index]!, local: at, ...made });
      onProgress(done += made.rows, total);
    }
    return { local, millis: { order: Math.round(ordered - began), write: Math.round(performance.now() - ordered) } };
  }

  #writer(sealed: SealedRows, { write, columns }: PreparedWrite): FileWriter {
    return fileWriter(write.kind, columns.filter(({ name }) => !write.leaveOut.includes(name)), sealed.step, this.services.queries.engine);
  }
}

function inOrder(sql: string, { files: { sort } }: FolderWrite): string {
  return sort.length === 0 ? sql : `${sql} ORDER BY ${sortSql(sort).join(', ')}`;
}

function trialFolder(): string {
  return joinPath(TRIALS, `${new Date().toISOString().slice(0, 16).replace(/[:T]/g, '-')}-${randomUUID().slice(0, 6)}`);
}

/** `before`: all that stood there, those too that were replaced by files of the same name. */
async function clear({ storage, path, existing }: WriteTarget, before: WriteTarget['existing']): Promise<NonNullable<WriteOutcome['cleared']>> {
  const started = performance.now();
  await removeUnder(storage, [path], existing);
  return { files: before.length, bytes: before.reduce((sum, file) => sum + file.bytes, 0), millis: Math.round(performance.now() - started) };
}

function doneWords({ to, files, rows, cleared }: WriteOutcome): string {
  const wrote = files.length === 0 ? `The query gives no rows, so no file was written to ${to}.` : `${rows} rows were written to ${files.length} ${files.length === 1 ? 'file' : 'files'} in ${to}.`;
  return cleared ? `${wrote} ${cleared.files} older files were removed then.` : wrote;
}

/** The same text over the same files. */
function forecastKey(sql: string, tables: readonly ReceiptTable[]): string {
  return createHash('sha256').update(JSON.stringify([sql, tables.map(({ name, version, files, bytes }) => [name, version, files, bytes])])).digest('hex');
}

function mustBeDistinct(columns: readonly ResultColumn[], position: number): void {
  const twice = twiceNamed(columns.map(({ name }) => name));
  if (twice !== undefined) throw new LakeError('bad-request', `The query has two columns "${twice}", told apart by case at most. Name one of them otherwise with AS.`, { position });
}

/** Positions in a part of the statement are made those of the whole; what has none is placed at its start. */
function inUsersPlaces<T>(start: number, work: () => Promise<T>): Promise<T> {
  return placingErrors((before = 0) => before + start, work);
}
