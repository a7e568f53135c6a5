import type { ColumnPath, Predicate } from '../scan/predicate';
import { and, or, TRUE } from '../scan/predicate';
import { findField, physicalName, type Field } from '../schema/types';

/** The predicate with the names that columns have in files and statistics; what speaks of an unknown column counts as true. */
export function physicalPredicate(predicate: Predicate, fields: readonly Field[]): Predicate {
  if (predicate.op === 'true') return predicate;
  if ('args' in predicate) {
    const args = predicate.args.map((each) => physicalPredicate(each, fields));
    return predicate.op === 'and' ? and(args) : or(args);
  }
  const column = physicalPath(fields, predicate.column);
  return column ? { ...predicate, column } : TRUE;
}

function physicalPath(fields: readonly Field[], [first, ...rest]: ColumnPath): string[] | undefined {
  const found = first === undefined ? undefined : findField(fields, first);
  if (!found) return undefined;
  if (rest.length === 0) return [physicalName(found)];
  const inner = found.type.kind === 'struct' ? physicalPath(found.type.fields, rest) : undefined;
  return inner && [physicalName(found), ...inner];
}
