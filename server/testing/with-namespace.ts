import { tokenize } from '../../core/sql/tokens';

const CLAUSES = new Set(['where', 'group', 'order', 'on', 'join', 'left', 'right', 'full', 'inner', 'cross', 'union', 'limit', 'having', 'intersect', 'except', 'using', 'window']);

/** Names of tables, where they are not columns, with the namespace before them. */
export function withNamespace(sql: string, tables: readonly string[], nameOf: (table: string) => string): string {
  const known = new Set(tables);
  let result = '';
  let last = 0;
  const tokens = tokenize(sql).filter((token) => token.text.trim() !== '');
  // Whether names of tables stand here, by depth of brackets.
  const inFrom = [false];
  for (const [index, token] of tokens.entries()) {
    const word = token.text.toLowerCase();
    if (word === '(') inFrom.push(inFrom.at(-1)!);
    else if (word === ')') inFrom.pop();
    else if (word === 'from' || word === 'join') inFrom[inFrom.length - 1] = true;
    else if (['where', 'group', 'order', 'select', 'union', 'having'].includes(word)) inFrom[inFrom.length - 1] = false;
    if (!inFrom.at(-1) || !known.has(word) || tokens[index + 1]?.text === '.' || !['from', 'join', ',', '('].includes(tokens[index - 1]?.text.toLowerCase() ?? '')) continue;
    result += `${sql.slice(last, token.start)}${nameOf(word)} AS ${word}`;
    last = token.end;
    // An alias follows by itself.
    const next = tokens[index + 1]?.text.toLowerCase();
    const hasAlias = next !== undefined && (next === 'as' || (/^[a-z_][a-z0-9_]*$/.test(next) && !CLAUSES.has(next)));
    if (hasAlias) result = result.slice(0, -` AS ${word}`.length);
  }
  return result + sql.slice(last);
}
