/**
 * Statements that change rows: INSERT, UPDATE, DELETE, MERGE, and REPLACE ROWS / PARTITIONS / ALL ROWS OF … BY, which is
 * our own. The engine's parser takes only queries, so clauses are found by token, and their insides are checked as parts
 * of a query.
 */
import { LakeError } from '../errors';
import { isWord, nameOf, tokenize, type Token } from './tokens';

/** Part of the user's text: [start, end). */
export interface Range {
  start: number;
  end: number;
}

export interface Target extends Range {
  /** One or two names, as in a query: `["refined", "bottles"]`, or `["bay:landing/x"]` for a folder. */
  name: string[];
  alias?: string;
  /** Of a table that has branches: the one that is written to. */
  branch?: string;
}

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

function startsQuery(token: Token | undefined): boolean {
  return ['SELECT', 'WITH', 'VALUES', 'FROM'].some((word) => isWord(token, word)) || token?.text === '(';
}

/** Words that may follow a table's name, so that they are no alias of it. */
const AFTER_TARGET = ['SET', 'WHERE', 'USING', 'BY', 'VALUES', 'SELECT', 'WITH', 'ON'];

class Cursor {
  readonly tokens: Token[];
  #at = 0;

  constructor(readonly sql: string) {
    const tokens = tokenize(sql);
    while (tokens.at(-1)?.text === ';') tokens.pop();
    this.tokens = tokens;
    const second = tokens.find((token) => token.text === ';');
    if (second) throw new LakeError('bad-request', 'Expected one statement, found several. Run them one at a time.', { position: second.start });
  }

  get end(): number {
    return this.tokens.at(-1)?.end ?? 0;
  }

  atEnd(): boolean {
    return this.#at >= this.tokens.length;
  }

  peek(ahead = 0): Token | undefined {
    return this.tokens[this.#at + ahead];
  }

  next(): Token {
    return this.tokens[this.#at++]!;
  }

  isMark(text: string): boolean {
    return this.peek()?.kind === 'mark' && this.peek()!.text === text;
  }

  take(word: string): boolean {
    if (!isWord(this.peek(), word)) return false;
    this.#at++;
    return true;
  }

  takeMark(text: string): boolean {
    if (!this.isMark(text)) return false;
    this.#at++;
    return true;
  }

  expect(word: string): void {
    if (!this.take(word)) throw this.wanted(word);
  }

  expectMark(text: string): void {
    if (!this.takeMark(text)) throw this.wanted(`"${text}"`);
  }

  wanted(what: string): LakeError {
    const token = this.peek();
    return new LakeError('bad-request', `Expected ${what}, found ${token ? `"${token.text}"` : 'the end of the statement'}.`, { position: token?.start ?? this.end });
  }

  columnName(): string {
    const token = this.peek();
    if (token?.kind !== 'word' && token?.kind !== 'quoted') throw this.wanted('the name of a column');
    this.#at++;
    // `alias.column`: the table is known, so only the last name counts.
    if (this.isMark('.')) {
      this.#at++;
      return this.columnName();
    }
    return nameOf(token);
  }

  /** A table's name, with an alias where one may stand. */
  name(mayHaveAlias = false): Target {
    const first = this.peek();
    const names: string[] = [];
    do {
      const token = this.peek();
      if (token?.kind !== 'word' && token?.kind !== 'quoted') throw this.wanted('the name of a table');
      names.push(nameOf(token));
      this.#at++;
    } while (this.takeMark('.'));
    const end = this.tokens[this.#at - 1]!.end;
    const name = names.length < 3 ? names : [names.slice(0, -1).join('.'), names.at(-1)!];
    const branch = this.#branch();
    const target: Target = { name, start: first!.start, end, ...(branch === undefined ? {} : { branch }) };
    if (!mayHaveAlias) return target;
    const alias = this.take('AS') ? this.columnName() : this.#bareAlias();
    return alias === undefined ? target : { ...target, alias };
  }

  /** `BRANCH 'name'`. */
  #branch(): string | undefined {
    const name = this.peek(1);
    if (!isWord(this.peek(), 'BRANCH') || name?.kind !== 'string') return undefined;
    this.#at += 2;
    return name.text.slice(1, -1).replaceAll("''", "'");
  }

  #bareAlias(): string | undefined {
    const token = this.peek();
    if ((token?.kind !== 'word' && token?.kind !== 'quoted') || AFTER_TARGET.some((word) => isWord(token, word))) return undefined;
    this.#at++;
    return nameOf(token);
  }

  /** `(a, b, c)`. */
  names(): string[] {
    this.expectMark('(');
    const names = [this.columnName()];
    while (this.takeMark(',')) names.push(this.columnName());
    this.expectMark(')');
    return names;
  }

  /** `(x, y + 1)`. */
  expressions(): Range[] {
    this.expectMark('(');
    const ranges = [this.until([',', ')'], 'a value')];
    while (this.takeMark(',')) ranges.push(this.until([',', ')'], 'a value'));
    this.expectMark(')');
    return ranges;
  }

  query(): Range {
    if (!startsQuery(this.peek())) throw this.wanted('a query or VALUES');
    return this.rest('a query');
  }

  rest(what: string): Range {
    return this.until([], what);
  }

  /** Everything up to one of the words or marks outside of parentheses and of CASE … END. */
  until(stops: readonly string[], what: string): Range {
    const from = this.#at;
    let depth = 0;
    for (; !this.atEnd(); this.#at++) {
      const token = this.peek()!;
      if (depth === 0 && stops.some((stop) => (stop.length === 1 ? token.text === stop : isWord(token, stop)))) break;
      if ('([{'.includes(token.text) || isWord(token, 'CASE')) depth++;
      if (')]}'.includes(token.text) || (isWord(token, 'END') && depth > 0)) depth--;
      if (depth < 0) throw new LakeError('bad-request', `There is a "${token.text}" too many.`, { position: token.start });
    }
    if (depth > 0) throw new LakeError('bad-request', 'A parenthesis is not closed.', { position: this.tokens[from]?.start ?? this.end });
    if (this.#at === from) throw this.wanted(what);
    return { start: this.tokens[from]!.start, end: this.tokens[this.#at - 1]!.end };
  }

  /** What a table or query in FROM is called: its alias, else its own last name. */
  lastName({ start, end }: Range): string {
    const inside = this.tokens.filter((token) => token.start >= start && token.end <= end);
    let at = inside.length - 1;
    // `AS s(id, price)`: names of columns stand after the alias.
    if (inside[at]!.text === ')') {
      let depth = 0;
      while (at >= 0 && (depth += inside[at]!.text === ')' ? 1 : inside[at]!.text === '(' ? -1 : 0) > 0) at--;
      at = Math.max(0, at - 1);
    }
    const last = inside[at]!;
    if (last.kind === 'word' || last.kind === 'quoted') return nameOf(last);
    throw new LakeError('bad-request', 'What is merged from needs a name: USING (…) AS source.', { position: last.start });
  }
}
