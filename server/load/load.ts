/**
 * Loads rows into a table: what comes in is held against the table's columns before anything is written, a load that was
 * done is not done twice, and rows at the source, written and in the table are counted against each other.
 */
import { createHash, randomUUID } from 'node:crypto';
import { latestState } from '../../core/delta/operations';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { versionOf } from '../../core/iceberg/metadata';
import { icebergType } from '../../core/iceberg/schema';
import { snapshotOfLoad } from '../../core/iceberg/snapshot-commit';
import { IcebergTable } from '../../core/iceberg/table';
import { filesToRead } from '../../core/scan/plan';
import { fitOf, type Fit } from '../../core/schema/fit';
import { parseTypeName, typeName } from '../../core/schema/type-names';
import { field, findField, twiceNamed, type Field } from '../../core/schema/types';
import { nameSql } from '../../core/sql/table-sql';
import { quoteName } from '../../core/sql/tokens';
import { LATEST, type Snapshot } from '../../core/table/contract';
import { demand, type Identity } from '../access/access';
import { nameOf, type Relation } from '../catalog/relations';
import { loadApplication } from '../change/delta-change';
import { alterTable } from '../define/alter';
import type { DefineServices } from '../define/definitions';
import { keyOf } from '../define/table-key';
import type { ResultColumn } from '../engine/messages';
import type { PlannedTable } from '../query/prepare';

export interface LoadRequest {
  /** Files as `storage:path`, a table or view by its name, or a query. */
  from: { files: string } | { table: string } | { query: string };
  mode: 'append' | 'overwrite' | 'partitions' | 'merge';
  /** Of `merge`: columns that tell rows apart; the table's own key where absent. */
  key?: string[];
  /** Of `merge`: of several rows of one key the one with the highest value counts. */
  latestBy?: string;
  /** Columns of the source by the table's columns that they fill; the others go by name. */
  map?: Record<string, string>;
  /** Columns that the table has not are added to it, before the rows. */
  takeNewColumns?: boolean;
  /** Values of another type are cast; rows of which one has no place are left out. */
  cast?: boolean;
  /** Loads what was loaded before once more. */
  again?: boolean;
  /** How the rows go into files, by the names of the options of a write; not of `merge`. */
  files?: Record<string, string>;
}

export interface LoadColumn {
  name: string;
  type: string;
  required: boolean;
  /** Column of the source; null where it has none, so that it is null. */
  from: string | null;
  fromType: string | null;
  /** `narrow`: a type that was guessed from text, of which every value has a place. */
  fit: Fit | 'absent' | 'narrow';
  /** Rows of which the value has no place in the column. */
  misfits: number;
}

export interface LoadPlan {
  columns: LoadColumn[];
  /** Columns of the source that the table has not. */
  extra: { name: string; type: string }[];
  rows: number;
  /** Rows that do not fit, some of them, as the source has them. */
  misfits: { columns: ResultColumn[]; rows: unknown[][] };
  misfitRows: number;
  /** Rows of the source whose key another row of it has too. */
  doubles: number;
  /** Why nothing would be written; empty when the load can run. */
  problems: string[];
  loadId: string;
  /** The version in which the same came before. */
  loadedIn: number | null;
  /** What would be run. */
  sql: string;
}

export interface LoadOutcome {
  /** Null where nothing was new. */
  version: number | null;
  receiptId: string | null;
  rowsAtSource: number;
  rowsLeftOut: number;
  rowsInserted: number;
  rowsUpdated: number;
  rowsDeleted: number;
  rowsBefore: number | null;
  rowsAfter: number | null;
  /** Rows that are in the table beyond those that should be; 0 when all is well, null where it cannot be told. */
  difference: number | null;
  columnsAdded: string[];
  /** The version in which the same came before, so that nothing was loaded. */
  loadedIn: number | null;
}

const SHOWN_MISFITS = 20;

type LoadTable = DeltaTable | IcebergTable;

interface Prepared {
  plan: LoadPlan;
  table: LoadTable;
  snapshot: Snapshot;
  newFields: Field[];
}

export class Loads {
  constructor(readonly services: DefineServices) {}

  async plan(relation: Relation, request: LoadRequest, as: Identity): Promise<LoadPlan> {
    return (await this.#prepare(relation, request, as)).plan;
  }

  async run(relation: Relation, request: LoadRequest, as: Identity, id: string = randomUUID()): Promise<LoadOutcome> {
    const { plan, table, snapshot, newFields } = await this.#prepare(relation, request, as);
    const name = nameOf(relation);
    const before = (await snapshot.totals()).rows ?? null;
    const nothing = { receiptId: null, rowsAtSource: plan.rows, rowsLeftOut: 0, rowsInserted: 0, rowsUpdated: 0, rowsDeleted: 0, rowsBefore: before, rowsAfter: before, columnsAdded: [] };
    if (plan.loadedIn !== null && !request.again) return { ...nothing, version: null, difference: 0, loadedIn: plan.loadedIn };
    if (plan.problems.length > 0) throw new LakeError('refused', `${name} does not take this load: ${plan.problems.join('; ')}. Nothing was written.`, { table: name });
    for (const column of newFields) await alterTable(this.services, relation, { kind: 'column', change: { kind: 'add', column, ifNotExists: true } }, as);
    const result = await this.services.changes.run({ id, sql: plan.sql, as, ...(request.files ? { files: request.files } : {}), loadId: request.again ? `${plan.loadId}-${randomUUID().slice(0, 8)}` : plan.loadId });
    // Somebody else loaded the same between the look and the commit.
    const { alreadyLoaded } = result.written;
    if (alreadyLoaded) return { ...nothing, version: null, difference: 0, loadedIn: alreadyLoaded.version ?? (await loadedIn(table, plan.loadId)) };
    const counts = result.written as unknown as { rowsInserted: number; rowsUpdated: number; rowsDeleted: number };
    const after = (await table.snapshot(LATEST).then((now) => now.totals())).rows ?? null;
    const leftOut = request.cast ? plan.misfitRows : 0;
    return {
      version: result.written.version, receiptId: result.receipt.id, rowsAtSource: plan.rows, rowsLeftOut: leftOut, rowsInserted: counts.rowsInserted, rowsUpdated: counts.rowsUpdated, rowsDeleted: counts.rowsDeleted,
      rowsBefore: before, rowsAfter: after, difference: differenceOf(request, plan, counts, before, after, leftOut), columnsAdded: newFields.map((each) => each.name), loadedIn: null,
    };
  }

  async #prepare(relation: Relation, request: LoadRequest, as: Identity): Promise<Prepared> {
    demand(as, 'write', relation);
    const table = this.services.lake.table(relation);
    const name = nameOf(relation);
    if (!(table instanceof DeltaTable) && !(table instanceof IcebergTable)) throw new LakeError('unsupported', `${name} is kept as ${relation.format ?? relation.kind}; rows are loaded into Delta and Iceberg tables.`, { table: name });
    const snapshot = await table.snapshot(LATEST);
    const source = sourceSql(request.from);
    const given = (await this.services.queries.columnsOf(source, as)).map((column) => field(column.name, parseTypeName(column.type)));
    mustBeDistinct(given);
    const { columns, extra } = matched(snapshot.schema.fields, given, request.map ?? {});
    const newFields = request.takeNewColumns ? extra.map((each) => ({ ...each, type: table instanceof IcebergTable ? icebergType(each.type) : each.type })) : [];
    const key = request.mode === 'merge' ? await this.#keyOf(request, relation, table, snapshot.schema.fields, columns, given) : [];
    const facts = await this.#look(source, columns, key, request.latestBy === undefined, as);
    const read = await this.services.queries.plan(source, as);
    const loadId = loadIdOf(source, request, read);
    if (read.length > 0 && read.every(({ source: { snapshot: of } }) => GUESSED.includes(of.format))) for (const [index, each] of columns.entries()) if (each.fit === 'cast' && facts.perColumn[index] === 0 && isNumber(each.fromType!) && isNumber(each.type)) each.fit = 'narrow';
    const plan: LoadPlan = {
      ...facts, loadId, columns: columns.map((each, index) => ({ ...each, misfits: facts.perColumn[index]! })), extra: extra.map((each) => ({ name: each.name, type: typeName(each.type) })),
      problems: problemsOf(request, columns, extra, facts, key), loadedIn: await loadedIn(table, loadId), sql: statementOf(name, source, request, columns, newFields, key),
    };
    return { plan, table, snapshot, newFields };
  }

  async #keyOf(request: LoadRequest, relation: Relation, table: LoadTable, fields: readonly Field[], columns: readonly LoadColumn[], given: readonly Field[]): Promise<string[]> {
    const key = request.key ?? await keyOf(table, relation);
    if (key.length === 0) throw new LakeError('bad-request', `${nameOf(relation)} has no key, so say by which columns its rows are told apart.`, { table: nameOf(relation) });
    if (request.latestBy !== undefined && !findField(given, request.latestBy)) throw new LakeError('bad-request', `What is loaded has no column "${request.latestBy}" to order rows by.`);
    return key.map((each) => {
      const own = findField(fields, each);
      if (!own) throw new LakeError('bad-request', `${nameOf(relation)} has no column "${each}".`, { table: nameOf(relation) });
      if (columns.find((column) => column.name === own.name)!.from === null) throw new LakeError('bad-request', `What is loaded has no column for "${own.name}", by which rows are told apart.`);
      return own.name;
    });
  }

  /** Rows, misfits and doubles of the source, in one pass over it. */
  async #look(source: string, columns: readonly LoadColumn[], key: readonly string[], countsDoubles: boolean, as: Identity): Promise<{ rows: number; perColumn: number[]; misfitRows: number; misfits: LoadPlan['misfits']; doubles: number }> {
    const conditions = columns.map(misfitSql);
    const any = conditions.filter((each) => each !== 'false').join(' OR ') || 'false';
    const counts = ['count(*)', `count(*) FILTER (${any})`, ...conditions.map((each) => `count(*) FILTER (${each})`)];
    const { queries } = this.services;
    const ask = async (sql: string) => (await queries.run({ sql, as, maxRows: SHOWN_MISFITS, leavesNoReceipt: true })).rows;
    const [row] = await ask(`SELECT ${counts.join(', ')} FROM (${source}\n) AS __source`);
    const [rows, misfitRows, ...perColumn] = row!.map(Number) as [number, number, ...number[]];
    const misfits = misfitRows > 0 ? await queries.run({ sql: `SELECT * FROM (${source}\n) AS __source WHERE ${any}`, as, maxRows: SHOWN_MISFITS, leavesNoReceipt: true }) : { columns: [], rows: [] };
    const by = key.map((each) => quoteName(columns.find((column) => column.name === each)!.from!)).join(', ');
    const doubles = key.length > 0 && countsDoubles ? Number((await ask(`SELECT coalesce(sum(n - 1), 0) FROM (SELECT count(*) AS n FROM (${source}\n) AS __source GROUP BY ${by}) AS __keys`))[0]![0]) : 0;
    return { rows, misfitRows, perColumn, doubles, misfits: { columns: misfits.columns, rows: misfits.rows } };
  }

}

/** The same for the same files or versions, asked in the same way. */
function loadIdOf(source: string, { mode, map }: LoadRequest, read: readonly PlannedTable[]): string {
  const files = read.map(({ source: { name, snapshot }, plan }) => [name, snapshot.format === 'delta' || snapshot.format === 'iceberg' ? snapshot.version : null, filesToRead(plan).map((file) => [file.path, file.bytes, file.etag ?? file.modified ?? null])]);
  return createHash('sha256').update(JSON.stringify([source, mode, map ?? {}, files])).digest('hex').slice(0, 32);
}

/** Formats of text, which tell no types of their own. */
const GUESSED = ['csv', 'fixed', 'pattern', 'json'];

function isNumber(type: string): boolean {
  return /^(tinyint|smallint|integer|bigint|float|double|decimal)/.test(type);
}

function sourceSql(from: LoadRequest['from']): string {
  if ('query' in from) return from.query.trim().replace(/;+\s*$/, '');
  if ('files' in from) return `SELECT * FROM ${quoteName(from.files)}`;
  const cut = from.table.lastIndexOf('.');
  return `SELECT * FROM ${quoteName(from.table.slice(0, cut))}.${quoteName(from.table.slice(cut + 1))}`;
}

function mustBeDistinct(given: readonly Field[]): void {
  const twice = twiceNamed(given.map(({ name }) => name));
  if (twice !== undefined) throw new LakeError('bad-request', `What is loaded has two columns "${twice}", told apart by case at most. Name one of them otherwise in a query.`);
}

/** By name without regard to case, where nothing else is said. */
function matched(fields: readonly Field[], given: readonly Field[], map: Record<string, string>): { columns: LoadColumn[]; extra: Field[] } {
  for (const [column, from] of Object.entries(map)) {
    if (!findField(fields, column)) throw new LakeError('bad-request', `The table has no column "${column}".`);
    if (from !== '' && !findField(given, from)) throw new LakeError('bad-request', `What is loaded has no column "${from}".`, { hint: `It has ${given.map(({ name }) => name).join(', ')}.` });
  }
  const mapped = new Map(Object.entries(map).map(([column, from]) => [findField(fields, column)!.name, from]));
  const used = new Set<string>();
  const columns = fields.map((own): LoadColumn => {
    const wanted = mapped.get(own.name) ?? own.name;
    const found = wanted === '' ? undefined : findField(given, wanted);
    if (found) used.add(found.name);
    const base = { name: own.name, type: typeName(own.type), required: own.required, misfits: 0 };
    return found ? { ...base, from: found.name, fromType: typeName(found.type), fit: fitOf(found.type, own.type) } : { ...base, from: null, fromType: null, fit: 'absent' };
  });
  return { columns, extra: given.filter((each) => !used.has(each.name)) };
}

/** Whether a row's value has no place in the column, as SQL. */
function misfitSql({ from, type, fit, required }: LoadColumn): string {
  if (from === null) return 'false';
  const value = quoteName(from);
  const parts = [...(fit === 'cast' || fit === 'narrow' ? [`(${value} IS NOT NULL AND TRY_CAST(${value} AS ${type}) IS NULL)`] : []), ...(required ? [`${value} IS NULL`] : [])];
  return parts.join(' OR ') || 'false';
}

function problemsOf(request: LoadRequest, columns: readonly LoadColumn[], extra: readonly Field[], facts: { misfitRows: number; perColumn: number[]; doubles: number }, key: readonly string[]): string[] {
  const problems: string[] = [];
  for (const [index, { name, type, from, fromType, fit, required }] of columns.entries()) {
    if (from === null && required) problems.push(`column ${name} is required and is not in what is loaded`);
    if (fit === 'cast' && !request.cast) problems.push(`column ${name} is ${type} and what is loaded has ${fromType!}${facts.perColumn[index]! > 0 ? `, of which ${facts.perColumn[index]} values have no place in it` : ''}`);
    else if (fit !== 'cast' && facts.perColumn[index]! > 0 && !request.cast) problems.push(`column ${name} is required and ${facts.perColumn[index]} rows have no value for it`);
  }
  if (extra.length > 0 && !request.takeNewColumns) problems.push(`the table has no column ${extra.map((each) => `${each.name} (${typeName(each.type)})`).join(', ')}`);
  if (facts.doubles > 0) problems.push(`${facts.doubles} rows have a key (${key.join(', ')}) that another row has too; say by which column the latest is known`);
  return problems;
}

function statementOf(table: string, source: string, { mode, latestBy, cast }: LoadRequest, columns: readonly LoadColumn[], newFields: readonly Field[], key: readonly string[]): string {
  const taken = columns.filter((each) => each.from !== null);
  const select = [
    ...taken.map(({ name, from, fit, type }) => `${fit === 'cast' || fit === 'narrow' ? `TRY_CAST(${quoteName(from!)} AS ${type})` : quoteName(from!)} AS ${quoteName(name)}`),
    ...newFields.map(({ name }) => quoteName(name)),
  ];
  const conditions = cast ? columns.map(misfitSql).filter((each) => each !== 'false') : [];
  const fitting = conditions.length > 0 ? `\nWHERE NOT (${conditions.join(' OR ')})` : '';
  const by = key.map((each) => quoteName(columns.find((column) => column.name === each)!.from!)).join(', ');
  const latest = latestBy === undefined ? '' : `\nQUALIFY row_number() OVER (PARTITION BY ${by} ORDER BY ${quoteName(latestBy)} DESC NULLS LAST) = 1`;
  const rows = `SELECT ${select.join(', ')}\nFROM (${source}\n) AS __source${fitting}${latest}`;
  const target = table.split('.').map(nameSql).join('.');
  switch (mode) {
    case 'append':
      return `INSERT INTO ${target} BY NAME\n${rows}`;
    case 'overwrite':
      return `REPLACE ALL ROWS OF ${target} BY\n${allColumns(rows, columns, newFields)}`;
    case 'partitions':
      return `REPLACE PARTITIONS OF ${target} BY\n${allColumns(rows, columns, newFields)}`;
    case 'merge': {
      const names = [...taken.map(({ name }) => name), ...newFields.map(({ name }) => name)];
      const rest = names.filter((each) => !key.includes(each));
      const on = key.map((each) => `t.${quoteName(each)} = s.${quoteName(each)}`).join(' AND ');
      const own = latestBy === undefined ? undefined : columns.find((each) => each.from === latestBy || each.name.toLowerCase() === latestBy.toLowerCase());
      // Rows that are older than what the table has by now change nothing.
      const newer = own?.from ? ` AND (t.${quoteName(own.name)} IS NULL OR s.${quoteName(own.name)} >= t.${quoteName(own.name)})` : '';
      const update = rest.length > 0 ? `\nWHEN MATCHED${newer} THEN UPDATE SET ${rest.map((each) => `${quoteName(each)} = s.${quoteName(each)}`).join(', ')}` : '';
      return `MERGE INTO ${target} AS t USING (\n${rows}\n) AS s ON ${on}${update}\nWHEN NOT MATCHED THEN INSERT (${names.map(quoteName).join(', ')}) VALUES (${names.map((each) => `s.${quoteName(each)}`).join(', ')})`;
    }
  }
}

/** In the table's order, as replacing rows needs them. */
function allColumns(rows: string, columns: readonly LoadColumn[], newFields: readonly Field[]): string {
  const list = [...columns.map(({ name, from, type }) => (from === null ? `CAST(NULL AS ${type}) AS ${quoteName(name)}` : quoteName(name))), ...newFields.map(({ name }) => quoteName(name))];
  return `SELECT ${list.join(', ')} FROM (\n${rows}\n) AS __rows`;
}

function differenceOf({ mode }: LoadRequest, plan: LoadPlan, counts: { rowsInserted: number; rowsDeleted: number }, before: number | null, after: number | null, leftOut: number): number | null {
  if (before === null || after === null) return null;
  const came = plan.rows - leftOut;
  if (mode === 'append') return after - before - came;
  if (mode === 'overwrite') return after - came;
  return after - (before + counts.rowsInserted - counts.rowsDeleted);
}

async function loadedIn(table: LoadTable, loadId: string): Promise<number | null> {
  if (table instanceof DeltaTable) {
    const state = await latestState(table);
    const txn = state.txns.get(loadApplication(loadId));
    if (!txn) return null;
    const entry = (await table.history()).find((each) => txn.lastUpdated !== undefined && each.at >= txn.lastUpdated);
    return entry?.version ?? state.version;
  }
  const { metadata } = await table.current();
  const snapshot = snapshotOfLoad(metadata, loadId);
  return snapshot ? versionOf(metadata, snapshot) : null;
}
