/** From a resolved query to SQL over stand-in names, and a scan plan for each table it reads. */
import type { ScanPlan, Totals } from '../../core/scan/plan';
import { TRUE, type Predicate } from '../../core/scan/predicate';
import { typeName } from '../../core/schema/type-names';
import type { Field } from '../../core/schema/types';
import { readColumns, readPushdown } from '../../core/sql/pushdown';
import { spliceRange, spliceReferences, type Spliced } from '../../core/sql/splice';
import type { ReceiptTable } from '../catalog/receipts';
import { EngineError } from '../engine/failures';
import { POSITION } from '../engine/parquet-scan';
import { readOf } from '../sources/fetch';
import { translateError } from '../engine/translate';
import type { Statements } from './statements';
import { isTable, type ResolvedQuery, type ResolvedTable } from './resolve';

export interface PlannedTable {
  source: ResolvedTable;
  /** Name of the relation that stands in the reference's place. */
  standIn: string;
  predicate: Predicate;
  plan: ScanPlan;
  /** Names of the columns that the query uses of it. */
  columns: ReadonlySet<string>;
  /** Its rows tell where they lie (`POSITION`), since it is what a statement changes. */
  withPositions: boolean;
  /** Why every file of the version is read: no plan of the query could be had. */
  unplanned?: string;
}

export interface PreparedQuery {
  tables: PlannedTable[];
  /** The query with each table's place taken by SQL; `relations` by stand-in. */
  compile(relations: ReadonlyMap<string, string>): Spliced;
  /** Part of the query's text, in the same way. */
  compileRange(relations: ReadonlyMap<string, string>, range: { start: number; end: number }): string;
}

const MAX_TABLES = 64;

/** A table that stands in a reference's place while a query is planned. */
interface StandIn {
  source: ResolvedTable;
  withPositions: boolean;
}

/**
 * Fails with the engine's own complaint, at its place in the user's text, when names or types do not fit. `target`: where
 * the name of the table stands whose rows are to tell their positions.
 */
export async function prepareQuery(query: ResolvedQuery, statements: Statements, roots: ReadonlyMap<string, string>, target?: { start: number }): Promise<PreparedQuery> {
  const standIns = new Map<string, StandIn>();
  const forPlanning = inline(query, (source, isTarget) => {
    const name = `__r${standIns.size}`;
    standIns.set(name, { source, withPositions: isTarget });
    return `"${name}"()`;
  }, target);
  const fields = new Map<string, readonly Field[]>([...standIns].map(([name, { source }]) => [name, source.snapshot.schema.fields]));
  const pushed = standIns.size === 0 ? undefined : await pushdown(forPlanning, standIns, fields, statements, roots);
  const tables = await Promise.all([...standIns].map(async ([standIn, { source, withPositions }]) => {
    const predicate = pushed?.predicates.get(standIn) ?? TRUE;
    const columns = pushed?.columns.get(standIn) ?? new Set<string>();
    return { source, standIn, predicate, withPositions, columns, plan: await source.snapshot.plan(predicate), ...(pushed?.unplanned === undefined ? {} : { unplanned: pushed.unplanned }) };
  }));
  return {
    tables,
    compile: (relations) => inline(query, inOrder(relations)),
    compileRange: (relations, range) => spliceRange(query.statement, replacementsOf(query, inOrder(relations)), range),
  };
}

interface Pushed {
  predicates: ReadonlyMap<string, Predicate>;
  columns: ReadonlyMap<string, ReadonlySet<string>>;
  unplanned?: string;
}

/** What the engine complains of when it is the user's text that is wrong. */
const USERS_ERRORS = new Set(['parser', 'syntax', 'binder', 'catalog']);

/**
 * Which files can be left out follows from the engine's optimized plan. Where there is none the text is still held against
 * the tables' columns, and then every file and column is read: slower, and never refused for it.
 */
async function pushdown(spliced: Spliced, standIns: ReadonlyMap<string, StandIn>, fields: ReadonlyMap<string, readonly Field[]>, statements: Statements, roots: ReadonlyMap<string, string>): Promise<Pushed> {
  const names = new Map([...standIns].map(([name, { source }]) => [name, source.name]));
  if (standIns.size > MAX_TABLES) return readsAll(fields, `it names more than ${MAX_TABLES} tables`);
  const tables = await Promise.all([...standIns].map(async ([name, { source, withPositions }]) => ({
    name,
    columns: [...source.snapshot.schema.fields.map((field) => ({ name: field.name, type: typeName(field.type) })), ...(withPositions ? POSITION_COLUMNS : [])],
    rows: rowsAbout(await source.snapshot.totals()),
  })));
  const plan = await planOr(() => statements.plan(spliced.sql, tables));
  if (!(plan instanceof EngineError)) {
    try {
      return { predicates: readPushdown(plan, fields), columns: readColumns(plan, fields) };
    } catch (error) {
      return readsAll(fields, `its plan could not be read (${(error as Error).message})`);
    }
  }
  if (plan.kind === 'cancelled') throw translateError(plan, { roots, names });
  const bound = await planOr(() => statements.bind(spliced.sql, tables));
  if (bound instanceof EngineError && USERS_ERRORS.has(bound.kind.toLowerCase())) throw translateError(bound, { roots, names, originalPosition: spliced.originalPosition });
  return readsAll(fields, `the engine could not plan it (${plan.message.split('\n')[0]!.slice(0, 200)})`);
}

/** A plan, or the engine's complaint. */
async function planOr(ask: () => Promise<unknown>): Promise<unknown> {
  try {
    const plan = (await ask()) as { error?: boolean; error_type?: string; error_message?: string; position?: string };
    return plan.error ? new EngineError(plan.error_type ?? 'unknown', plan.error_message ?? 'The query cannot be planned.', plan.position === undefined ? undefined : Number(plan.position)) : plan;
  } catch (error) {
    if (error instanceof EngineError) return error;
    throw error;
  }
}

function readsAll(fields: ReadonlyMap<string, readonly Field[]>, why: string): Pushed {
  return { predicates: new Map(), columns: new Map([...fields].map(([name, each]) => [name, new Set(each.map((one) => one.name))])), unplanned: `All files are read, since ${why}.` };
}

function rowsAbout({ rows, bytes }: Totals): number {
  return rows ?? Math.round(bytes / 40);
}

const POSITION_COLUMNS = [{ name: POSITION.file, type: 'ubigint' }, { name: POSITION.row, type: 'bigint' }];

type Put = (source: ResolvedTable, isTarget: boolean) => string;

/** Stand-ins are numbered in the order in which the text names tables. */
function inOrder(relations: ReadonlyMap<string, string>): Put {
  let next = 0;
  return () => relations.get(`__r${next++}`)!;
}

/** The query's text with every table replaced by what `put` gives for it, and every view by its own text. */
function inline(query: ResolvedQuery, put: Put, target?: { start: number }): Spliced {
  return spliceReferences(query.statement, replacementsOf(query, put, target));
}

function replacementsOf(query: ResolvedQuery, put: Put, target?: { start: number }): string[] {
  return query.sources.map((source, index) => (isTable(source) ? put(source, query.statement.references[index]!.start === target?.start) : `(${inline(source, put).sql})`));
}

/** What a receipt says of a table that is read. */
export function receiptTable({ source, plan, columns, unplanned }: PlannedTable): ReceiptTable {
  const { snapshot } = source;
  return {
    name: source.name,
    format: snapshot.format,
    version: snapshot.version,
    ...(snapshot.snapshotId ? { snapshotId: snapshot.snapshotId } : {}),
    committedAt: snapshot.at,
    past: source.past,
    files: plan.files,
    bytes: plan.bytes,
    ...(unplanned === undefined ? {} : { unplanned }),
    ...(plan.reader.kind === 'source' ? { asked: plan.reader.driver.statementOf(readOf(plan, columns)) } : {}),
  };
}
