/** The SQL standard's time travel clauses, which the engine's grammar lacks: found by token and blanked out, so that positions stay. */
import { LakeError } from '../errors';
import { asOfName, asOfNumber, asOfTime, type AsOfClause } from './as-of';
import { isWord, tokenize, type Token } from './tokens';

export interface Blanked {
  /** The SQL with each clause replaced by spaces. */
  sql: string;
  clauses: { start: number; end: number; asOf: AsOfClause }[];
}

/** Blanks `FOR SYSTEM_VERSION AS OF n | 'branch'` and `FOR SYSTEM_TIME AS OF [TIMESTAMP] '…'`. */
export function blankTimeTravel(sql: string): Blanked {
  const tokens = tokenize(sql);
  const clauses: Blanked['clauses'] = [];
  for (let i = 0; i < tokens.length; i++) {
    if (!isWord(tokens[i], 'FOR')) continue;
    const kind = ['SYSTEM_VERSION', 'SYSTEM_TIME'].find((word) => isWord(tokens[i + 1], word));
    if (!kind || !isWord(tokens[i + 2], 'AS') || !isWord(tokens[i + 3], 'OF')) continue;
    const { asOf, next } = kind === 'SYSTEM_VERSION' ? versionAt(tokens, i + 4) : timeAt(tokens, i + 4);
    clauses.push({ start: tokens[i]!.start, end: tokens[next - 1]!.end, asOf });
    i = next - 1;
  }
  const blanked = clauses.reduce((text, { start, end }) => text.slice(0, start) + ' '.repeat(end - start) + text.slice(end), sql);
  return { sql: blanked, clauses };
}

function versionAt(tokens: Token[], at: number): { asOf: AsOfClause; next: number } {
  const token = tokens[at];
  if (token?.kind === 'string') return { asOf: asOfName(token.text.slice(1, -1).replaceAll("''", "'"), token.start), next: at + 1 };
  if (token?.kind !== 'number') throw misplaced(token, tokens, "a version number, a snapshot id, or a branch or tag in quotes, after FOR SYSTEM_VERSION AS OF");
  return { asOf: asOfNumber(token.text, token.start), next: at + 1 };
}

function timeAt(tokens: Token[], at: number): { asOf: AsOfClause; next: number } {
  const typed = ['TIMESTAMP', 'TIMESTAMPTZ', 'DATE'].some((word) => isWord(tokens[at], word));
  const token = tokens[typed ? at + 1 : at];
  if (token?.kind !== 'string') throw misplaced(token, tokens, "a time in quotes after FOR SYSTEM_TIME AS OF, as in TIMESTAMP '2026-03-14 06:00'");
  return { asOf: asOfTime(token.text.slice(1, -1), token.start), next: typed ? at + 2 : at + 1 };
}

function misplaced(token: Token | undefined, tokens: Token[], expected: string): LakeError {
  const position = token?.start ?? tokens.at(-1)!.end;
  return new LakeError('bad-request', `Expected ${expected}, found ${token ? `"${token.text}"` : 'the end of the query'}.`, { position });
}
