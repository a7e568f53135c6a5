/** Tables as clients of the open REST catalog protocol describe them, as updates and metadata of ours. */
import { randomUUID } from 'node:crypto';
import type { TableMetadata } from '../../core/iceberg/metadata';
import { assignIds, children, parseSchema, schemaJson, type StructJson } from '../../core/iceberg/schema';
import { applyUpdates, type TableRequirement, type TableUpdate } from '../../core/iceberg/updates';
import { isNested, type Field } from '../../core/schema/types';
import { systemClock } from '../lake/lake';
import { badRequest } from './errors';

export interface CreateTable {
  name: string;
  location?: string;
  schema: StructJson;
  'partition-spec'?: { fields: SpecFieldGiven[] } | null;
  'write-order'?: { fields: OrderFieldGiven[] } | null;
  'stage-create': boolean;
  properties: Record<string, string>;
}

/** Some clients write the ids with underscores. */
interface SpecFieldGiven {
  'source-id'?: number;
  'source-ids'?: number[];
  source_id?: number;
  'field-id'?: number;
  name: string;
  transform: string;
}

interface OrderFieldGiven {
  'source-id'?: number;
  source_id?: number;
  transform: string;
  direction: 'asc' | 'desc';
  'null-order'?: 'nulls-first' | 'nulls-last';
  null_order?: 'nulls-first' | 'nulls-last';
}

export interface CommitTable {
  requirements: TableRequirement[];
  updates: TableUpdate[];
  /** Shorthands that some clients send in place of updates. */
  schema?: StructJson;
  'partition-spec'?: { fields: SpecFieldGiven[] };
  properties?: Record<string, string>;
}

const FORMAT_VERSION = 'format-version';

/** Ids of columns are given afresh; what names them follows. */
export function firstMetadata(request: CreateTable, location: string, table: string): TableMetadata {
  const { [FORMAT_VERSION]: wanted, ...properties } = request.properties;
  const formatVersion = wanted === undefined ? 2 : Number(wanted);
  if (![2, 3].includes(formatVersion)) throw badRequest(`The format version ${wanted} cannot be made; 2 and 3 can.`);
  const given = parseSchema(request.schema, table);
  const { fields } = assignIds(given.fields, 0);
  const ids = new Map<number, number>();
  pairIds(given.fields, fields, ids);
  const idOf = (id: number | undefined) => {
    const found = id === undefined ? undefined : ids.get(id);
    if (found === undefined) throw badRequest(`${table}: there is no column with the id ${id}.`);
    return found;
  };
  const schema: StructJson = { ...schemaJson({ id: 0, fields }), ...(request.schema['identifier-field-ids'] ? { 'identifier-field-ids': request.schema['identifier-field-ids'].map(idOf) } : {}) };
  const updates: TableUpdate[] = [
    { action: 'assign-uuid', uuid: randomUUID() },
    { action: 'upgrade-format-version', 'format-version': formatVersion },
    { action: 'add-schema', schema }, { action: 'set-current-schema', 'schema-id': -1 },
    { action: 'add-spec', spec: { fields: (request['partition-spec']?.fields ?? []).map((each) => ({ 'source-id': idOf(sourceOf(each)), name: each.name, transform: each.transform })) } }, { action: 'set-default-spec', 'spec-id': -1 },
    { action: 'add-sort-order', 'sort-order': { 'order-id': -1, fields: (request['write-order']?.fields ?? []).map((each) => ({ 'source-id': idOf(sourceOf(each)), transform: each.transform, direction: each.direction, 'null-order': nullOrderOf(each) })) } }, { action: 'set-default-sort-order', 'sort-order-id': -1 },
    { action: 'set-properties', updates: properties },
  ];
  checkProperties(updates);
  return { ...applyUpdates(nothing(location), updates, systemClock.now(), table), 'last-updated-ms': systemClock.now() };
}

/** Metadata before anything is in it. */
export function nothing(location: string): TableMetadata {
  return {
    'format-version': 2, 'table-uuid': randomUUID(), location: location.replace(/\/+$/, ''), 'last-sequence-number': 0, 'last-updated-ms': 0, 'last-column-id': 0, schemas: [], 'current-schema-id': -1,
    'partition-specs': [], 'default-spec-id': -1, 'last-partition-id': 999, 'sort-orders': [], 'default-sort-order-id': -1, properties: {}, 'current-snapshot-id': null, refs: {}, snapshots: [], 'snapshot-log': [], 'metadata-log': [],
  };
}

function pairIds(before: readonly Field[], after: readonly Field[], ids: Map<number, number>): void {
  for (const [index, field] of before.entries()) {
    ids.set(field.id!, after[index]!.id!);
    if (isNested(field.type) && isNested(after[index]!.type)) pairIds(children(field.type), children(after[index]!.type as typeof field.type), ids);
  }
}

function sourceOf(field: SpecFieldGiven | OrderFieldGiven): number | undefined {
  return field['source-id'] ?? ('source-ids' in field ? field['source-ids']?.[0] : undefined) ?? field.source_id;
}

function nullOrderOf(field: OrderFieldGiven): 'nulls-first' | 'nulls-last' {
  return field['null-order'] ?? field.null_order ?? (field.direction === 'asc' ? 'nulls-first' : 'nulls-last');
}

export function withKebabIds(update: TableUpdate): TableUpdate {
  if (update.action === 'add-spec') return { ...update, spec: { fields: update.spec.fields.map((each) => ({ 'source-id': sourceOf(each)!, name: each.name, transform: each.transform, ...(each['field-id'] === undefined ? {} : { 'field-id': each['field-id'] }) })) } };
  if (update.action === 'add-sort-order') return { ...update, 'sort-order': { 'order-id': update['sort-order']['order-id'], fields: update['sort-order'].fields.map((each) => ({ 'source-id': sourceOf(each)!, transform: each.transform, direction: each.direction, 'null-order': nullOrderOf(each) })) } };
  return update;
}

export function shorthands({ schema, 'partition-spec': spec, properties }: CommitTable): TableUpdate[] {
  return [
    ...(schema ? [{ action: 'add-schema' as const, schema }, { action: 'set-current-schema' as const, 'schema-id': -1 }] : []),
    ...(spec ? [{ action: 'add-spec' as const, spec: { fields: spec.fields.map((each) => ({ 'source-id': sourceOf(each)!, name: each.name, transform: each.transform })) } }, { action: 'set-default-spec' as const, 'spec-id': -1 }] : []),
    ...(properties ? [{ action: 'set-properties' as const, updates: properties }] : []),
  ];
}

/** "Reserved table properties" are told by the metadata itself. */
const RESERVED = [FORMAT_VERSION, 'uuid', 'snapshot-count', 'current-snapshot-summary', 'current-snapshot-id', 'current-snapshot-timestamp-ms', 'current-schema', 'default-partition-spec', 'default-sort-order'];

export function checkProperties(updates: readonly TableUpdate[]): void {
  for (const update of updates) {
    const found = update.action === 'set-properties' ? RESERVED.find((key) => key in update.updates) : undefined;
    if (found !== undefined) throw badRequest(`The property ${found} is reserved: it follows from the table's metadata.`);
  }
}

