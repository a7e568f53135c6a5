/**
 * From a statement to SQL for its new rows. Every statement becomes the same three things: which rows of the target are
 * acted on (`ACTS`, by position), what becomes of them, and which rows come in.
 */
import { LakeError } from '../../core/errors';
import type { ChangeStatement, MergeAction, MergeClause, Range } from '../../core/sql/change';
import { quoteName } from '../../core/sql/tokens';
import { findField, type Field } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { POSITION } from '../engine/parquet-scan';
import type { ComposedChange } from './composed-change';

/** Tables that live in the statement's own instance. */
export const ACTS = '__acts';
export const SOURCE = '__source';
/** Number of an act for rows that come in. */
export const INSERTED = -1;

export interface RowPlan {
  /** Statements that make `ACTS` (and `SOURCE`); none when no row of the target is acted on. */
  prepare: string[];
  /** Each column's new value, by act, over the target's rows (and `SOURCE`'s). */
  updates: ReadonlyMap<number, ReadonlyMap<string, string>>;
  /** Acts that take rows away. */
  deletes: ReadonlySet<number>;
  /** What comes in, its columns named as the table's, those not given left out. */
  inserts?: { sql: string; given: string[] };
  /** New rows of an update take values from `SOURCE`, which is called so. */
  sourceAlias?: string;
  /** Fails when two rows of the source meet one row of the target. */
  checkDoubles: boolean;
}

export interface PlanInput {
  statement: ChangeStatement;
  composed: ComposedChange;
  fields: readonly Field[];
  /** The target's rows as SQL, with positions. */
  target: string;
  /** A part of the composed query as SQL that runs. */
  sqlOf: (range: Range) => string;
  /** Names of the columns that the source gives. */
  sourceColumns: readonly string[];
  table: string;
}

export function rowPlan(input: PlanInput): RowPlan {
  const { statement, composed, sqlOf } = input;
  const nothing = { prepare: [], updates: new Map(), deletes: new Set<number>(), checkDoubles: false };
  switch (statement.kind) {
    case 'insert':
      return { ...nothing, inserts: incoming(input, statement.byName ? undefined : (statement.columns ?? input.fields.map((field) => field.name)), `(${sqlOf(composed.source!)}\n)`) };
    case 'replace':
      return {
        ...nothing,
        inserts: incoming(input, undefined, `(${sqlOf(composed.source!)}\n)`),
        ...(composed.where ? { prepare: [actsWhere(input)], deletes: new Set([1]) } : {}),
      };
    case 'update':
      return { ...nothing, prepare: [actsWhere(input)], updates: new Map([[1, assigned(input, composed.set)]]) };
    case 'delete':
      return { ...nothing, prepare: [actsWhere(input)], deletes: new Set([1]) };
    case 'merge':
      return mergePlan(input, statement.sourceName);
  }
}

function actsWhere({ composed, target, sqlOf }: PlanInput): string {
  const where = composed.where ? ` WHERE (${sqlOf(composed.where)}\n)` : '';
  return `CREATE TEMP TABLE ${ACTS} AS SELECT ${POSITION.file}, ${POSITION.row}, NULL::BIGINT AS __source_row, 1 AS __act FROM ${target} AS ${quoteName(composed.alias)}${where}`;
}

function assigned({ fields, table, sqlOf }: PlanInput, set: readonly { column: string; value: Range }[]): Map<string, string> {
  const values = new Map<string, string>();
  for (const { column, value } of set) {
    const field = fieldOf(fields, column, table);
    if (values.has(field.name)) throw new LakeError('bad-request', `${field.name} is set twice.`);
    values.set(field.name, `(${sqlOf(value)}\n)`);
  }
  return values;
}

/** `names`: the table's columns in the order in which the source gives them; by the source's own names where absent. */
function incoming({ fields, sourceColumns, table }: PlanInput, names: readonly string[] | undefined, source: string): { sql: string; given: string[] } {
  if (names && names.length !== sourceColumns.length) {
    throw new LakeError('bad-request', `${table} is to get ${names.length} columns (${names.join(', ')}), but ${sourceColumns.length} come in${sourceColumns.length > 0 ? ` (${sourceColumns.join(', ')})` : ''}. Nothing was changed.`, { table, hint: 'Name the columns: INSERT INTO … (a, b), or take them by their names: INSERT INTO … BY NAME.' });
  }
  const given = sourceColumns.map((name, index) => fieldOf(fields, names?.[index] ?? name, table).name);
  const twice = given.find((name, index) => given.indexOf(name) !== index);
  if (twice) throw new LakeError('bad-request', `${twice} comes in twice.`, { table });
  const columns = given.map((name, index) => `${quoteName(`c${index}`)}::${typeName(findField(fields, name)!.type)} AS ${quoteName(name)}`);
  return { given, sql: `SELECT ${columns.join(', ')} FROM ${source} AS __in(${given.map((_, index) => quoteName(`c${index}`)).join(', ')})` };
}

function mergePlan(input: PlanInput, sourceAlias: string): RowPlan {
  const { composed, target, sqlOf, fields, table } = input;
  const [to, from] = [quoteName(composed.alias), quoteName(sourceAlias)];
  const position = `${to}.${POSITION.file}, ${to}.${POSITION.row}`;
  const acts = new Map(composed.clauses.map((clause, index) => [clause, index + 1]));
  const of = (when: MergeClause['when']) => composed.clauses.filter((clause) => clause.when === when);
  const choice = (clauses: readonly MergeClause[]) => {
    const cases = clauses.map((clause) => `WHEN ${clause.condition ? `(${sqlOf(clause.condition)}\n)` : 'true'} THEN ${acts.get(clause)!}`);
    return cases.length > 0 ? `CASE ${cases.join(' ')} ELSE 0 END` : '0';
  };
  const bySource = of('not-matched-by-source');
  const inserts = of('not-matched');
  const prepare = [
    `CREATE TEMP TABLE ${SOURCE} AS SELECT row_number() OVER () AS __source_row, * FROM ${sqlOf(composed.source!)}`,
    `CREATE TEMP TABLE __pairs AS SELECT ${position}, ${from}.__source_row, ${choice(of('matched'))} AS __act FROM ${target} AS ${to} JOIN ${SOURCE} AS ${from} ON (${sqlOf(composed.on!)}\n)`,
    `CREATE TEMP TABLE ${ACTS} AS SELECT * FROM __pairs WHERE __act > 0${bySource.length === 0 ? '' : ` UNION ALL SELECT * FROM (SELECT ${position}, NULL::BIGINT AS __source_row, ${choice(bySource)} AS __act FROM ${target} AS ${to} ANTI JOIN __pairs AS p ON p.${POSITION.file} = ${to}.${POSITION.file} AND p.${POSITION.row} = ${to}.${POSITION.row}) WHERE __act > 0`}`,
  ];
  const updates = new Map<number, Map<string, string>>();
  const deletes = new Set<number>();
  for (const [clause, act] of acts) {
    if (clause.action.kind === 'delete') deletes.add(act);
    if (clause.action.kind === 'update') updates.set(act, clause.action.set === 'all' ? allFromSource(input, from) : assigned(input, clause.action.set));
  }
  const matched = of('matched');
  const isPlainDelete = matched.length === 1 && !matched[0]!.condition && matched[0]!.action.kind === 'delete';
  if (isPlainDelete) prepare.push(`CREATE OR REPLACE TEMP TABLE ${ACTS} AS SELECT DISTINCT ON (${POSITION.file}, ${POSITION.row}) * FROM ${ACTS}`);
  return {
    prepare, updates, deletes, sourceAlias, checkDoubles: !isPlainDelete,
    ...(inserts.length > 0 ? { inserts: mergeInserts(input, inserts, choice(inserts), acts, from, fields, table) } : {}),
  };
}

/** SET *: every column of the table from the source's column of that name. */
function allFromSource({ fields, sourceColumns, table }: PlanInput, from: string): Map<string, string> {
  return new Map(fields.map((field) => {
    const column = sourceColumns.find((name) => name.toLowerCase() === field.name.toLowerCase());
    if (column === undefined) throw new LakeError('bad-request', `* takes every column of ${table} from the source, which has no ${field.name}. Nothing was changed.`, { table, hint: 'Name the columns that are to be set.' });
    return [field.name, `${from}.${quoteName(column)}`];
  }));
}

function mergeInserts(input: PlanInput, clauses: readonly MergeClause[], choice: string, acts: ReadonlyMap<MergeClause, number>, from: string, fields: readonly Field[], table: string): { sql: string; given: string[] } {
  const values = clauses.map((clause) => {
    const { columns, values } = clause.action as Extract<MergeAction, { kind: 'insert' }>;
    if (columns === 'all') return { act: acts.get(clause)!, values: allFromSource(input, from) };
    return { act: acts.get(clause)!, values: new Map(columns.map((column, index) => [fieldOf(fields, column, table).name, `(${input.sqlOf(values[index]!)}\n)`])) };
  });
  const given = fields.map((field) => field.name).filter((name) => values.some((each) => each.values.has(name)));
  const columns = given.map((name) => {
    const cases = values.map(({ act, values: of }) => `WHEN ${act} THEN ${of.get(name) ?? 'NULL'}`);
    return `(CASE (${choice}) ${cases.join(' ')} END)::${typeName(findField(fields, name)!.type)} AS ${quoteName(name)}`;
  });
  return { given, sql: `SELECT ${columns.join(', ')} FROM ${SOURCE} AS ${from} WHERE ${from}.__source_row NOT IN (SELECT __source_row FROM __pairs) AND (${choice}) > 0` };
}

function fieldOf(fields: readonly Field[], name: string, table: string): Field {
  const field = findField(fields, name);
  if (!field) throw new LakeError('bad-request', `${table} has no column "${name}". Nothing was changed.`, { table, hint: `Its columns are ${fields.map((each) => each.name).join(', ')}.` });
  return field;
}
