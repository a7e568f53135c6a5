/** Reads a statement of our own clause by clause: words, names, lists, and parts that are left to the engine. */
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

export function startsQuery(token: Token | undefined): boolean {
  return ['SELECT', 'WITH', 'VALUES', 'FROM'].some((word) => isWord(token, word)) || token?.text === '(';
}

/** Words that may follow a table's name, so that they are no alias of it. */
const AFTER_TARGET = ['SET', 'WHERE', 'USING', 'BY', 'VALUES', 'SELECT', 'WITH', 'ON'];

/** Walks over the tokens of one statement; failures carry the position of what was found. */
export class Cursor {
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

  /** Names that are joined by dots. */
  dotted(what: string): string[] {
    const names: string[] = [];
    do {
      const token = this.peek();
      if (token?.kind !== 'word' && token?.kind !== 'quoted') throw this.wanted(what);
      names.push(nameOf(token));
      this.#at++;
    } while (this.takeMark('.'));
    return names;
  }

  /** A table's name, with an alias where one may stand. */
  name(mayHaveAlias = false): Target {
    const first = this.peek();
    const names = this.dotted('the name of a table');
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

  /** `(a, place.lat)`: dotted names of columns. */
  paths(): string[] {
    this.expectMark('(');
    const paths = [this.dotted('the name of a column').join('.')];
    while (this.takeMark(',')) paths.push(this.dotted('the name of a column').join('.'));
    this.expectMark(')');
    return paths;
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
