/** Changes of a table's columns, made on the log's own JSON so that everything else in it stays (Delta protocol, "Column Mapping"). */
import { LakeError } from '../errors';
import type { Field } from '../schema/types';
import type { Ids } from '../storage/object-store';
import type { Metadata } from './actions';
import { COLUMN_ID, fieldJson, mappingMode, PHYSICAL_NAME, schemaJson, type FieldJson, type StructJson, type TypeJson } from './schema';

const MAX_COLUMN_ID = 'delta.columnMapping.maxColumnId';

/** The metadata with other columns; `edit` may change the struct that it is given. */
function edited(metadata: Metadata, table: string, edit: (struct: StructJson) => void): Metadata {
  const struct = schemaJson(metadata.schemaString, table);
  edit(struct);
  return { ...metadata, schemaString: JSON.stringify(struct) };
}

/** `within`: dotted path of the struct that they are added to; the table's columns where absent. */
export function withNewColumns(metadata: Metadata, table: string, columns: readonly Field[], ids: Ids, within?: string): Metadata {
  const isMapped = mappingMode(metadata.configuration, table) !== 'none';
  const counter = { next: Number(metadata.configuration[MAX_COLUMN_ID] ?? 0) + 1 };
  const added = edited(metadata, table, (whole) => {
    const struct = within === undefined ? whole : structAt(whole, within, table);
    for (const column of columns) {
      if (find(struct, column.name)) throw new LakeError('bad-request', `${table} has a column "${column.name}" already.`, { table });
      if (column.required) throw new LakeError('bad-request', `A new column must allow nulls, since older rows of ${table} have none for "${column.name}".`);
      struct.fields.push(isMapped ? numbered(fieldJson(column), counter, (_, id) => `col-${ids.uuid()}-${id}`) : fieldJson(column));
    }
  });
  return isMapped ? { ...added, configuration: { ...added.configuration, [MAX_COLUMN_ID]: String(counter.next - 1) } } : added;
}

/** Needs column mapping, without which the name in files would be lost. */
export function withRenamedColumn(metadata: Metadata, table: string, from: string, to: string): Metadata {
  needMapping(metadata, table, `Renaming "${from}"`);
  const renamed = edited(metadata, table, (whole) => {
    const { parent, column } = mustFind(whole, from, table);
    const other = find(parent, to);
    if (other && other !== column) throw new LakeError('bad-request', `${table} has a column "${to}" already.`, { table });
    column.name = to;
  });
  return { ...renamed, partitionColumns: metadata.partitionColumns.map((name) => (name.toLowerCase() === from.toLowerCase() ? to : name)) };
}

export function withoutColumn(metadata: Metadata, table: string, name: string): Metadata {
  needMapping(metadata, table, `Dropping "${name}"`);
  if (metadata.partitionColumns.some((each) => each.toLowerCase() === name.toLowerCase())) throw new LakeError('bad-request', `${table} is partitioned by "${name}", so it cannot be dropped.`, { table });
  return edited(metadata, table, (whole) => {
    const { parent, column } = mustFind(whole, name, table);
    if (parent.fields.length === 1) throw new LakeError('bad-request', `"${name}" is the only column of ${parent === whole ? table : 'its struct'}, so it cannot be dropped.`, { table });
    parent.fields.splice(parent.fields.indexOf(column), 1);
  });
}

/** To the front where `after` is null; files need not change, since columns are found by name. */
export function withMovedColumn(metadata: Metadata, table: string, name: string, after: string | null): Metadata {
  return edited(metadata, table, (whole) => {
    const { parent, column } = mustFind(whole, name, table);
    const before = after === null ? undefined : mustFind(parent, after, table).column;
    parent.fields.splice(parent.fields.indexOf(column), 1);
    parent.fields.splice(before ? parent.fields.indexOf(before) + 1 : 0, 0, column);
  });
}

/** A comment of null takes it away. */
export function withChangedColumn(metadata: Metadata, table: string, name: string, change: { optional?: true; comment?: string | null }): Metadata {
  return edited(metadata, table, (struct) => {
    const { column } = mustFind(struct, name, table);
    if (change.optional) column.nullable = true;
    if (change.comment === undefined) return;
    const { comment: _, ...rest } = column.metadata ?? {};
    column.metadata = change.comment === null ? rest : { ...rest, comment: change.comment };
  });
}

/** Needs type widening, so that readers know that older files hold the narrower type ("Type Widening", "delta.typeChanges"). */
export function withWidenedColumn(metadata: Metadata, table: string, name: string, to: TypeJson): Metadata {
  if (metadata.configuration['delta.enableTypeWidening'] !== 'true') {
    throw new LakeError('refused', `Widening "${name}" of ${table} needs type widening, which is off. Nothing was changed.`, { table, hint: 'Set the property delta.enableTypeWidening to true first; no file is rewritten.' });
  }
  return edited(metadata, table, (struct) => {
    const { column } = mustFind(struct, name, table);
    if (typeof column.type !== 'string' || typeof to !== 'string' || !isWidening(column.type, to)) throw new LakeError('bad-request', `"${name}" of ${table} is ${JSON.stringify(column.type)}, which cannot become ${JSON.stringify(to)} without rewriting files.`, { table, hint: 'Whole numbers may become longer or doubles, floats doubles, decimals wider, dates timestamps without zone.' });
    const before = (column.metadata?.['delta.typeChanges'] ?? []) as unknown[];
    column.metadata = { ...column.metadata, 'delta.typeChanges': [...before, { fromType: column.type, toType: to }] };
    column.type = to;
  });
}

const WHOLE = ['byte', 'short', 'integer', 'long'];

/** Delta protocol, "Type Widening": the changes that are supported. */
function isWidening(from: string, to: string): boolean {
  const [a, b] = [from, to].map((text) => /^decimal\((\d+),\s*(\d+)\)$/.exec(text)?.slice(1).map(Number));
  if (a && b) return b[1]! >= a[1]! && b[0]! - b[1]! >= a[0]! - a[1]! && from !== to;
  if (WHOLE.includes(from)) {
    if (WHOLE.includes(to)) return WHOLE.indexOf(to) > WHOLE.indexOf(from);
    if (b) return b[0]! - b[1]! >= (from === 'long' ? 20 : 10);
    return to === 'double' && from !== 'long';
  }
  return (from === 'float' && to === 'double') || (from === 'date' && to === 'timestamp_ntz');
}

/** Turns column mapping on: columns keep their names in the files that exist, and get ids above `afterId` ("Column Mapping", writer requirements). */
export function withMapping(metadata: Metadata, table: string, mode: 'name' | 'id', hasFiles: boolean, ids: Ids, afterId = 0): Metadata {
  if (mappingMode(metadata.configuration, table) !== 'none') return metadata;
  if (mode === 'id' && hasFiles) throw new LakeError('bad-request', `${table} has files without column ids; map its columns by name (delta.columnMapping.mode = name).`, { table });
  const counter = { next: afterId + 1 };
  const mapped = edited(metadata, table, (struct) => {
    struct.fields = struct.fields.map((each) => numbered(each, counter, (name, id) => (hasFiles ? name : `col-${ids.uuid()}-${id}`)));
  });
  return { ...mapped, configuration: { ...mapped.configuration, 'delta.columnMapping.mode': mode, [MAX_COLUMN_ID]: String(counter.next - 1) } };
}

function numbered(column: FieldJson, counter: { next: number }, physical: (name: string, id: number) => string): FieldJson {
  const id = counter.next++;
  return { ...column, type: numberedType(column.type, counter, physical), metadata: { ...column.metadata, [COLUMN_ID]: id, [PHYSICAL_NAME]: physical(column.name, id) } };
}

function numberedType(type: TypeJson, counter: { next: number }, physical: (name: string, id: number) => string): TypeJson {
  if (typeof type === 'string') return type;
  switch (type.type) {
    case 'struct':
      return { ...type, fields: type.fields.map((each) => numbered(each, counter, physical)) };
    case 'array':
      return { ...type, elementType: numberedType(type.elementType, counter, physical) };
    case 'map':
      return { ...type, keyType: numberedType(type.keyType, counter, physical), valueType: numberedType(type.valueType, counter, physical) };
  }
}

function needMapping({ configuration }: Metadata, table: string, what: string): void {
  if (mappingMode(configuration, table) !== 'none') return;
  throw new LakeError('refused', `${what} of ${table} needs column mapping, which is off. Nothing was changed.`, { table, hint: "Set the property delta.columnMapping.mode to name first; no file is rewritten." });
}

function find(struct: StructJson, name: string): FieldJson | undefined {
  return struct.fields.find((each) => each.name.toLowerCase() === name.toLowerCase());
}

/** The column at a dotted path, and the struct that it is in; a name with dots of its own comes first. */
function mustFind(struct: StructJson, path: string, table: string): { parent: StructJson; column: FieldJson } {
  const column = find(struct, path);
  if (column) return { parent: struct, column };
  const cut = path.indexOf('.');
  const outer = cut < 0 ? undefined : find(struct, path.slice(0, cut));
  if (outer && typeof outer.type !== 'string' && outer.type.type === 'struct') return mustFind(outer.type, path.slice(cut + 1), table);
  throw new LakeError('bad-request', `${table} has no column "${path}".`, { table, hint: `${cut < 0 ? 'Its columns are' : 'There are'} ${struct.fields.map((each) => each.name).join(', ')}.` });
}

function structAt(whole: StructJson, path: string, table: string): StructJson {
  const { column } = mustFind(whole, path, table);
  if (typeof column.type !== 'string' && column.type.type === 'struct') return column.type;
  throw new LakeError('bad-request', `"${path}" of ${table} is no struct, so no column can be added inside it.`, { table });
}
