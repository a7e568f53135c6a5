/** The rows that a statement leaves behind, as SQL: rows of rewritten files, changed or not, and rows that come in; held against the table's rules. */
import type { Field } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteName, quoteText } from '../../core/sql/tokens';
import { POSITION } from '../engine/parquet-scan';
import { ACTS, INSERTED, SOURCE, type RowPlan } from './row-plan';

/** Rules of a table, as SQL that runs. */
export interface RunnableRules {
  /** Dotted names of columns. */
  required: string[];
  conditions: { name: string; sql: string }[];
  generated: { column: string; sql: string }[];
  defaults: ReadonlyMap<string, string>;
}

export interface NewRows {
  plan: RowPlan;
  fields: readonly Field[];
  rules: RunnableRules;
  /** The rows of the files that are rewritten, or of which rows are taken away, with positions. */
  touched?: string;
  /** `all` rows of the touched files, or `acted`: the changed ones alone. */
  which: 'all' | 'acted';
  /** Name by which conditions call the rows. */
  alias: string;
  /** Tracked tables: columns that keep a row's id and version, and each file's first id and version by its number. */
  tracking?: { id: string; version: string; files: ReadonlyMap<number, RowOrigin> };
}

/** The id of a file's first row, and the version that its rows came with; rows of some files have no ids. */
export interface RowOrigin {
  baseRowId?: number;
  version: number;
}

/** Columns: the table's, `__act`, and those of row tracking. */
export function newRowsSql(rows: NewRows): string {
  const parts = [...(rows.touched ? [changedSql(rows, rows.touched)] : []), ...(rows.plan.inserts ? [insertedSql(rows, rows.plan.inserts)] : [])];
  return checked(rows, generated(rows, parts.join(' UNION ALL BY NAME ')));
}

function changedSql({ plan, fields, which, tracking, alias }: NewRows, relation: string): string {
  const of = (column: string) => `${quoteName(alias)}.${quoteName(column)}`;
  const columns = fields.map((field) => {
    const cases = [...plan.updates].flatMap(([act, values]) => (values.has(field.name) ? [`WHEN ${act} THEN ${values.get(field.name)!}::${typeName(field.type)}`] : []));
    return `${cases.length > 0 ? `CASE __a.__act ${cases.join(' ')} ELSE ${of(field.name)} END` : of(field.name)} AS ${quoteName(field.name)}`;
  });
  if (tracking) {
    const number = `${of(POSITION.file)}::INTEGER`;
    columns.push(
      `coalesce(${of(tracking.id)}, ${perFile(tracking.files, number, (file) => file.baseRowId)} + ${of(POSITION.row)}) AS ${quoteName(tracking.id)}`,
      // A changed row gets the version of this commit, which is what null stands for.
      `CASE WHEN __a.__act IS NULL THEN coalesce(${of(tracking.version)}, ${perFile(tracking.files, number, (file) => file.version)}) END AS ${quoteName(tracking.version)}`,
    );
  }
  const join = which === 'all' ? 'LEFT JOIN' : 'JOIN';
  const source = plan.sourceAlias ? ` LEFT JOIN ${SOURCE} AS ${quoteName(plan.sourceAlias)} ON ${quoteName(plan.sourceAlias)}.__source_row = __a.__source_row` : '';
  const gone = plan.deletes.size > 0 ? ` WHERE __a.__act IS NULL OR __a.__act NOT IN (${[...plan.deletes].join(', ')})` : '';
  return `SELECT ${columns.join(', ')}, __a.__act AS __act FROM ${relation} AS ${quoteName(alias)} ${join} ${ACTS} AS __a ON __a.${POSITION.file} = ${of(POSITION.file)} AND __a.${POSITION.row} = ${of(POSITION.row)}${source}${gone}`;
}

/** A number of each file, by the number of the file, as SQL. */
export function perFile(files: ReadonlyMap<number, RowOrigin>, number: string, pick: (file: RowOrigin) => number | undefined): string {
  return `(CASE ${number} ${[...files].map(([each, file]) => `WHEN ${each} THEN ${pick(file) ?? 'NULL'}`).join(' ')} END)::BIGINT`;
}

function insertedSql({ fields, rules, tracking }: NewRows, { sql, given }: NonNullable<RowPlan['inserts']>): string {
  const columns = fields.map((field) => (given.includes(field.name) ? quoteName(field.name) : `${rules.defaults.get(field.name) ?? 'NULL'}::${typeName(field.type)} AS ${quoteName(field.name)}`));
  if (tracking) columns.push(`NULL::BIGINT AS ${quoteName(tracking.id)}`, `NULL::BIGINT AS ${quoteName(tracking.version)}`);
  return `SELECT ${columns.join(', ')}, ${INSERTED} AS __act FROM (${sql}) AS __given`;
}

/** Generated columns of new and changed rows follow from the others, unless they are given. */
function generated({ plan, rules, fields }: NewRows, rows: string): string {
  if (rules.generated.length === 0) return rows;
  const replaced = rules.generated.map(({ column, sql }) => {
    const giving = [...(plan.inserts?.given.includes(column) ? [INSERTED] : []), ...[...plan.updates].flatMap(([act, values]) => (values.has(column) ? [act] : []))];
    const type = typeName(fields.find((field) => field.name === column)!.type);
    return `CASE WHEN __act IS NULL${giving.length > 0 ? ` OR __act IN (${giving.join(', ')})` : ''} THEN ${quoteName(column)} ELSE (${sql}\n)::${type} END AS ${quoteName(column)}`;
  });
  return `SELECT * REPLACE (${replaced.join(', ')}) FROM (${rows}) AS __rows`;
}

/** The message that a broken rule fails with begins so. */
export const BROKEN_RULE = 'A new row breaks a rule of the table:';

function checked({ rules, alias }: NewRows, rows: string): string {
  const conditions = [
    ...rules.required.map((name) => ({ says: `${name} is required and has no value`, sql: requiredSql(name) })),
    ...rules.conditions.map(({ name, sql }) => ({ says: `${name} (${sql})`, sql: `(${sql}\n)` })),
    ...rules.generated.map(({ column, sql }) => ({ says: `${column} must be ${sql}`, sql: `${quoteName(column)} IS NOT DISTINCT FROM (${sql}\n)` })),
  ];
  if (conditions.length === 0) return rows;
  // "CHECK constraints must be true": unknown is not enough. Rows that only move are let be.
  const checks = conditions.map(({ says, sql }) => `CASE WHEN __act IS NULL OR (${sql}) IS TRUE THEN true ELSE error(${quoteText(`${BROKEN_RULE} ${says}. The row: `)} || left(to_json(${quoteName(alias)})::VARCHAR, 300)) END`);
  return `SELECT * FROM (${rows}) AS ${quoteName(alias)} WHERE ${checks.join(' AND ')}`;
}

/** A required field of a struct may lack only where the struct itself does. */
function requiredSql(name: string): string {
  const steps = name.split('.');
  const path = (count: number) => steps.slice(1, count).reduce((sql, step) => `struct_extract(${sql}, ${quoteText(step)})`, quoteName(steps[0]!));
  const own = `${path(steps.length)} IS NOT NULL`;
  return steps.length === 1 ? own : `${path(steps.length - 1)} IS NULL OR ${own}`;
}

/** The rows as they were, with what happened to them, for the change data feed. */
export function oldRowsSql({ plan, fields, alias }: NewRows, relation: string): string {
  const columns = fields.map((field) => `${quoteName(alias)}.${quoteName(field.name)}`);
  const kind = plan.deletes.size > 0 ? `CASE WHEN __a.__act IN (${[...plan.deletes].join(', ')}) THEN 'delete' ELSE 'update_preimage' END` : `'update_preimage'`;
  return `SELECT ${columns.join(', ')}, ${kind} AS _change_type FROM ${relation} AS ${quoteName(alias)} JOIN ${ACTS} AS __a ON __a.${POSITION.file} = ${quoteName(alias)}.${POSITION.file} AND __a.${POSITION.row} = ${quoteName(alias)}.${POSITION.row}`;
}
