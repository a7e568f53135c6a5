/**
 * Two faults of the embedded engine's expression rewriter (1.5.5, and 1.5.6 too), found by comparing answers with and
 * without it: `date_trunc('week', t) <> …` gives rows whose `t` is null, and `(x IS DISTINCT FROM a) OR (x = b)` gives none
 * where every `x` is null. Queries that could meet them run without the rewriter; all others keep it, since it folds
 * constants that files are skipped by.
 */
import { isWord, tokenize } from '../../core/sql/tokens';

const TRUNCATING = new Set(['date_trunc', 'datetrunc']);

export function meetsRewriterFault(sql: string): boolean {
  return tokenize(sql).some((token, index, tokens) => TRUNCATING.has(token.text.toLowerCase().replaceAll('"', '')) || (isWord(token, 'DISTINCT') && isWord(tokens[index + 1], 'FROM')));
}

/** Optimizers that a statement runs without, beside the given ones. */
export function disabledOptimizers(sql: string, others: readonly string[] = []): string {
  return [...others, ...(meetsRewriterFault(sql) ? ['expression_rewriter'] : [])].join(',');
}

/** The statement that sets them, before an instance is sealed; nothing where all may run. */
export function optimizerSettings(sql: string): string[] {
  const disabled = disabledOptimizers(sql);
  return disabled === '' ? [] : [`SET disabled_optimizers = '${disabled}'`];
}
