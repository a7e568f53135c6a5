/** How a data file's columns become the table's, where field ids alone do not say it (specification, "Column Projection", "Name Mapping"). */
import { LakeError } from '../errors';
import { parseJson } from '../json';
import type { FileColumns } from '../scan/plan';
import { isNested, type Field, type LogicalType } from '../schema/types';
import type { TableMetadata } from './metadata';
import type { FileColumn } from './ports';
import { children, parseSchema } from './schema';

export const NAME_MAPPING = 'schema.name-mapping.default';

interface MappedField {
  'field-id'?: number;
  names: string[];
  fields?: MappedField[];
}

export class ColumnMatcher {
  readonly #mapping: MappedField[] | undefined;
  readonly #known = new Map<string, FileColumns | undefined>();
  /** Whether files must be looked into to know their columns. */
  readonly looksIntoFiles: boolean;

  constructor(
    metadata: TableMetadata,
    readonly fields: readonly Field[],
    readonly table: string,
  ) {
    const text = metadata.properties?.[NAME_MAPPING];
    this.#mapping = text === undefined ? undefined : parseMapping(text, table);
    this.looksIntoFiles = this.#mapping !== undefined || hasMovedNames(metadata, table);
  }

  /** Undefined where the engine finds all columns by their field ids. `missing`: identity partitions may stand in for those. */
  of(file: readonly FileColumn[]): FileColumns | undefined {
    const key = JSON.stringify(file);
    if (this.#known.has(key)) return this.#known.get(key);
    const hasIds = holdsIds(file);
    const mapped = hasIds ? file : withIds(file, this.#mapping ?? []);
    // Files with ids and names as now are read by id, which is faster.
    const found = hasIds && isAsNow(this.fields, file) ? undefined : { key: `c${this.#known.size}`, fields: this.fields.map((field) => placed(field, mapped)) };
    this.#known.set(key, found);
    return found;
  }
}

/** A name that no column of a file has. */
const NOWHERE = '\u0001nowhere ';

/** Whether a column of `FileColumns` is not in the file. */
export function isMissing(field: Field): boolean {
  return field.physical?.startsWith(NOWHERE) ?? false;
}

function placed(field: Field, columns: readonly FileColumn[]): Field {
  const found = columns.find((column) => column.id === field.id);
  if (!found) return { ...field, physical: `${NOWHERE}${field.id}` };
  return { ...field, physical: found.name, type: placedType(field.type, found) };
}

function placedType(type: LogicalType, { children: inner }: FileColumn): LogicalType {
  switch (type.kind) {
    case 'struct':
      return { ...type, fields: type.fields.map((each) => placed(each, inner)) };
    case 'list': {
      // Parquet keeps a list as a group with one repeated group in it.
      const element = inner[0]?.children[0] ?? inner[0];
      return element ? { ...type, element: { ...type.element, type: placedType(type.element.type, element) } } : type;
    }
    case 'map': {
      const [key, value] = inner[0]?.children ?? [];
      return key && value ? { ...type, key: { ...type.key, type: placedType(type.key.type, key) }, value: { ...type.value, type: placedType(type.value.type, value) } } : type;
    }
    default:
      return type;
  }
}

function holdsIds(columns: readonly FileColumn[]): boolean {
  return columns.some((column) => column.id !== undefined || holdsIds(column.children));
}

/** Whether everything inside the columns has the name that it has now. */
function isAsNow(fields: readonly Field[], columns: readonly FileColumn[]): boolean {
  return fields.every((field) => {
    const found = columns.find((column) => column.id === field.id);
    return !found || !isNested(field.type) || sameInside(field.type, found);
  });
}

function sameInside(type: LogicalType, column: FileColumn): boolean {
  const placedNow = placedType(type, column);
  return JSON.stringify(namesIn(placedNow, true)) === JSON.stringify(namesIn(placedNow, false));
}

function namesIn(type: LogicalType, physical: boolean): unknown {
  if (!isNested(type)) return null;
  return children(type).map((field) => [type.kind === 'struct' ? (physical ? (field.physical ?? field.name) : field.name) : '', namesIn(field.type, physical)]);
}

function withIds(columns: readonly FileColumn[], mapping: readonly MappedField[]): FileColumn[] {
  return columns.map((column) => {
    const mapped = mapping.find((each) => each.names.includes(column.name));
    const id = mapped?.['field-id'];
    return { name: column.name, ...(id === undefined ? {} : { id }), children: nestedIds(column.children, mapped?.fields ?? []) };
  });
}

/** Names inside lists and maps are `element`, `key` and `value`, whatever the groups between are called. */
function nestedIds(columns: readonly FileColumn[], mapping: readonly MappedField[]): FileColumn[] {
  const isGroup = mapping.length > 0 && columns.length === 1 && !mapping.some((each) => each.names.includes(columns[0]!.name));
  return isGroup ? columns.map((column) => ({ ...column, children: withIds(column.children, mapping) })) : withIds(columns, mapping);
}

function parseMapping(text: string, table: string): MappedField[] {
  try {
    const mapping = parseJson(text);
    const isField = (each: unknown): boolean => typeof each === 'object' && each !== null && Array.isArray((each as MappedField).names) && ((each as MappedField).fields ?? []).every(isField);
    if (Array.isArray(mapping) && mapping.every(isField)) return mapping as MappedField[];
  } catch {
    // Told below.
  }
  throw new LakeError('bad-file', `${table}: its property ${NAME_MAPPING} is no name mapping.`, { table });
}

/** The mapping of columns as they are named now. */
export function nameMappingOf(fields: readonly Field[]): string {
  const map = (each: readonly Field[]): MappedField[] => each.map((field) => ({ 'field-id': field.id!, names: [field.name], ...(isNested(field.type) ? { fields: map(children(field.type)) } : {}) }));
  return JSON.stringify(map(fields));
}

/** Whether a field inside another ever had another name, or its name was another field's: the engine finds those by name alone. */
function hasMovedNames(metadata: TableMetadata, table: string): boolean {
  if (metadata.schemas.length < 2) return false;
  const names = new Map<number, string>();
  const ids = new Map<string, number>();
  let moved = false;
  const note = (fields: readonly Field[], parent: number | undefined): void => {
    for (const field of fields) {
      if (parent !== undefined) {
        const key = `${parent} ${field.name}`;
        if ((names.get(field.id!) ?? field.name) !== field.name || (ids.get(key) ?? field.id) !== field.id) moved = true;
        names.set(field.id!, field.name);
        ids.set(key, field.id!);
      }
      if (isNested(field.type)) note(children(field.type), field.id);
    }
  };
  for (const schema of metadata.schemas) {
    try {
      note(parseSchema(schema, table).fields, undefined);
    } catch {
      // A former schema with types that are not supported; files that still have them are read by id.
    }
  }
  return moved;
}
