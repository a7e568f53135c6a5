/**
 * Statements that change rows: INSERT, UPDATE, DELETE, MERGE, and REPLACE ROWS / PARTITIONS / ALL ROWS OF … BY, which is
 * our own. The engine's parser takes only queries, so clauses are found by token, and their insides are checked as parts
 * of a query.
 */
import { LakeError } from '../errors';
import { Cursor, startsQuery, type Range, type Target } from './cursor';
import { isWord, tokenize } from './tokens';

export type { Range, Target };

export interface Assignment {
  column: string;
  value: Range;
}

export type MergeAction = { kind: 'update'; set: Assignment[] | 'all' } | { kind: 'delete' } | { kind: 'insert'; columns: string[] | 'all'; values: Range[] };

export interface MergeClause {
  when: 'matched' | 'not-matched' | 'not-matched-by-source';
  condition?: Range;
  action: MergeAction;
  /** Where the clause begins. */
  start: number;
}

export type ChangeStatement =
  | { kind: 'insert'; target: Target; columns?: string[]; byName: boolean; source: Range }
  | { kind: 'replace'; target: Target; what: { kind: 'all' } | { kind: 'partitions' } | { kind: 'rows'; where: Range }; source: Range }
  | { kind: 'update'; target: Target; set: Assignment[]; where?: Range }
  | { kind: 'delete'; target: Target; where?: Range }
  | { kind: 'merge'; target: Target; source: Range; sourceName: string; on: Range; clauses: MergeClause[] };

const KINDS = ['INSERT', 'REPLACE', 'UPDATE', 'DELETE', 'MERGE'];

/** Whether a text is to be read by `readChange` instead of as a query. */
export function isChange(sql: string): boolean {
  const [first] = tokenize(sql);
  return KINDS.some((word) => isWord(first, word));
}

/** Fails with the position of what is not understood. */
export function readChange(sql: string): ChangeStatement {
  const cursor = new Cursor(sql);
  switch (cursor.next().text.toUpperCase()) {
    case 'INSERT':
      return insert(cursor);
    case 'REPLACE':
      return replace(cursor);
    case 'UPDATE':
      return update(cursor);
    case 'DELETE':
      return deletion(cursor);
    default:
      return merge(cursor);
  }
}

function insert(cursor: Cursor): ChangeStatement {
  cursor.expect('INTO');
  const target = cursor.name();
  const byName = cursor.take('BY');
  if (byName) cursor.expect('NAME');
  const columns = !byName && cursor.isMark('(') && !startsQuery(cursor.peek(1)) ? cursor.names() : undefined;
  return { kind: 'insert', target, byName, source: cursor.query(), ...(columns ? { columns } : {}) };
}

function replace(cursor: Cursor): ChangeStatement {
  const whole = cursor.take('ALL');
  const partitions = !whole && cursor.take('PARTITIONS');
  if (!partitions) cursor.expect('ROWS');
  cursor.expect('OF');
  const target = cursor.name(true);
  if (whole || partitions) {
    cursor.expect('BY');
    return { kind: 'replace', target, what: { kind: whole ? 'all' : 'partitions' }, source: cursor.query() };
  }
  cursor.expect('WHERE');
  const where = cursor.until(['BY'], 'a condition');
  cursor.expect('BY');
  return { kind: 'replace', target, what: { kind: 'rows', where }, source: cursor.query() };
}

function update(cursor: Cursor): ChangeStatement {
  const target = cursor.name(true);
  cursor.expect('SET');
  const set = assignments(cursor, ['WHERE']);
  return { kind: 'update', target, set, ...where(cursor) };
}

function deletion(cursor: Cursor): ChangeStatement {
  cursor.expect('FROM');
  const target = cursor.name(true);
  return { kind: 'delete', target, ...where(cursor) };
}

function where(cursor: Cursor): { where?: Range } {
  if (cursor.atEnd()) return {};
  cursor.expect('WHERE');
  return { where: cursor.rest('a condition') };
}

function merge(cursor: Cursor): ChangeStatement {
  cursor.expect('INTO');
  const target = cursor.name(true);
  cursor.expect('USING');
  const source = cursor.until(['ON'], 'a table or a query in parentheses');
  const sourceName = cursor.lastName(source);
  cursor.expect('ON');
  const on = cursor.until(['WHEN'], 'a condition');
  const clauses: MergeClause[] = [];
  while (!cursor.atEnd()) clauses.push(mergeClause(cursor));
  if (clauses.length === 0) throw cursor.wanted('WHEN MATCHED or WHEN NOT MATCHED');
  return { kind: 'merge', target, source, sourceName, on, clauses };
}

function mergeClause(cursor: Cursor): MergeClause {
  const { start } = cursor.peek() ?? { start: cursor.end };
  cursor.expect('WHEN');
  const negated = cursor.take('NOT');
  cursor.expect('MATCHED');
  const by = negated && cursor.take('BY');
  const bySource = by && cursor.take('SOURCE');
  if (by && !bySource) cursor.expect('TARGET');
  const when = !negated ? 'matched' : bySource ? 'not-matched-by-source' : 'not-matched';
  const condition = cursor.take('AND') ? cursor.until(['THEN'], 'a condition') : undefined;
  cursor.expect('THEN');
  const action = when === 'not-matched' ? mergeInsert(cursor) : mergeChange(cursor);
  return { when, action, start, ...(condition ? { condition } : {}) };
}

function mergeChange(cursor: Cursor): MergeAction {
  if (cursor.take('DELETE')) return { kind: 'delete' };
  if (!cursor.take('UPDATE')) throw cursor.wanted('UPDATE SET or DELETE');
  cursor.expect('SET');
  if (cursor.takeMark('*')) return { kind: 'update', set: 'all' };
  return { kind: 'update', set: assignments(cursor, ['WHEN']) };
}

function mergeInsert(cursor: Cursor): MergeAction {
  cursor.expect('INSERT');
  if (cursor.takeMark('*')) return { kind: 'insert', columns: 'all', values: [] };
  const columns = cursor.names();
  cursor.expect('VALUES');
  const values = cursor.expressions();
  if (values.length !== columns.length) throw new LakeError('bad-request', `INSERT names ${columns.length} columns and gives ${values.length} values.`, { position: values[0]?.start ?? 0 });
  return { kind: 'insert', columns, values };
}

function assignments(cursor: Cursor, stop: string[]): Assignment[] {
  const set: Assignment[] = [];
  do {
    const column = cursor.columnName();
    cursor.expectMark('=');
    set.push({ column, value: cursor.until([...stop, ','], `a value for ${column}`) });
  } while (cursor.takeMark(','));
  return set;
}
