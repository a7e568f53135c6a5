import type { Value } from '../values/value';

/** A column by its names from the top down: `['place', 'lat']`. */
export type ColumnPath = readonly string[];
export type Comparison = '=' | '!=' | '<' | '<=' | '>' | '>=';

/** What a query asks of one table's rows, as far as planning can use it. `true` stands for whatever it cannot. */
export type Predicate =
  | { op: 'true' }
  | { op: 'and' | 'or'; args: Predicate[] }
  | { op: 'compare'; column: ColumnPath; comparison: Comparison; value: Value }
  | { op: 'in'; column: ColumnPath; values: Value[] }
  | { op: 'prefix'; column: ColumnPath; prefix: string }
  | { op: 'null' | 'not-null'; column: ColumnPath };

export const TRUE: Predicate = { op: 'true' };

export function and(args: Predicate[]): Predicate {
  const useful = args.filter((arg) => arg.op !== 'true');
  return useful.length === 0 ? TRUE : useful.length === 1 ? useful[0]! : { op: 'and', args: useful };
}

export function or(args: Predicate[]): Predicate {
  if (args.length === 0 || args.some((arg) => arg.op === 'true')) return TRUE;
  return args.length === 1 ? args[0]! : { op: 'or', args };
}

/** The columns a predicate speaks of, each once, as dotted names. */
export function predicateColumns(predicate: Predicate): string[] {
  if (predicate.op === 'true') return [];
  if ('args' in predicate) return [...new Set(predicate.args.flatMap(predicateColumns))];
  return [predicate.column.join('.')];
}
