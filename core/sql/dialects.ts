/**
 * SQL of views in the dialects of other engines. Only what means the same in both is taken over: names are quoted anew, and
 * a text with anything whose meaning is known to differ, or is not known, is said to be none that can be translated. Which
 * functions and operators agree is common practice, tried by hand; no text is guessed at.
 */
import { tokenize, type Token } from './tokens';

/** What our own SQL is called among the representations of a view. */
export const OWN_DIALECT = 'kind-harbor';

interface Dialect {
  /** Names stand between backticks, and texts may stand between double quotes. */
  backticks: boolean;
  /** Dividing whole numbers gives a whole number. */
  wholeDivision: boolean;
  /** Nulls come first where an ascending order says nothing of them. */
  nullsFirst: boolean;
  /** TIMESTAMP is a point in time. */
  zonedTimestamp: boolean;
}

const ANSI: Dialect = { backticks: false, wholeDivision: true, nullsFirst: true, zonedTimestamp: false };
const BACKTICKS: Dialect = { backticks: true, wholeDivision: false, nullsFirst: true, zonedTimestamp: true };
const DIALECTS: Record<string, Dialect> = {
  spark: BACKTICKS, sparksql: BACKTICKS, databricks: BACKTICKS, hive: { ...BACKTICKS, zonedTimestamp: false },
  trino: { ...ANSI, nullsFirst: false }, presto: { ...ANSI, nullsFirst: false },
};

/** In which our own views are offered. */
export const OFFERED_DIALECTS = ['spark', 'trino'];

/** Functions that give the same for the same in all of them. */
const SAME = new Set([
  'abs', 'avg', 'ceil', 'ceiling', 'coalesce', 'count', 'dense_rank', 'exp', 'floor', 'length', 'lower', 'max', 'min', 'mod', 'nullif', 'power', 'rank', 'round', 'row_number', 'sqrt', 'substr', 'substring', 'sum', 'trim', 'upper',
  'year', 'month', 'day', 'cast', 'exists', 'in', 'over', 'values',
]);
/** Words before a bracket that call nothing. */
const KEYWORDS = new Set([
  'select', 'from', 'where', 'and', 'or', 'not', 'on', 'using', 'when', 'then', 'else', 'by', 'having', 'as', 'with', 'union', 'all', 'intersect', 'except', 'join', 'distinct', 'between', 'like', 'is', 'case', 'limit', 'partition', 'any', 'decimal', 'varchar', 'char',
]);
/** Words of which every engine makes something else, or that some lack. */
const DIFFERENT = new Set(['lateral', 'qualify', 'rlike', 'ilike', 'regexp', 'similar', 'glob', 'div', 'interval', 'pivot', 'unpivot', 'tablesample', 'explode', 'unnest', 'array', 'map', 'struct', 'exclude', 'replace', 'asof', 'for', 'at', 'filter', 'grouping', 'rollup', 'cube', 'sets', 'recursive', 'offset', 'fetch', 'transform', 'window', 'positional', 'semi', 'anti', 'natural']);
const MARKS = new Set([',', '.', '(', ')', '=', '<>', '<', '>', '<=', '>=', '!=', '+', '-', '*', '||', ';']);
const TYPES = new Set(['int', 'integer', 'bigint', 'smallint', 'tinyint', 'double', 'boolean', 'date', 'varchar', 'string', 'decimal']);

export type Translated = { sql: string } | { problem: string };

/** `dialect`'s text as ours. One that nobody here knows is held to what all share. */
export function fromDialect(sql: string, dialect: string): Translated {
  const rules = DIALECTS[dialect.toLowerCase()] ?? ANSI;
  const quoted = rules.backticks ? requoted(sql) : { sql };
  return 'problem' in quoted ? quoted : checked(quoted.sql, rules);
}

/** Our text in another dialect. */
export function toDialect(sql: string, dialect: string): Translated {
  const rules = DIALECTS[dialect.toLowerCase()] ?? ANSI;
  const good = checked(sql, rules);
  if ('problem' in good || !rules.backticks) return good;
  const tokens = tokenize(good.sql);
  if (tokens.some(({ kind, text }) => kind === 'quoted' && text.includes('`'))) return { problem: 'a name with a backtick in it' };
  return { sql: replaced(good.sql, tokens, (token) => (token.kind === 'quoted' ? `\`${token.text.slice(1, -1).replaceAll('""', '"')}\`` : token.text)) };
}

/** Backticks as double quotes, and texts between double quotes as such between single ones. */
function requoted(sql: string): Translated {
  let out = '';
  for (let at = 0; at < sql.length;) {
    const quote = sql[at]!;
    if (quote !== '`' && quote !== '"' && quote !== "'") {
      out += quote;
      at++;
      continue;
    }
    const end = closing(sql, at);
    if (end < 0) return { problem: `a ${quote} without its end` };
    const inside = sql.slice(at + 1, end);
    if (quote !== '`' && inside.includes('\\')) return { problem: 'a text with a backslash' };
    out += quote === '`' ? `"${inside.replaceAll('``', '`').replaceAll('"', '""')}"` : quote === '"' ? `'${inside.replaceAll("'", "''")}'` : sql.slice(at, end + 1);
    at = end + 1;
  }
  return { sql: out };
}

function closing(sql: string, start: number): number {
  const quote = sql[start]!;
  for (let at = start + 1; at < sql.length; at++) {
    if (sql[at] !== quote) continue;
    if (sql[at + 1] !== quote) return at;
    at++;
  }
  return -1;
}

function checked(sql: string, rules: Dialect): Translated {
  const tokens = tokenize(sql);
  let cast = false;
  for (const [index, token] of tokens.entries()) {
    const next = tokens[index + 1];
    const word = token.text.toLowerCase();
    if (token.kind === 'string' && !/^'/.test(token.text)) return { problem: `the text ${token.text.slice(0, 20)}` };
    if (token.kind === 'quoted' && token.text.includes(':')) return { problem: `files by their path (${token.text})` };
    if (token.kind === 'mark' && token.text === '/' && !rules.wholeDivision) continue;
    if (token.kind === 'mark' && !MARKS.has(token.text)) return { problem: `"${token.text}"` };
    if (token.kind !== 'word') continue;
    if (DIFFERENT.has(word) && tokens[index - 1]?.text !== '.') return { problem: word.toUpperCase() };
    if (next?.text === '(' && !SAME.has(word) && !KEYWORDS.has(word)) return { problem: `the function ${word}` };
    if (word === 'cast') cast = true;
    if (cast && word === 'as') {
      const type = next?.text.toLowerCase() ?? '';
      if (!TYPES.has(type)) return { problem: `a cast to ${type}` };
      cast = false;
    }
  }
  const words = new Set(tokens.flatMap(({ kind, text }) => (kind === 'word' ? [text.toLowerCase()] : [])));
  // What comes first decides what is kept.
  if (words.has('order') && !words.has('nulls') && rules.nullsFirst && (words.has('limit') || words.has('over'))) return { problem: 'an order that says nothing of nulls and decides which rows are kept' };
  const last = tokens.at(-1);
  return { sql: last?.text === ';' ? sql.slice(0, last.start) : sql };
}

function replaced(sql: string, tokens: readonly Token[], textOf: (token: Token) => string): string {
  let out = '';
  let at = 0;
  for (const token of tokens) {
    out += sql.slice(at, token.start) + textOf(token);
    at = token.end;
  }
  return out + sql.slice(at);
}
