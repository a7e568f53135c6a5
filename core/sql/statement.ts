/** A user's SELECT: what tables it names, at which state, and whether it keeps to what user SQL may do. */
import { LakeError } from '../errors';
import { LATEST, type AsOf } from '../table/contract';
import { ALLOWED_FUNCTIONS, ALLOWED_TABLE_FUNCTIONS } from './allowed-functions';
import { asOfNumber, asOfTime } from './as-of';
import { blankTimeTravel } from './time-travel';
import { byteOffsets, isWord, nameOf, tokenize, type Token } from './tokens';

/** The port to the engine's parser: its JSON syntax tree of the statements in a text. */
export interface SqlTree {
  parse(sql: string): Promise<unknown>;
}

export interface TableReference {
  /** One or two names: `["soundings"]` or `["refined", "soundings"]`. */
  name: string[];
  /** How files are to be read, where they are named by `files('storage:path', option => value)`. */
  options?: Record<string, unknown>;
  /** The rows that changed between two versions, where it is `changes_of('namespace.table', since => 3, until => 7)`. */
  changes?: { since: number; until?: number };
  alias?: string;
  asOf: AsOf;
  /** Where the name stands in the text. */
  start: number;
  end: number;
  /** Everything after the name that names the version, to be taken out: [start, end). */
  clause?: { start: number; end: number };
}

export interface Statement {
  /** The user's text. */
  text: string;
  /** The same with standard time travel blanked; every position is the same. */
  blanked: string;
  references: TableReference[];
  /** Columns written with namespace and table before them. */
  qualifiedColumns: { start: number; end: number; names: string[] }[];
}

type Node = { [key: string]: unknown };

/** Parses and checks a query. Fails with the position of what is not allowed or not understood. */
export async function readStatement(text: string, tree: SqlTree): Promise<Statement> {
  const { sql: blanked, clauses } = blankTimeTravel(text);
  const offset = byteOffsets(blanked);
  const parsed = (await tree.parse(blanked)) as { error?: boolean; error_message?: string; position?: string; statements?: Node[] };
  if (parsed.error) throw syntaxError(parsed, blanked, offset);
  const statements = parsed.statements ?? [];
  if (statements.length !== 1) {
    throw new LakeError('bad-request', statements.length === 0 ? 'There is no query in the text.' : `Expected one query, found ${statements.length} statements. Run them one at a time.`);
  }
  const walk = new Walk(tokenize(blanked), offset);
  walk.visit(statements[0]!, new Set());
  attachClauses(walk.references, clauses, tokenize(blanked));
  return { text, blanked, references: walk.references, qualifiedColumns: walk.qualifiedColumns };
}

function syntaxError(parsed: { error_message?: string; position?: string }, sql: string, offset: (bytes: number) => number): LakeError {
  const message = parsed.error_message ?? 'The query cannot be parsed.';
  if (/Only SELECT/i.test(message)) {
    const tokens = tokenize(sql);
    const [first] = tokens;
    const pivot = tokens.find((token) => isWord(token, 'PIVOT'));
    if (pivot) return new LakeError('unsupported', 'PIVOT needs the values that become columns named, since a query is planned before any row is read.', { position: pivot.start, hint: "Write PIVOT … ON column IN ('a', 'b') USING sum(x), or FROM … PIVOT (sum(x) FOR column IN ('a', 'b'))." });
    return new LakeError('refused', `Only queries and statements that change rows (INSERT, UPDATE, DELETE, MERGE, REPLACE … OF), define (CREATE, ALTER, DROP) or look (SHOW, DESCRIBE) can be run here; this one starts with ${first?.text.toUpperCase() ?? 'nothing'}.`, { position: first?.start ?? 0 });
  }
  const position = parsed.position === undefined ? undefined : offset(Number(parsed.position));
  return new LakeError('bad-request', `${message.charAt(0).toUpperCase()}${message.slice(1)}.`, position === undefined ? {} : { position });
}

class Walk {
  readonly references: TableReference[] = [];
  readonly qualifiedColumns: Statement['qualifiedColumns'] = [];

  constructor(
    readonly tokens: Token[],
    readonly offset: (bytes: number) => number,
  ) {}

  /** `scope` holds the lower-case names of the common table expressions that are visible. */
  visit(node: unknown, scope: ReadonlySet<string>): void {
    if (Array.isArray(node)) {
      for (const each of node) this.visit(each, scope);
      return;
    }
    if (typeof node !== 'object' || node === null) return;
    const here = node as Node;
    if (here.type === 'TABLE_FUNCTION' && isCall(here, 'files')) return this.#files(here);
    if (here.type === 'TABLE_FUNCTION' && isCall(here, 'changes_of')) return this.#changes(here);
    this.#check(here);
    let visible = scope;
    const ctes = (here.cte_map as { map?: { key: string; value: Node }[] } | undefined)?.map ?? [];
    for (const cte of ctes) {
      const name = cte.key.toLowerCase();
      // A recursive expression sees itself; a plain one of that name means the table outside.
      const own = isRecursive(cte.value) ? new Set([...visible, name]) : visible;
      this.visit(cte.value, own);
      visible = new Set([...visible, name]);
    }
    if (here.type === 'BASE_TABLE') this.#table(here, visible);
    if (here.class === 'COLUMN_REF') this.#column(here);
    for (const [key, value] of Object.entries(here)) if (key !== 'cte_map' && key !== 'at_clause') this.visit(value, visible);
  }

  #table(node: Node, scope: ReadonlySet<string>): void {
    const table = node.table_name as string;
    const schema = (node.schema_name as string | undefined) ?? '';
    const catalog = (node.catalog_name as string | undefined) ?? '';
    const position = this.#position(node) ?? 0;
    if (schema === '' && scope.has(table.toLowerCase())) return;
    // Three names are a table in a namespace that is nested in another.
    const names = [catalog, schema, table].filter((each) => each !== '');
    const name = names.length < 2 ? names : [names.slice(0, -1).join('.'), table];
    const first = this.tokens.findIndex((token) => token.start === position);
    const last = this.tokens[first + names.length * 2 - 2];
    if (first < 0 || !last) throw new LakeError('bad-request', `The table ${name.join('.')} could not be found in the text of the query.`, { position });
    const alias = (node.alias as string | undefined) || undefined;
    const reference: TableReference = { name, asOf: LATEST, start: position, end: last.end, ...(alias ? { alias } : {}) };
    if (node.at_clause) this.#atClause(reference, node.at_clause as Node, first + names.length * 2 - 1);
    this.references.push(reference);
  }

  /** `files('storage:path', option => value, …)`: constants and lists of constants only. */
  #files(node: Node): void {
    const start = this.#position(node) ?? 0;
    const first = this.tokens.findIndex((token) => token.start === start);
    const end = this.tokens[closing(this.tokens, first + 1)]!.end;
    const [place, ...rest] = ((node.function as Node).children as Node[] | undefined) ?? [];
    const path = place && constantValue(place);
    if (typeof path !== 'string' || !path.includes(':')) throw new LakeError('bad-request', "files(…) begins with the place of the files in quotes: files('storage:path/to/files').", { position: start });
    const options: Record<string, unknown> = {};
    for (const each of rest) {
      const [name, value] = [each.alias as string | undefined, constantValue(each)];
      if (!name || value === undefined) throw new LakeError('bad-request', "An option of files(…) is written as name => value, the value a constant or a list of constants: delimiter => '|'.", { position: this.#position(each) ?? start });
      options[name] = value;
    }
    const alias = (node.alias as string | undefined) || undefined;
    const reference: TableReference = { name: [path], options, asOf: LATEST, start, end, ...(alias ? { alias } : {}) };
    this.references.push(reference);
  }

  /** `changes_of('namespace.table', 3)` or `(…, since => 3, until => 7)`. */
  #changes(node: Node): void {
    const start = this.#position(node) ?? 0;
    const first = this.tokens.findIndex((token) => token.start === start);
    const end = this.tokens[closing(this.tokens, first + 1)]!.end;
    const [table, ...rest] = ((node.function as Node).children as Node[] | undefined) ?? [];
    const name = table && constantValue(table);
    const given = new Map<string, unknown>(rest.map((each, index) => [(each.alias as string | undefined) || ['since', 'until'][index] || '', constantValue(each)]));
    const [since, until] = [given.get('since') ?? 0, given.get('until')];
    const isVersion = (value: unknown) => typeof value === 'number' && Number.isSafeInteger(value) && value >= 0;
    const isKnown = [...given.keys()].every((key) => key === 'since' || key === 'until');
    if (typeof name !== 'string' || !isKnown || !isVersion(since) || (until !== undefined && !isVersion(until))) {
      throw new LakeError('bad-request', "changes_of(…) takes a table's name in quotes and one or two version numbers: changes_of('namespace.table', since => 3, until => 7).", { position: start });
    }
    const cut = name.lastIndexOf('.');
    const alias = (node.alias as string | undefined) || undefined;
    this.references.push({
      name: name.includes(':') || cut < 0 ? [name] : [name.slice(0, cut), name.slice(cut + 1)], asOf: LATEST, start, end,
      changes: { since: since as number, ...(until === undefined ? {} : { until: until as number }) }, ...(alias ? { alias } : {}),
    });
  }

  /** The engine's own `AT (VERSION => n)` and `AT (TIMESTAMP => …)`, which stands after the alias. */
  #atClause(reference: TableReference, clause: Node, from: number): void {
    const at = this.tokens.findIndex((token, index) => index >= from && isWord(token, 'AT') && this.tokens[index + 1]?.text === '(');
    const close = closing(this.tokens, at + 1);
    reference.clause = { start: this.tokens[at]!.start, end: this.tokens[close]!.end };
    const position = this.tokens[at]!.start;
    const constant = constantOf(clause.expr as Node);
    if (constant === undefined) throw new LakeError('bad-request', 'AT (…) needs a constant: VERSION => 3, or TIMESTAMP => TIMESTAMP \'2026-03-14 06:00\'.', { position });
    reference.asOf = (clause.unit === 'VERSION' ? asOfNumber(constant, position) : asOfTime(constant, position)).asOf;
  }

  #column(node: Node): void {
    const names = node.column_names as string[];
    if (names.length < 3) return;
    const start = this.#position(node);
    const first = this.tokens.findIndex((token) => token.start === start);
    const last = this.tokens[first + (names.length - 2) * 2];
    if (start !== undefined && first >= 0 && last) this.qualifiedColumns.push({ start, end: last.end, names });
  }

  #check(node: Node): void {
    const position = this.#position(node);
    const refuse = (what: string): never => {
      throw new LakeError('refused', `${what} cannot be used in a query here.`, position === undefined ? {} : { position });
    };
    if (node.class === 'FUNCTION' || node.class === 'WINDOW') {
      const name = String(node.function_name ?? '').toLowerCase();
      const isOperator = /^[^a-z_]+$/.test(name);
      if (name !== '' && !isOperator && !ALLOWED_FUNCTIONS.has(name)) refuse(`The function ${name}`);
      if (node.schema && node.schema !== 'main') refuse(`The function ${String(node.schema)}.${name}`);
    }
    if (node.class === 'PARAMETER') refuse('A parameter (? or $1)');
    if (node.type === 'TABLE_FUNCTION') this.#checkTableFunction(node.function as Node, refuse);
    if (['SHOW_REF', 'COLUMN_DATA', 'DELIM_GET', 'BOUND_TABLE_REF'].includes(String(node.type))) refuse('DESCRIBE, SHOW or SUMMARIZE');
  }

  #checkTableFunction(call: Node, refuse: (what: string) => never): void {
    const name = String(call.function_name ?? '').toLowerCase();
    if (!ALLOWED_TABLE_FUNCTIONS.has(name)) refuse(`The table function ${name}`);
    // Its own call node would be refused as a scalar function otherwise.
    call.class = 'ALLOWED_TABLE_FUNCTION';
  }

  /** Undefined where the parser keeps no place, as for parameters. */
  #position(node: Node): number | undefined {
    const bytes = node.query_location;
    return typeof bytes === 'number' && bytes < Number.MAX_SAFE_INTEGER ? this.offset(bytes) : undefined;
  }
}

function isRecursive(cte: Node): boolean {
  return ((cte.query as Node | undefined)?.node as Node | undefined)?.type === 'RECURSIVE_CTE_NODE';
}

function isCall(node: Node, name: string): boolean {
  return String((node.function as Node).function_name ?? '').toLowerCase() === name;
}

/** A constant, or a list of them, as JavaScript has it; undefined for anything else. */
function constantValue(node: Node): unknown {
  if (node.class === 'CONSTANT') {
    const { value, type } = node.value as { value?: unknown; type?: { id?: string } };
    if (type?.id === 'BOOLEAN') return value === true || value === 'true';
    return typeof value === 'bigint' ? Number(value) : value;
  }
  // The parser has TRUE and FALSE as casts of a text.
  if (node.class === 'CAST') {
    const inner = constantValue(node.child as Node);
    return inner === 't' ? true : inner === 'f' ? false : inner;
  }
  if (node.class !== 'FUNCTION' || node.function_name !== 'list_value') return undefined;
  const items = ((node.children as Node[] | undefined) ?? []).map(constantValue);
  return items.includes(undefined) ? undefined : items;
}

/** The text of a constant, through casts like `TIMESTAMP '…'`. */
function constantOf(expression: Node): string | undefined {
  if (expression.class === 'CAST') return constantOf(expression.child as Node);
  if (expression.class !== 'CONSTANT') return undefined;
  const value = (expression.value as { value?: unknown }).value;
  return value === undefined ? undefined : String(value);
}

function closing(tokens: Token[], open: number): number {
  let depth = 0;
  for (let i = open; i < tokens.length; i++) {
    if (tokens[i]!.text === '(') depth++;
    if (tokens[i]!.text === ')' && --depth === 0) return i;
  }
  return tokens.length - 1;
}

/** Gives each blanked clause to the table right before it, whose name or alias it follows. */
function attachClauses(references: TableReference[], clauses: { start: number; end: number; asOf: { asOf: AsOf; position: number } }[], tokens: Token[]): void {
  for (const clause of clauses) {
    const before = tokens.findLast((token) => token.end <= clause.start);
    const owner = references.find((each) => each.end === before?.end) ?? references.find((each) => aliasEnd(each, tokens) === before?.end);
    if (!owner) throw new LakeError('bad-request', 'FOR SYSTEM_… AS OF must stand right after a table of the catalog.', { position: clause.start });
    if (owner.asOf.kind !== 'latest') throw new LakeError('bad-request', `${owner.name.join('.')} is asked for at two states at once.`, { position: clause.start });
    owner.asOf = clause.asOf.asOf;
  }
}

function aliasEnd(reference: TableReference, tokens: Token[]): number | undefined {
  const next = tokens.findIndex((token) => token.start >= reference.end);
  const alias = isWord(tokens[next], 'AS') ? tokens[next + 1] : tokens[next];
  return reference.alias && alias && nameOf(alias) === reference.alias ? alias.end : undefined;
}
