/** Splits SQL into tokens, enough to find clauses without ever mistaking text inside strings or comments for SQL. */
export interface Token {
  kind: 'word' | 'quoted' | 'string' | 'number' | 'mark';
  text: string;
  /** Zero-based offset of its first character. */
  start: number;
  /** Offset after its last character. */
  end: number;
}

const PATTERNS: [Token['kind'] | 'skip', RegExp][] = [
  ['skip', /\s+|--[^\n]*/y],
  ['string', /[eE]'(?:[^'\\]|''|\\[\s\S])*(?:'|$)|'(?:[^']|'')*(?:'|$)|\$([\p{L}_][\p{L}\p{N}_]*)?\$[\s\S]*?(?:\$\1\$|$)/uy],
  ['quoted', /"(?:[^"]|"")*(?:"|$)/y],
  ['number', /\d[\d_]*(?:\.\d*)?(?:[eE][+-]?\d+)?|\.\d+(?:[eE][+-]?\d+)?/y],
  ['word', /[\p{L}_][\p{L}\p{N}_$]*/uy],
  ['mark', /::|=>|->>|->|<>|!=|<=|>=|\|\||[\s\S]/uy],
];

export function tokenize(sql: string): Token[] {
  const tokens: Token[] = [];
  let at = 0;
  while (at < sql.length) {
    const comment = commentEnd(sql, at);
    if (comment > at) {
      at = comment;
      continue;
    }
    for (const [kind, pattern] of PATTERNS) {
      pattern.lastIndex = at;
      const text = pattern.exec(sql)?.[0];
      if (!text) continue;
      if (kind !== 'skip') tokens.push({ kind, text, start: at, end: at + text.length });
      at += text.length;
      break;
    }
  }
  return tokens;
}

/** The end of a comment between slashes and stars, which may hold others; `at` where there is none. */
function commentEnd(sql: string, at: number): number {
  if (!sql.startsWith('/*', at)) return at;
  let depth = 0;
  for (let i = at; i < sql.length; i++) {
    if (sql.startsWith('/*', i)) depth++;
    else if (sql.startsWith('*/', i)) depth--;
    else continue;
    i++;
    if (depth === 0) return i + 1;
  }
  return sql.length;
}

export function isWord(token: Token | undefined, word: string): boolean {
  return token?.kind === 'word' && token.text.toUpperCase() === word;
}

/** The name that a word or quoted token stands for. */
export function nameOf(token: Token): string {
  return token.kind === 'quoted' ? token.text.slice(1, -1).replaceAll('""', '"') : token.text;
}

export function quoteName(name: string): string {
  return `"${name.replaceAll('"', '""')}"`;
}

/** A name as SQL reads it, quoted only where it must be. */
export function nameAsSql(name: string): string {
  return /^[a-z_][a-z0-9_]*$/i.test(name) ? name : quoteName(name);
}

export function quoteText(text: string): string {
  return `'${text.replaceAll("'", "''")}'`;
}

/** Turns offsets counted in UTF-8 bytes, as the engine gives them, into offsets in characters of the text. */
export function byteOffsets(sql: string): (bytes: number) => number {
  // eslint-disable-next-line no-control-regex
  if (/^[\x00-\x7f]*$/.test(sql)) return (bytes) => bytes;
  const starts = new Map<number, number>();
  let bytes = 0;
  let at = 0;
  for (const point of sql) {
    starts.set(bytes, at);
    bytes += new TextEncoder().encode(point).length;
    at += point.length;
  }
  starts.set(bytes, at);
  return (offset) => starts.get(offset) ?? at;
}
