/** Writes rows of a query to files of a folder: looked at before, tried on some rows, written just so, and compared with what was foreseen. */
import { createHash, randomUUID } from 'node:crypto';
import path from 'node:path';
import { LakeError } from '../../core/errors';
import { Lru } from '../../core/lru';
import { quoteName, quoteText } from '../../core/sql/tokens';
import { readWrite } from '../../core/sql/write';
import { joinPath } from '../../core/storage/paths';
import { cutFiles, filePaths, groupColumns, type CutFigures, type RowGroup } from '../../core/write/cut';
import { countedSql, fileNumberSql, fileRowsSql, sortSql, stagedGroupsSql, stagedSql, type CutExpressions, type RangeBounds } from '../../core/write/cut-sql';
import { extensionOf } from '../../core/write/file-kind';
import { columnsOf } from '../../core/write/name-pattern';
import { readFolderWrite, type FolderWrite } from '../../core/write/folder-write';
import { costsOf, rowsPerFile, treeOf, type Forecast, type SampleFigures, type SizeModel } from '../../core/write/forecast';
import { explainPlan } from '../../core/write/plan';
import { nameOfIdentity, type Identity } from '../access/access';
import type { ReceiptTable } from '../catalog/receipts';
import type { ResultColumn } from '../engine/messages';
import { removeUnder } from '../lake/account';
import type { PlannedTable } from '../query/prepare';
import type { QueryResult } from '../query/queries';
import type { Services } from '../services';
import { measureFiles, takeSample } from './measure';
import { withSealedRows, type SealedRows } from './sealed-rows';
import { mustBeWelcome, writeTarget, type WriteTarget } from './target';
import { costWords, unevenWords } from './write-words';
import { fileWriter, type FileWriter } from './write-format';

export interface WrittenPath {
  /** Below the folder. */
  path: string;
  rows: number;
  bytes: number;
}

/** What came of a write, beside what was foreseen of it. */
export interface WriteOutcome {
  /** `storage:folder`. */
  to: string;
  files: WrittenPath[];
  rows: number;
  bytes: number;
  /** Files that stood there before and were removed, as a step of its own. */
  cleared: { files: number; bytes: number; millis: number } | null;
  millis: { order: number; write: number; put: number };
  foreseen: { rows: number; files: number; bytes: number; millis: number } | null;
}

/** The answer of a query, with a row for each file. */
export type WriteResult = QueryResult & { done: string; wrote: WriteOutcome };

export interface WriteOptions {
  id?: string;
  sql: string;
  as: Identity;
  onProgress?: (rows: number, of: number) => void;
}

/** A write of some rows to a folder of its own, to be looked at. */
export interface TrialOptions extends WriteOptions {
  rows: number;
  /** From all over the source, else the first. */
  isSampled: boolean;
}

/** What a plan comes to for the rows at hand; kept, so that a write comes out as its forecast said. */
interface Decision {
  figures: CutFigures;
  ranges: RangeBounds | undefined;
  foreseen?: WriteOutcome['foreseen'];
}

interface Prepared {
  source: string;
  columns: ResultColumn[];
  write: FolderWrite;
  target: WriteTarget;
}

type WriteServices = Pick<Services, 'queries' | 'lake' | 'database' | 'receipts' | 'events' | 'config'>;

const TRIALS = 'trial-writes';
const KEPT_DECISIONS = 100;
/** Rows whose key tells where ranges are cut. */
const BOUND_ROWS = 200_000;

export class FileWrites {
  readonly #decisions = new Lru<Decision>(KEPT_DECISIONS);

  constructor(readonly services: WriteServices) {}

  /** `sampleRows`: counts so many rows in place of all. */
  async forecast(sql: string, as: Identity, sampleRows?: number): Promise<Forecast> {
    const prepared = await this.#prepare(sql, as);
    const { write, target } = prepared;
    return withSealedRows(this.services.queries, { id: randomUUID(), sql: prepared.source, as }, async (sealed) => {
      const started = performance.now();
      const total = await count(sealed);
      const basis = sampleRows !== undefined && sampleRows < total ? await sampled(sealed, sampleRows) : sealed;
      const counted = basis === sealed ? total : await count(basis);
      const { writer, figures, ranges, sample } = await this.#decide(basis, prepared, total, true);
      const cut = expressionsOf(write, figures, ranges);
      const groups = await groupsOf(basis, countedSql(basis.rows, cut));
      const readMillis = performance.now() - started;
      const files = cutFiles(write.files, groups, columnsOf(write.folders).length, figures);
      const paths = filePaths(write, groups, files, extensionOf(writer.kind), { at: new Date(), id: NO_ID });
      const tree = treeOf(paths, files, sample!.model, counted === 0 ? 1 : total / counted);
      const isOrdered = needsStage(write);
      const costs = costsOf(tree.rows, readMillis, sample!, isOrdered, memoryOf(this.services.config));
      const forecast: Forecast = {
        ...tree, costs, basis: basis === sealed ? { kind: 'all' } : { kind: 'sample', rows: counted },
        existing: { files: target.existing.length, bytes: target.existing.reduce((sum, file) => sum + file.bytes, 0) },
        says: [...explainPlan(write.files, write.folders.length > 0), ...costWords(costs), ...unevenWords(tree)],
      };
      this.#decisions.set(decisionKey(sql, sealed.tables), { figures, ranges, foreseen: { rows: tree.rows, files: tree.files, bytes: tree.bytes, millis: costs.reduce((sum, each) => sum + each.millis, 0) } });
      return forecast;
    });
  }

  /** What the query would read, and where its rows would go. */
  async plan(sql: string, as: Identity): Promise<{ tables: PlannedTable[]; does: string[] }> {
    const { source, write, target } = await this.#prepare(sql, as);
    mustBeWelcome(target, write.existing);
    const there = target.existing.length === 0 ? '' : write.existing === 'clear' ? `, after the ${target.existing.length} files there are removed` : `, beside ${target.existing.length} that are there`;
    return { tables: await this.services.queries.plan(source, as), does: [`Writes ${write.kind.format} files to ${target.storage.storage.name}:${target.path}${there}.`, ...explainPlan(write.files, write.folders.length > 0)] };
  }

  async run(options: WriteOptions): Promise<WriteResult> {
    const prepared = await this.#prepare(options.sql, options.as);
    mustBeWelcome(prepared.target, prepared.write.existing);
    return this.#write(options, prepared, (sealed) => sealed);
  }

  /** Through the same steps, to a folder of its own in the same storage. */
  async trial({ rows, isSampled, ...options }: TrialOptions): Promise<WriteResult> {
    const prepared = await this.#prepare(options.sql, options.as);
    const folder = joinPath(TRIALS, `${new Date().toISOString().slice(0, 16).replace(/[:T]/g, '-')}-${randomUUID().slice(0, 6)}`);
    const target = { ...prepared.target, path: folder, existing: [] };
    return this.#write(options, { ...prepared, target }, (sealed) => (isSampled ? sampled(sealed, rows) : { ...sealed, rows: `SELECT * FROM (${sealed.rows}\n) AS __first LIMIT ${rows}` }));
  }

  async #prepare(sql: string, as: Identity): Promise<Prepared> {
    const { to, options, source } = readWrite(sql);
    const query = sql.slice(source.start, source.end);
    const columns = await inUsersPlaces(source.start, () => this.services.queries.columnsOf(query, as));
    mustBeDistinct(columns, source.start);
    const write = readFolderWrite(options, columns.map(({ name }) => name));
    const target = await inUsersPlaces(to.start, () => writeTarget(this.services, to.place, write.existing, as));
    return { source: query, columns, write, target };
  }

  async #write(options: WriteOptions, prepared: Prepared, narrowed: (sealed: SealedRows) => SealedRows | Promise<SealedRows>): Promise<WriteResult> {
    const id = options.id ?? randomUUID();
    const started = performance.now();
    const { receipts, events } = this.services;
    const { storage, path: folder } = prepared.target;
    const to = `${storage.storage.name}:${folder}`;
    let tables: ReceiptTable[] = [];
    const base = { id, who: nameOfIdentity(options.as), kind: 'write' as const, sql: options.sql, planMs: null, engineMs: null };
    try {
      const wrote = await withSealedRows(this.services.queries, { id, sql: prepared.source, as: options.as }, async (sealed) => {
        tables = sealed.tables;
        const decided = this.#decisions.get(decisionKey(options.sql, tables));
        return this.#writeRows(await narrowed(sealed), prepared, to, decided, options.onProgress);
      });
      const totalMs = performance.now() - started;
      receipts.put({ ...base, tables, outcome: 'done', written: { table: to, operation: 'write files', files: wrote.files.length, bytes: wrote.bytes, rows: wrote.rows }, rowCount: wrote.rows, totalMs, problem: null });
      events.tell({ topic: 'storage', storage: storage.storage.name, folder });
      return {
        id, wrote, done: doneWords(wrote), columns: [{ name: 'file', type: 'varchar' }, { name: 'rows', type: 'bigint' }, { name: 'bytes', type: 'bigint' }],
        rows: wrote.files.map((file) => [file.path, file.rows, file.bytes]), rowCount: wrote.files.length, truncated: false, receipt: { id, tables, planMs: 0, engineMs: totalMs, totalMs },
      };
    } catch (error) {
      const cancelled = error instanceof LakeError && error.kind === 'cancelled';
      receipts.put({ ...base, tables, outcome: cancelled ? 'cancelled' : 'failed', written: { table: to }, rowCount: null, totalMs: performance.now() - started, problem: error instanceof LakeError ? error.message : 'An unexpected error.' });
      throw error;
    } finally {
      await receipts.settled();
    }
  }

  async #writeRows(sealed: SealedRows, prepared: Prepared, to: string, decided: Decision | undefined, onProgress: WriteOptions['onProgress']): Promise<WriteOutcome> {
    const { write, target } = prepared;
    const needed = decided ?? await this.#decide(sealed, prepared, undefined, false);
    const writer = this.#writer(sealed, prepared);
    const { local, millis } = await this.#cut(sealed, write, writer, needed, onProgress);
    const cleared = write.existing === 'clear' && target.existing.length > 0 ? await clear(target) : null;
    const putting = performance.now();
    for (const file of local) {
      const path = joinPath(target.path, file.path);
      if (write.existing === 'add' && await target.storage.store.head(path)) throw new LakeError('conflict', `${path} is there already; ${local.indexOf(file)} of ${local.length} files were written beside it.`, { path, hint: 'Put {id} in the pattern of names.' });
      await target.storage.store.putFile(path, file.local);
    }
    const files = local.map(({ path, rows, bytes }) => ({ path, rows, bytes }));
    return {
      to, files, cleared, rows: files.reduce((sum, file) => sum + file.rows, 0), bytes: files.reduce((sum, file) => sum + file.bytes, 0),
      millis: { ...millis, put: Math.round(performance.now() - putting) }, foreseen: decided?.foreseen ?? null,
    };
  }

  /** The files, still in scratch. */
  async #cut(sealed: SealedRows, write: FolderWrite, writer: FileWriter, { figures, ranges }: Decision, onProgress: WriteOptions['onProgress'] = () => undefined): Promise<{ local: (WrittenPath & { local: string })[]; millis: { order: number; write: number } }> {
    const when = { at: new Date(), id: randomUUID().slice(0, 6) };
    const began = performance.now();
    const cut = expressionsOf(write, figures, ranges);
    const staged = path.join(sealed.scratch, 'staged.parquet');
    let groups: (RowGroup & { from: number })[] = [{ values: [], file: null, rows: 1, from: 0 }];
    if (needsStage(write)) {
      await sealed.step(`COPY (${stagedSql(sealed.rows, cut)}) TO ${quoteText(staged)} (FORMAT parquet, COMPRESSION snappy)`);
      groups = await groupsOf(sealed, stagedGroupsSql(staged, cut));
    }
    const ordered = performance.now();
    const files = cutFiles(write.files, groups, columnsOf(write.folders).length, figures);
    const paths = filePaths(write, groups, files, extensionOf(writer.kind), when);
    const total = groups.reduce((sum, group) => sum + group.rows, 0);
    const local: (WrittenPath & { local: string })[] = [];
    for (const [index, file] of files.entries()) {
      const at = path.join(sealed.scratch, `file-${index}`);
      const rows = needsStage(write) ? fileRowsSql(staged, writer.select, groups[file.group]!.from + file.from, file.rows) : inOrder(`SELECT ${writer.select.join(', ')} FROM (${sealed.rows}\n) AS __rows`, write);
      const made = await writer.write(rows, at);
      local.push({ path: paths[index]!, local: at, ...made });
      onProgress(local.reduce((sum, each) => sum + each.rows, 0), total);
    }
    return { local, millis: { order: Math.round(ordered - began), write: Math.round(performance.now() - ordered) } };
  }

  #writer(sealed: SealedRows, { write, columns }: Prepared): FileWriter {
    return fileWriter(write.kind, columns.filter(({ name }) => !write.leaveOut.includes(name)), sealed.step, this.services.queries.engine);
  }

  /** Sizes are measured where the goal asks for them, or `measures`. */
  async #decide(sealed: SealedRows, prepared: Prepared, total: number | undefined, measures: boolean): Promise<Decision & { writer: FileWriter; sample?: SampleFigures & { model: SizeModel } }> {
    const { write: { files: plan }, write, columns } = prepared;
    const writer = this.#writer(sealed, prepared);
    const { goal } = plan;
    const rows = total ?? (goal.kind === 'size' ? await count(sealed) : 0);
    const groupsAlone: CutExpressions = { groups: groupColumns(write).map(quoteName), file: undefined, sort: plan.sort };
    const sample = measures || goal.kind === 'size' ? await measureFiles(sealed, writer, groupsAlone, await takeSample(sealed, rows)) : undefined;
    const perFile = goal.kind === 'size' ? rowsPerFile(sample!.model, goal.bytes) : 0;
    const figures: CutFigures = { rowsPerFile: perFile, files: goal.kind === 'at-most' ? goal.files : goal.kind === 'size' ? Math.max(1, Math.ceil(rows / perFile)) : 1 };
    const ranges = plan.mechanism === 'range' ? await boundsOf(sealed, plan.by[0]!, columns, figures.files) : undefined;
    return { writer, figures, ranges, ...(sample ? { sample } : {}) };
  }
}

/** Stands in the names of a forecast where a write has an id of its own. */
const NO_ID = 'xxxxxx';

function needsStage({ files, folders }: FolderWrite): boolean {
  return files.goal.kind !== 'one' || folders.length > 0;
}

function inOrder(sql: string, { files: { sort } }: FolderWrite): string {
  return sort.length === 0 ? sql : `${sql} ORDER BY ${sortSql(sort).join(', ')}`;
}

function expressionsOf(write: FolderWrite, figures: CutFigures, ranges: RangeBounds | undefined): CutExpressions {
  return { groups: groupColumns(write).map(quoteName), file: fileNumberSql(write.files, figures.files, ranges), sort: write.files.sort };
}

async function count({ step, rows }: SealedRows): Promise<number> {
  return Number((await step(`SELECT count(*) FROM (${rows}\n) AS __rows`)).rows[0]![0]);
}

/** So many rows from all over, kept, so that every look at them finds the same. */
async function sampled(sealed: SealedRows, rows: number): Promise<SealedRows> {
  await sealed.step(`CREATE OR REPLACE TEMP TABLE __basis AS SELECT * FROM (${sealed.rows}\n) AS __rows USING SAMPLE reservoir(${rows} ROWS) REPEATABLE (42)`);
  return { ...sealed, rows: 'SELECT * FROM __basis' };
}

async function groupsOf({ step }: SealedRows, sql: string): Promise<(RowGroup & { from: number })[]> {
  const { rows } = await step(sql);
  return rows.map(([values, file, found, from]) => ({ values: values as (string | null)[], file: file === null ? null : Number(file), rows: Number(found), from: Number(from ?? 0) }));
}

/** Values that divide the rows into so many ranges of about as many rows. */
async function boundsOf({ step, rows }: SealedRows, column: string, columns: readonly ResultColumn[], files: number): Promise<RangeBounds> {
  const { type } = columns.find(({ name }) => name === column)!;
  if (files < 2) return { bounds: [], type };
  const shares = Array.from({ length: files - 1 }, (_, index) => (index + 1) / files);
  const value = quoteName(column);
  const found = await step(`SELECT quantile_disc(${value}, [${shares.join(', ')}])::VARCHAR[] FROM (SELECT ${value} FROM (${rows}\n) AS __rows WHERE ${value} IS NOT NULL USING SAMPLE reservoir(${BOUND_ROWS} ROWS) REPEATABLE (42))`);
  return { type, bounds: [...new Set((found.rows[0]![0] as string[] | null) ?? [])] };
}

async function clear({ storage, path, existing }: WriteTarget): Promise<NonNullable<WriteOutcome['cleared']>> {
  const started = performance.now();
  await removeUnder(storage, [path], existing);
  return { files: existing.length, bytes: existing.reduce((sum, file) => sum + file.bytes, 0), millis: Math.round(performance.now() - started) };
}

function doneWords({ to, files, rows, cleared }: WriteOutcome): string {
  const wrote = files.length === 0 ? `The query gives no rows, so no file was written to ${to}.` : `${rows} rows were written to ${files.length} ${files.length === 1 ? 'file' : 'files'} in ${to}.`;
  return cleared ? `${cleared.files} files were removed first. ${wrote}` : wrote;
}

/** The same text over the same files. */
function decisionKey(sql: string, tables: readonly ReceiptTable[]): string {
  return createHash('sha256').update(JSON.stringify([sql, tables.map(({ name, version, files, bytes }) => [name, version, files, bytes])])).digest('hex');
}

function memoryOf({ engineMemory }: Services['config']): number {
  const [, size, unit] = /^([\d.]+)(MB|GB)$/.exec(engineMemory) ?? ['', '1', 'GB'];
  return Number(size) * (unit === 'GB' ? 1e9 : 1e6);
}

function mustBeDistinct(columns: readonly ResultColumn[], position: number): void {
  const seen = new Set<string>();
  for (const { name } of columns) {
    if (seen.has(name.toLowerCase())) throw new LakeError('bad-request', `The query has two columns "${name}", told apart by case at most. Name one of them otherwise with AS.`, { position });
    seen.add(name.toLowerCase());
  }
}

/** Positions in a part of the statement are made those of the whole. */
async function inUsersPlaces<T>(start: number, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (!(error instanceof LakeError)) throw error;
    throw new LakeError(error.kind, error.message, { ...error.details, position: (error.details.position ?? 0) + start }, { cause: error });
  }
}
