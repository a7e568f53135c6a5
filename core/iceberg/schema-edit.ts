/** Other columns for a table (specification, "Schema Evolution"), made on the schema's own JSON so that everything else in it stays. */
import { LakeError } from '../errors';
import type { Field, LogicalType } from '../schema/types';
import type { TableMetadata } from './metadata';
import { assignIds, fieldJson, parseType, typeJson, type FieldJson, type StructJson, type TypeJson } from './schema';

export interface EditedSchema {
  schema: StructJson;
  lastId: number;
}

/** A copy of the current schema, which `edit` may change. */
function edited(metadata: TableMetadata, edit: (schema: StructJson) => number | void): EditedSchema {
  const current = metadata.schemas.find((each) => (each['schema-id'] ?? 0) === metadata['current-schema-id'])!;
  const schema = structuredClone(current);
  const lastId = edit(schema) ?? metadata['last-column-id'];
  return { schema, lastId };
}

/** `within`: dotted path of the struct that they are added to; the table's columns where absent. */
export function withAddedColumns(metadata: TableMetadata, table: string, columns: readonly Field[], within?: string): EditedSchema {
  return edited(metadata, (schema) => {
    const place = within === undefined ? schema : structAt(schema, within, table);
    for (const column of columns) {
      if (find(place, column.name)) throw new LakeError('bad-request', `${table} has a column "${column.name}" already.`, { table });
      if (column.required && column.initialDefault === undefined) throw new LakeError('bad-request', `A new column must allow nulls, since older rows of ${table} have none for "${column.name}".`);
      if (column.initialDefault !== undefined && metadata['format-version'] < 3) throw new LakeError('bad-request', `A default for "${column.name}" needs format version 3; ${table} has ${metadata['format-version']}.`, { table });
    }
    const added = assignIds(columns, metadata['last-column-id']);
    place.fields.push(...added.fields.map(fieldJson));
    return added.lastId;
  });
}

export function withoutColumn(metadata: TableMetadata, table: string, name: string): EditedSchema {
  return edited(metadata, (schema) => {
    const { parent, field } = mustFind(schema, name, table);
    const spec = metadata['partition-specs'].find((each) => each['spec-id'] === metadata['default-spec-id']);
    const used = spec?.fields.find((each) => each['source-id'] === field.id && each.transform !== 'void');
    if (used) throw new LakeError('bad-request', `${table} is partitioned by "${name}" (${used.name}), so it cannot be dropped.`, { table, hint: 'Take the partition field away first.' });
    const order = metadata['sort-orders'].find((each) => each['order-id'] === metadata['default-sort-order-id']);
    if (order?.fields.some((each) => each['source-id'] === field.id)) throw new LakeError('bad-request', `${table} is sorted by "${name}", so it cannot be dropped.`, { table, hint: 'Set another sort order first.' });
    if (schema['identifier-field-ids']?.includes(field.id)) throw new LakeError('bad-request', `"${name}" is part of the key of ${table}, so it cannot be dropped.`, { table });
    if (parent.fields.length === 1) throw new LakeError('bad-request', `"${name}" is the only column there, so it cannot be dropped.`, { table });
    parent.fields.splice(parent.fields.indexOf(field), 1);
  });
}

/** `to` is the new name alone, without the path. */
export function withRenamedColumn(metadata: TableMetadata, table: string, name: string, to: string): EditedSchema {
  return edited(metadata, (schema) => {
    const { parent, field } = mustFind(schema, name, table);
    const other = find(parent, to);
    if (other && other !== field) throw new LakeError('bad-request', `${table} has a column "${to}" already.`, { table });
    field.name = to;
  });
}

/** To the front where `after` is null. */
export function withMovedColumn(metadata: TableMetadata, table: string, name: string, after: string | null): EditedSchema {
  return edited(metadata, (schema) => {
    const { parent, field } = mustFind(schema, name, table);
    parent.fields.splice(parent.fields.indexOf(field), 1);
    if (after === null) return void parent.fields.unshift(field);
    const place = find(parent, after);
    if (!place) throw new LakeError('bad-request', `${table} has no column "${after}" beside "${name}".`, { table });
    parent.fields.splice(parent.fields.indexOf(place) + 1, 0, field);
  });
}

/** The columns that tell rows apart; each must be required, of a primitive type and not a float ("Identifier Field IDs"). */
export function withKey(metadata: TableMetadata, table: string, columns: readonly string[]): EditedSchema {
  return edited(metadata, (schema) => {
    const ids = columns.map((name) => {
      const { field } = mustFind(schema, name, table);
      if (!field.required) throw new LakeError('bad-request', `"${name}" of ${table} may be null, so it cannot be part of the key.`, { table, hint: 'Columns of a key are NOT NULL.' });
      if (typeof field.type !== 'string' || field.type === 'float' || field.type === 'double') throw new LakeError('bad-request', `"${name}" of ${table} is ${typeName(field.type)}, which cannot be part of the key.`, { table });
      return field.id;
    });
    if (ids.length > 0) schema['identifier-field-ids'] = ids;
    else delete schema['identifier-field-ids'];
  });
}

/** Only to types that hold every value of the old one ("Schema Evolution"); from version 3 on a date may become a timestamp too. */
export function withWidenedColumn(metadata: TableMetadata, table: string, name: string, type: LogicalType): EditedSchema {
  return edited(metadata, (schema) => {
    const { field } = mustFind(schema, name, table);
    const from = parseType(field.type, table);
    if (!isWidening(from, type, metadata['format-version'])) throw new LakeError('bad-request', `"${name}" of ${table} is ${typeName(field.type)}, which cannot become ${typeName(typeJson(type))} without rewriting files.`, { table, hint: 'Whole numbers may become longer, floats doubles, decimals of the same scale wider.' });
    field.type = typeJson(type);
  });
}

export function withChangedColumn(metadata: TableMetadata, table: string, name: string, change: { optional?: true; comment?: string | null; writeDefault?: unknown }): EditedSchema {
  return edited(metadata, (schema) => {
    const { field } = mustFind(schema, name, table);
    if (change.optional) {
      if (schema['identifier-field-ids']?.includes(field.id)) throw new LakeError('bad-request', `"${name}" is part of the key of ${table}, so it must be required.`, { table });
      field.required = false;
    }
    if (change.comment === null) delete field.doc;
    else if (change.comment !== undefined) field.doc = change.comment;
  });
}

function isWidening(from: LogicalType, to: LogicalType, formatVersion: number): boolean {
  if (from.kind === 'int' && to.kind === 'long') return true;
  if (from.kind === 'float' && to.kind === 'double') return true;
  if (from.kind === 'decimal' && to.kind === 'decimal') return to.scale === from.scale && to.precision >= from.precision;
  return formatVersion >= 3 && from.kind === 'date' && (to.kind === 'timestamp' || to.kind === 'timestamp_ns');
}

function typeName(type: TypeJson): string {
  return typeof type === 'string' ? type : type.type;
}

type Struct = Pick<StructJson, 'fields'>;

function find(struct: Struct, name: string): FieldJson | undefined {
  return struct.fields.find((each) => each.name.toLowerCase() === name.toLowerCase());
}

/** A column by its name, or by a dotted path; what is inside lists and maps goes by `element`, `key` and `value`. */
function mustFind(schema: StructJson, path: string, table: string): { parent: Struct; field: FieldJson } {
  const whole = find(schema, path);
  if (whole) return { parent: schema, field: whole };
  const cut = path.lastIndexOf('.');
  const parent = cut < 0 ? schema : structAt(schema, path.slice(0, cut), table);
  const field = find(parent, path.slice(cut + 1));
  if (!field) throw new LakeError('bad-request', `${table} has no column "${path}".`, { table, hint: `It has ${parent.fields.map((each) => each.name).join(', ')}.` });
  return { parent, field };
}

function structAt(schema: StructJson, path: string, table: string): Struct {
  let type: TypeJson = schema;
  for (const step of path.split('.')) {
    const inner: TypeJson | undefined = typeof type === 'string' ? undefined
      : type.type === 'struct' ? find(type, step)?.type
        : type.type === 'list' ? (step === 'element' ? type.element : undefined)
          : step === 'key' ? type.key : step === 'value' ? type.value : undefined;
    if (inner === undefined) throw new LakeError('bad-request', `${table} has no column "${path}".`, { table });
    type = inner;
  }
  if (typeof type === 'string' || type.type !== 'struct') throw new LakeError('bad-request', `"${path}" of ${table} is no struct.`, { table });
  return type;
}
