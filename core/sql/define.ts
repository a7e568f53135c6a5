/**
 * Statements that define: CREATE, ALTER and DROP of namespaces, tables and views, and those that look (SHOW, DESCRIBE).
 * The names and the order of clauses are those of standard SQL where it has them.
 */
import { LakeError } from '../errors';
import { parseTypeName } from '../schema/type-names';
import { field, type Field } from '../schema/types';
import { Cursor, type Range } from './cursor';
import { optionName, options, text } from './options';
import { isWord, tokenize } from './tokens';

/** A table or view: its namespace, with dots where it is nested, and its name. */
export interface QualifiedName {
  namespace: string;
  name: string;
  start: number;
}

/** `day(taken_at)`: `{ source: 'taken_at', transform: 'day' }`; `bucket(16, id)` has the transform `bucket[16]`. */
export interface PartitionTerm {
  source: string;
  transform: string;
}

export type ColumnChange =
  | { kind: 'add'; column: Field; /** Dotted path of the struct that it is added to. */ within?: string; ifNotExists: boolean; place?: ColumnPlace }
  | { kind: 'drop'; column: string; ifExists: boolean }
  | { kind: 'rename'; column: string; to: string }
  | { kind: 'widen'; column: string; type: Field['type'] }
  | { kind: 'comment'; column: string; comment: string | null }
  | { kind: 'optional'; column: string }
  | { kind: 'move'; column: string; place: ColumnPlace };

/** First, or after another column. */
export type ColumnPlace = { after: string | null };

export type TableChange =
  | { kind: 'column'; change: ColumnChange }
  | { kind: 'rename'; to: QualifiedName }
  | { kind: 'comment'; comment: string }
  | { kind: 'properties'; properties: Record<string, string | null> }
  | { kind: 'partitioning'; add: PartitionTerm[]; remove: PartitionTerm[] }
  | { kind: 'order'; by: string[] }
  | { kind: 'key'; columns: string[] };

export interface TableDefinition {
  columns: Field[];
  key: string[];
  comment?: string;
  partitionBy: PartitionTerm[];
  orderBy: string[];
  /** `format`, `location`, and the table's properties by the names of its format. */
  options: Record<string, string>;
}

export type DefineStatement =
  | { kind: 'create-namespace'; namespace: string; ifNotExists: boolean; comment?: string; options: Record<string, string> }
  | { kind: 'drop-namespace'; namespace: string; ifExists: boolean; cascade: boolean }
  | { kind: 'create-table'; table: QualifiedName; ifNotExists: boolean; definition: TableDefinition; /** The query that it is filled from. */ source?: Range }
  | { kind: 'create-view'; view: QualifiedName; orReplace: boolean; ifNotExists: boolean; comment?: string; source: Range }
  | { kind: 'drop'; what: 'table' | 'view'; name: QualifiedName; ifExists: boolean; /** Files of a managed table stay where they are, and not in the trash. */ keepFiles: boolean }
  | { kind: 'undrop'; name: QualifiedName }
  | { kind: 'alter-table'; table: QualifiedName; change: TableChange }
  | { kind: 'show'; what: 'namespaces' }
  | { kind: 'show'; what: 'tables' | 'views' | 'dropped'; namespace?: string }
  | { kind: 'show'; what: 'columns' | 'describe' | 'history' | 'partitions' | 'files' | 'create'; of: QualifiedName };

const FIRST_WORDS = ['CREATE', 'DROP', 'UNDROP', 'ALTER', 'SHOW', 'DESCRIBE', 'DESC'];

/** Whether a text is to be read by `readDefinition`. */
export function isDefinition(sql: string): boolean {
  const [first] = tokenize(sql);
  return FIRST_WORDS.some((word) => isWord(first, word));
}

/** Fails with the position of what is not understood. */
export function readDefinition(sql: string): DefineStatement {
  const cursor = new Cursor(sql);
  const statement = read(cursor, sql);
  if (!cursor.atEnd()) throw cursor.wanted('the end of the statement');
  return statement;
}

function read(cursor: Cursor, sql: string): DefineStatement {
  if (cursor.take('CREATE')) return create(cursor, sql);
  if (cursor.take('DROP')) return drop(cursor);
  if (cursor.take('UNDROP')) {
    cursor.expect('TABLE');
    return { kind: 'undrop', name: qualified(cursor) };
  }
  if (cursor.take('ALTER')) {
    cursor.expect('TABLE');
    return { kind: 'alter-table', table: qualified(cursor), change: alteration(cursor, sql) };
  }
  if (cursor.take('SHOW')) return show(cursor);
  cursor.next();
  cursor.take('TABLE');
  return { kind: 'show', what: 'describe', of: qualified(cursor) };
}

function create(cursor: Cursor, sql: string): DefineStatement {
  const orReplace = cursor.take('OR');
  if (orReplace) cursor.expect('REPLACE');
  if (!orReplace && cursor.take('NAMESPACE')) {
    const ifNotExists = takeIf(cursor, true);
    const namespace = namespaceName(cursor);
    const comment = takeComment(cursor);
    return { kind: 'create-namespace', namespace, ifNotExists, options: cursor.take('WITH') ? options(cursor, sql) : {}, ...comment };
  }
  if (cursor.take('VIEW')) {
    const ifNotExists = !orReplace && takeIf(cursor, true);
    const view = qualified(cursor);
    const comment = takeComment(cursor);
    cursor.expect('AS');
    return { kind: 'create-view', view, orReplace, ifNotExists, source: cursor.query(), ...comment };
  }
  if (orReplace) throw cursor.wanted('VIEW');
  if (!cursor.take('TABLE')) throw cursor.wanted('NAMESPACE, TABLE or VIEW');
  return createTable(cursor, sql);
}

function createTable(cursor: Cursor, sql: string): DefineStatement {
  const ifNotExists = takeIf(cursor, true);
  const table = qualified(cursor);
  const definition: TableDefinition = { columns: [], key: [], partitionBy: [], orderBy: [], options: {} };
  if (cursor.takeMark('(')) {
    do {
      if (cursor.take('PRIMARY')) {
        cursor.expect('KEY');
        definition.key = cursor.paths();
      } else definition.columns.push(columnDefinition(cursor, sql));
    } while (cursor.takeMark(','));
    cursor.expectMark(')');
  }
  for (;;) {
    if (isWord(cursor.peek(), 'COMMENT')) Object.assign(definition, takeComment(cursor));
    else if (cursor.take('PARTITION')) {
      cursor.expect('BY');
      definition.partitionBy = terms(cursor);
    } else if (cursor.take('ORDER')) {
      cursor.expect('BY');
      definition.orderBy = cursor.paths();
    } else if (isWord(cursor.peek(), 'WITH') && cursor.peek(1)?.text === '(') {
      cursor.next();
      definition.options = options(cursor, sql);
    } else break;
  }
  if (!cursor.take('AS')) {
    if (definition.columns.length === 0 && definition.options.location === undefined) throw cursor.wanted('columns in parentheses, AS and a query, or the location of a table that stands');
    return { kind: 'create-table', table, ifNotExists, definition };
  }
  if (definition.columns.length > 0) throw new LakeError('bad-request', 'A table that is made AS a query takes its columns from it; name and cast them in the query.', { position: table.start });
  return { kind: 'create-table', table, ifNotExists, definition, source: cursor.query() };
}

/** `name type [NOT NULL] [COMMENT '…']`. */
function columnDefinition(cursor: Cursor, sql: string): Field {
  const name = cursor.columnName();
  const type = typeAt(cursor, sql);
  const required = cursor.take('NOT');
  if (required) cursor.expect('NULL');
  return field(name, type, { required, ...takeComment(cursor) });
}

const AFTER_TYPE = [',', ')', 'NOT', 'COMMENT', 'FIRST', 'AFTER'];

function typeAt(cursor: Cursor, sql: string): Field['type'] {
  const range = cursor.until(AFTER_TYPE, 'a type');
  try {
    return parseTypeName(sql.slice(range.start, range.end));
  } catch (error) {
    if (error instanceof LakeError) throw new LakeError('bad-request', error.message, { position: range.start }, { cause: error });
    throw error;
  }
}

function drop(cursor: Cursor): DefineStatement {
  if (cursor.take('NAMESPACE')) {
    const ifExists = takeIf(cursor, false);
    return { kind: 'drop-namespace', ifExists, namespace: namespaceName(cursor), cascade: cursor.take('CASCADE') };
  }
  const what = cursor.take('VIEW') ? 'view' : 'table';
  if (what === 'table' && !cursor.take('TABLE')) throw cursor.wanted('NAMESPACE, TABLE or VIEW');
  const ifExists = takeIf(cursor, false);
  const name = qualified(cursor);
  const keepFiles = what === 'table' && cursor.take('KEEP');
  if (keepFiles) cursor.expect('FILES');
  return { kind: 'drop', what, name, ifExists, keepFiles };
}

function alteration(cursor: Cursor, sql: string): TableChange {
  if (cursor.take('ADD')) return addition(cursor, sql);
  if (cursor.take('DROP')) {
    if (cursor.take('PARTITION')) {
      cursor.expect('FIELD');
      return { kind: 'partitioning', add: [], remove: [term(cursor)] };
    }
    cursor.take('COLUMN');
    const ifExists = takeIf(cursor, false);
    return { kind: 'column', change: { kind: 'drop', column: path(cursor), ifExists } };
  }
  if (cursor.take('RENAME')) {
    if (cursor.take('TO')) return { kind: 'rename', to: qualified(cursor) };
    cursor.take('COLUMN');
    const column = path(cursor);
    cursor.expect('TO');
    return { kind: 'column', change: { kind: 'rename', column, to: cursor.columnName() } };
  }
  if (cursor.take('COMMENT')) return { kind: 'comment', comment: text(cursor) };
  if (cursor.take('ALTER')) {
    cursor.take('COLUMN');
    return { kind: 'column', change: columnAlteration(cursor, path(cursor), sql) };
  }
  if (cursor.take('RESET')) {
    cursor.expect('PROPERTIES');
    cursor.expectMark('(');
    const properties: Record<string, null> = {};
    do properties[optionName(cursor, sql, [',', ')'])] = null;
    while (cursor.takeMark(','));
    cursor.expectMark(')');
    return { kind: 'properties', properties };
  }
  if (!cursor.take('SET')) throw cursor.wanted('ADD, DROP, RENAME, ALTER COLUMN, COMMENT, SET or RESET');
  if (cursor.take('PROPERTIES')) return { kind: 'properties', properties: options(cursor, sql) };
  if (cursor.take('ORDER')) {
    cursor.expect('BY');
    return { kind: 'order', by: cursor.paths() };
  }
  if (!cursor.take('KEY')) throw cursor.wanted('PROPERTIES, ORDER BY or KEY');
  return { kind: 'key', columns: cursor.paths() };
}

function addition(cursor: Cursor, sql: string): TableChange {
  if (cursor.take('PARTITION')) {
    cursor.expect('FIELD');
    return { kind: 'partitioning', add: [term(cursor)], remove: [] };
  }
  cursor.take('COLUMN');
  const ifNotExists = takeIf(cursor, true);
  const steps = path(cursor).split('.');
  const type = typeAt(cursor, sql);
  if (isWord(cursor.peek(), 'NOT')) throw new LakeError('bad-request', 'A new column must allow nulls, since older rows have none for it.', { position: cursor.peek()!.start });
  const column = field(steps.at(-1)!, type, { ...takeComment(cursor) });
  const place = takePlace(cursor);
  return { kind: 'column', change: { kind: 'add', column, ifNotExists, ...(steps.length > 1 ? { within: steps.slice(0, -1).join('.') } : {}), ...(place ? { place } : {}) } };
}

function columnAlteration(cursor: Cursor, column: string, sql: string): ColumnChange {
  const place = takePlace(cursor);
  if (place) return { kind: 'move', column, place };
  if (isWord(cursor.peek(), 'COMMENT')) return { kind: 'comment', column, comment: takeComment(cursor).comment! };
  if (cursor.take('DROP')) {
    if (cursor.take('COMMENT')) return { kind: 'comment', column, comment: null };
    cursor.expect('NOT');
    cursor.expect('NULL');
    return { kind: 'optional', column };
  }
  if (cursor.take('SET')) cursor.expect('DATA');
  if (!cursor.take('TYPE')) throw cursor.wanted('TYPE, COMMENT, DROP NOT NULL, FIRST or AFTER');
  return { kind: 'widen', column, type: typeAt(cursor, sql) };
}

function takePlace(cursor: Cursor): ColumnPlace | undefined {
  if (cursor.take('FIRST')) return { after: null };
  return cursor.take('AFTER') ? { after: cursor.columnName() } : undefined;
}

const OF = { COLUMNS: 'columns', HISTORY: 'history', PARTITIONS: 'partitions', FILES: 'files' } as const;

function show(cursor: Cursor): DefineStatement {
  if (cursor.take('NAMESPACES')) return { kind: 'show', what: 'namespaces' };
  const what = cursor.take('TABLES') ? 'tables' : cursor.take('VIEWS') ? 'views' : cursor.take('DROPPED') ? 'dropped' : undefined;
  if (what !== undefined) {
    if (what === 'dropped') cursor.take('TABLES');
    return { kind: 'show', what, ...(cursor.take('IN') || cursor.take('FROM') ? { namespace: namespaceName(cursor) } : {}) };
  }
  if (cursor.take('CREATE')) {
    if (!cursor.take('TABLE')) cursor.take('VIEW');
    return { kind: 'show', what: 'create', of: qualified(cursor) };
  }
  for (const [word, of] of Object.entries(OF)) {
    if (!cursor.take(word)) continue;
    if (!cursor.take('OF') && !cursor.take('IN')) cursor.expect('FROM');
    return { kind: 'show', what: of, of: qualified(cursor) };
  }
  throw cursor.wanted('NAMESPACES, TABLES, VIEWS, DROPPED TABLES, CREATE, COLUMNS, HISTORY, PARTITIONS or FILES');
}

/** `IF NOT EXISTS`, or `IF EXISTS`. */
function takeIf(cursor: Cursor, negated: boolean): boolean {
  if (!cursor.take('IF')) return false;
  if (negated) cursor.expect('NOT');
  cursor.expect('EXISTS');
  return true;
}

function takeComment(cursor: Cursor): { comment?: string } {
  return cursor.take('COMMENT') ? { comment: text(cursor) } : {};
}

/** Names that are joined by dots. */
function path(cursor: Cursor): string {
  return cursor.dotted('the name of a column').join('.');
}

function namespaceName(cursor: Cursor): string {
  return cursor.dotted('the name of a namespace').join('.');
}

function qualified(cursor: Cursor): QualifiedName {
  const { start } = cursor.peek() ?? { start: cursor.end };
  const names = cursor.dotted('the name of a table or view');
  if (names.length < 2) throw new LakeError('bad-request', `"${names[0]}" needs its namespace before it: namespace.${names[0]}.`, { position: start });
  return { namespace: names.slice(0, -1).join('.'), name: names.at(-1)!, start };
}

function terms(cursor: Cursor): PartitionTerm[] {
  cursor.expectMark('(');
  const found = [term(cursor)];
  while (cursor.takeMark(',')) found.push(term(cursor));
  cursor.expectMark(')');
  return found;
}

const TRANSFORMS = ['identity', 'year', 'month', 'day', 'hour', 'bucket', 'truncate', 'void'];

/** `day(taken_at)`, `bucket(16, id)`, or a column as it is. */
function term(cursor: Cursor): PartitionTerm {
  const first = cursor.peek();
  const name = path(cursor);
  if (!cursor.isMark('(')) return { source: name, transform: 'identity' };
  const transform = name.toLowerCase();
  if (!TRANSFORMS.includes(transform)) throw new LakeError('bad-request', `${name} is no partition transform; ${TRANSFORMS.join(', ')} are.`, { position: first!.start });
  cursor.expectMark('(');
  const takesNumber = transform === 'bucket' || transform === 'truncate';
  let size = '';
  if (takesNumber) {
    const token = cursor.peek();
    if (token?.kind !== 'number' || !/^[1-9]\d*$/.test(token.text)) throw cursor.wanted(`a whole number: ${transform}(16, column)`);
    cursor.next();
    size = `[${token.text}]`;
    cursor.expectMark(',');
  }
  const source = path(cursor);
  cursor.expectMark(')');
  return { source, transform: `${transform}${size}` };
}

/** `(name = value, …)`; names with dots and dashes as they are, or quoted. */
