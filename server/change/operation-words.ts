/** What a commit says of the statement that made it, by the names that other writers use (common practice). */
import type { ChangeStatement, MergeClause, Range } from '../../core/sql/change';

export function parametersOf(statement: ChangeStatement, sql: string, partitionColumns: readonly string[]): Record<string, unknown> {
  const text = ({ start, end }: Range) => sql.slice(start, end).trim();
  switch (statement.kind) {
    case 'insert':
      return { mode: 'Append', partitionBy: JSON.stringify(partitionColumns) };
    case 'replace':
      return {
        mode: 'Overwrite', partitionBy: JSON.stringify(partitionColumns),
        ...(statement.what.kind === 'rows' ? { predicate: text(statement.what.where) } : statement.what.kind === 'partitions' ? { partitionOverwriteMode: 'dynamic' } : {}),
      };
    case 'update':
      return { predicate: JSON.stringify(statement.where ? [text(statement.where)] : []) };
    case 'delete':
      return { predicate: JSON.stringify(statement.where ? [text(statement.where)] : []) };
    case 'merge': {
      const clauses = (when: MergeClause['when']) => JSON.stringify(statement.clauses.filter((clause) => clause.when === when).map((clause) => ({ actionType: clause.action.kind, ...(clause.condition ? { predicate: text(clause.condition) } : {}) })));
      return { predicate: JSON.stringify([text(statement.on)]), matchedPredicates: clauses('matched'), notMatchedPredicates: clauses('not-matched'), notMatchedBySourcePredicates: clauses('not-matched-by-source') };
    }
  }
}
