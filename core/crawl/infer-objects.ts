/** Columns of objects whose values are all text, as XML gives them: keys become columns, objects structs, lists lists. */
import { field, type Field, type LogicalType } from '../schema/types';
import { inferTextType } from './text-types';

/** In the order in which keys are met. A key that is one value here and a list there is a list. */
export function inferObjects(objects: readonly Record<string, unknown>[]): Field[] {
  const keys = [...new Set(objects.flatMap((each) => Object.keys(each)))];
  return keys.map((key) => field(key, typeOf(objects.map((each) => each[key]))));
}

function typeOf(values: readonly unknown[]): LogicalType {
  const present = values.filter((value) => value !== undefined && value !== null);
  if (present.some(Array.isArray)) return { kind: 'list', element: field('element', typeOf(present.flat())) };
  const objects = present.filter((value): value is Record<string, unknown> => typeof value === 'object');
  if (objects.length === 0) return inferTextType(present as string[]);
  // Text here and children there: both fit a struct whose own text is one of its fields.
  const texts = present.filter((value) => typeof value !== 'object').map((text) => ({ text }));
  return { kind: 'struct', fields: inferObjects([...objects, ...texts]) };
}
