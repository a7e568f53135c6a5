/** Every change of the catalog, numbered, and what tables and columns there were at each. */
import { renames } from '../../core/crawl/drift';
import { LakeError } from '../../core/errors';
import { parseTypeName } from '../../core/schema/type-names';
import type { Sql } from './database';
import type { SeenColumn } from './relations';

export interface Revision {
  number: number;
  at: string;
  who: string;
  action: string;
  subject: string;
  details: Record<string, unknown>;
}

/** Notes a change of the catalog; called in the transaction that makes the change. Returns its number. */
export async function recordRevision(sql: Sql, who: string, action: string, subject: string, details: Record<string, unknown> = {}): Promise<number> {
  const [made] = await sql.query<{ number: number }>('INSERT INTO revision (who, action, subject, details) VALUES ($1, $2, $3, $4) RETURNING number', [who, action, subject, JSON.stringify(details)]);
  // What was seen of columns changes no name and has an event of its own.
  if (!action.startsWith('see ')) sql.noteChange?.();
  return made!.number;
}

/** The columns of a table from this revision on; null when it left, undefined when they are not known yet. */
export async function recordState(sql: Sql, revision: number, name: string, kind: string, columns: readonly SeenColumn[] | null | undefined): Promise<void> {
  await sql.query('INSERT INTO relation_state (revision, name, kind, columns) VALUES ($1, $2, $3, $4)', [revision, name, kind, columns === null ? null : JSON.stringify(columns ?? [])]);
}

/** Newest first; of one table or view, or of all. */
export async function listRevisions(sql: Sql, limit: number, subject?: string): Promise<Revision[]> {
  return sql.query<Revision>('SELECT number, at, who, action, subject, details FROM revision WHERE $2::text IS NULL OR lower(subject) = lower($2) ORDER BY number DESC LIMIT $1', [limit, subject ?? null]);
}

export interface RevisionComparison {
  from: number;
  to: number;
  tables: { name: string; change: 'added' | 'gone' }[];
  columns: { table: string; column: string; change: 'added' | 'gone' | 'retyped' | 'renamed?'; before: string | null; after: string | null }[];
}

/** What tables and columns came, went, changed or look renamed between two revisions. */
export async function compareRevisions(sql: Sql, from: number, to: number): Promise<RevisionComparison> {
  const [last] = await sql.query<{ number: number | null }>('SELECT max(number) AS number FROM revision');
  for (const number of [from, to]) if (number < 0 || number > (last?.number ?? 0)) throw new LakeError('not-found', `There is no revision ${number}; the last is ${last?.number ?? 0}.`);
  const [before, after] = await Promise.all([stateAt(sql, from), stateAt(sql, to)]);
  const names = [...new Set([...before.keys(), ...after.keys()])].sort();
  const tables = names.flatMap((name): RevisionComparison['tables'] => (!before.has(name) ? [{ name, change: 'added' }] : !after.has(name) ? [{ name, change: 'gone' }] : []));
  const columns = names.flatMap((name) => (before.has(name) && after.has(name) ? compareColumns(name, before.get(name)!, after.get(name)!) : []));
  return { from, to, tables, columns };
}

async function stateAt(sql: Sql, revision: number): Promise<Map<string, SeenColumn[]>> {
  const rows = await sql.query<{ name: string; columns: SeenColumn[] | null }>('SELECT DISTINCT ON (name) name, columns FROM relation_state WHERE revision <= $1 ORDER BY name, revision DESC', [revision]);
  return new Map(rows.flatMap((row) => (row.columns === null ? [] : [[row.name, row.columns]])));
}

function compareColumns(table: string, before: readonly SeenColumn[], after: readonly SeenColumn[]): RevisionComparison['columns'] {
  const find = (columns: readonly SeenColumn[], name: string) => columns.find((column) => column.name.toLowerCase() === name.toLowerCase());
  const went = before.filter((column) => !find(after, column.name));
  const came = after.filter((column) => !find(before, column.name));
  const asField = ({ name, type }: SeenColumn) => ({ name, type: parseTypeName(type), required: false });
  const paired = renames(went.map(asField), came.map(asField));
  const old = new Set(paired.values());
  return [
    ...came.map((column): RevisionComparison['columns'][number] => (paired.has(column.name) ? { table, column: column.name, change: 'renamed?', before: paired.get(column.name)!, after: column.name } : { table, column: column.name, change: 'added', before: null, after: column.type })),
    ...went.filter((column) => !old.has(column.name)).map((column): RevisionComparison['columns'][number] => ({ table, column: column.name, change: 'gone', before: column.type, after: null })),
    ...after.flatMap((column): RevisionComparison['columns'] => {
      const was = find(before, column.name);
      return was && was.type !== column.type ? [{ table, column: column.name, change: 'retyped', before: was.type, after: column.type }] : [];
    }),
  ];
}
