/**
 * Field ids that Parquet files hold already. A table that is made over such files must use the same ones: readers look
 * for columns by id wherever a file has any, and by name only in files without (specification, "Column Projection").
 */
import { isNested, physicalName, type Field } from '../schema/types';
import type { FileColumn } from './ports';
import { children, withChildren } from './schema';

export interface IdConflict {
  /** Dotted name, or the id that two columns share. */
  column: string;
  why: string;
}

export interface FieldsWithIds {
  fields: Field[];
  /** The highest id of any column of any file, and of the fields. */
  lastId: number;
  conflicts: IdConflict[];
}

/**
 * The fields with the ids that files give them, or that they have themselves; new ids, above all that any file has, for
 * the others. `shapes` are the columns of each file. Undefined where no file has an id, so that any ids will do.
 */
export function withIdsOfFiles(fields: readonly Field[], shapes: readonly (readonly FileColumn[])[]): FieldsWithIds | undefined {
  const distinct = new Map(shapes.map((shape) => [JSON.stringify(shape), shape]));
  const withIds = [...distinct.values()].filter((shape) => highest(shape) > 0);
  if (withIds.length === 0) return undefined;
  const conflicts: IdConflict[] = [];
  let last = Math.max(...withIds.map(highest), ...allIds(fields));
  const used = new Map<number, string>();
  const give = (field: Field, among: readonly (readonly FileColumn[])[], before: string): Field => {
    const column = `${before}${field.name}`;
    const found = among.flatMap((columns) => columns.filter((each) => (field.id !== undefined && each.id === field.id) || each.name === physicalName(field)).slice(0, 1));
    const ids = new Set(found.map((each) => each.id));
    const id = field.id ?? [...ids].find((each) => each !== undefined) ?? ++last;
    if (ids.has(undefined)) conflicts.push({ column, why: 'files that have ids for other columns have none for it' });
    else if ([...ids].some((each) => each !== id)) conflicts.push({ column, why: `its id is ${[...new Set([id, ...ids])].join(' or ')}, which differs from file to file` });
    if (used.has(id)) conflicts.push({ column, why: `it has the id ${id}, as ${used.get(id)!} has` });
    used.set(id, column);
    if (!isNested(field.type)) return { ...field, id };
    const { type } = field;
    const inside = found.map((each) => (type.kind === 'struct' ? each.children : inGroup(each, children(type))));
    return { ...field, id, type: withChildren(type, children(type).map((each) => give(each, inside, `${column}.`))) };
  };
  const given = fields.map((field) => give(field, withIds, ''));
  return { fields: given, lastId: last, conflicts };
}

/** Parquet keeps lists and maps as a group with one repeated group in it; what is inside goes by its place. */
function inGroup(column: FileColumn, fields: readonly Field[]): FileColumn[] {
  const [group] = column.children;
  const inner = fields.length === 1 && group?.children.length === 0 ? [group] : (group?.children ?? []);
  return fields.flatMap((field, index) => (inner[index] ? [{ ...inner[index], name: physicalName(field) }] : []));
}

function highest(columns: readonly FileColumn[]): number {
  return Math.max(0, ...columns.map((each) => Math.max(each.id ?? 0, highest(each.children))));
}

function allIds(fields: readonly Field[]): number[] {
  return fields.flatMap((field) => [field.id ?? 0, ...(isNested(field.type) ? allIds(children(field.type)) : [])]);
}
