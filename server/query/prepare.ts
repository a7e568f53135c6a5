/** From a resolved query to SQL over stand-in names, and a scan plan for each table it reads. */
import { LakeError } from '../../core/errors';
import { filesToRead, type ScanPlan } from '../../core/scan/plan';
import { TRUE, type Predicate } from '../../core/scan/predicate';
import { typeName } from '../../core/schema/type-names';
import type { Field } from '../../core/schema/types';
import { readPushdown } from '../../core/sql/pushdown';
import { spliceReferences, type Spliced } from '../../core/sql/splice';
import type { EngineCalls } from '../engine/engine';
import { EngineError } from '../engine/failures';
import { translateError } from '../engine/translate';
import { isTable, type ResolvedQuery, type ResolvedTable } from './resolve';

export interface PlannedTable {
  source: ResolvedTable;
  /** Name of the relation that stands in the reference's place. */
  standIn: string;
  predicate: Predicate;
  plan: ScanPlan;
}

export interface PreparedQuery {
  spliced: Spliced;
  tables: PlannedTable[];
}

const MAX_TABLES = 64;

/** Fails with the engine's own complaint, at its place in the user's text, when names or types do not fit. */
export async function prepareQuery(query: ResolvedQuery, engine: EngineCalls, roots: ReadonlyMap<string, string>): Promise<PreparedQuery> {
  const standIns = new Map<string, ResolvedTable>();
  const forPlanning = inline(query, standIns, '()');
  if (standIns.size > MAX_TABLES) throw new LakeError('limit', `A query may name at most ${MAX_TABLES} tables; this one names ${standIns.size}.`);
  const spliced = inline(query, new Map(), '');
  const fields = new Map<string, readonly Field[]>([...standIns].map(([name, source]) => [name, source.snapshot.schema.fields]));
  const predicates = standIns.size === 0 ? new Map<string, Predicate>() : await pushdown(forPlanning, standIns, fields, engine, roots);
  const tables = await Promise.all([...standIns].map(async ([standIn, source]) => {
    const predicate = predicates.get(standIn) ?? TRUE;
    return { source, standIn, predicate, plan: await source.snapshot.plan(predicate) };
  }));
  return { spliced, tables };
}

async function pushdown(spliced: Spliced, standIns: ReadonlyMap<string, ResolvedTable>, fields: ReadonlyMap<string, readonly Field[]>, engine: EngineCalls, roots: ReadonlyMap<string, string>): Promise<Map<string, Predicate>> {
  const tables = await Promise.all([...standIns].map(async ([name, source]) => ({
    name,
    columns: source.snapshot.schema.fields.map((field) => ({ name: field.name, type: typeName(field.type) })),
    rows: (await source.snapshot.files()).reduce((sum, file) => sum + (file.rows ?? Math.round(file.bytes / 40)), 0),
  })));
  const names = new Map([...standIns].map(([name, source]) => [name, source.name]));
  const plan = (await engine.call('plan', { sql: spliced.sql, tables }).catch((error: unknown) => {
    throw translateError(error, { roots, names, originalPosition: spliced.originalPosition });
  })) as { error?: boolean; error_type?: string; error_message?: string; position?: string };
  if (plan.error) {
    const failure = new EngineError(plan.error_type ?? 'unknown', plan.error_message ?? 'The query cannot be planned.', plan.position === undefined ? undefined : Number(plan.position));
    throw translateError(failure, { roots, names, originalPosition: spliced.originalPosition });
  }
  return readPushdown(plan, fields);
}

/** The query's text with every table replaced by a stand-in and every view by its own text. */
function inline(query: ResolvedQuery, standIns: Map<string, ResolvedTable>, call: '' | '()'): Spliced {
  const replacements = query.sources.map((source) => {
    if (!isTable(source)) return `(${inline(source, standIns, call).sql})`;
    const name = `__r${standIns.size}`;
    standIns.set(name, source);
    return `"${name}"${call}`;
  });
  return spliceReferences(query.statement, replacements);
}

export function filesRead(tables: readonly PlannedTable[]): number {
  return tables.reduce((sum, { plan }) => sum + filesToRead(plan).length, 0);
}
