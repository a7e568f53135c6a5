/**
 * Changes of table metadata by the kinds that the open REST catalog protocol names ("TableUpdate"). Every commit of ours
 * is made of them too, so that one place keeps the metadata right.
 */
import { LakeError } from '../errors';
import type { CommitTime } from '../table/contract';
import { hasParent, refsOf, sameId, snapshotById, type PartitionFieldJson, type PartitionSpecJson, type RefJson, type SnapshotId, type SnapshotJson, type SortOrderJson, type StatisticsJson, type TableMetadata } from './metadata';
import { fieldById, parseSchema, type FieldJson, type StructJson, type TypeJson } from './schema';
import { parseTransform } from './transforms';

export type TableUpdate =
  | { action: 'assign-uuid'; uuid: string }
  | { action: 'upgrade-format-version'; 'format-version': number }
  | { action: 'add-schema'; schema: StructJson; 'last-column-id'?: number }
  | { action: 'set-current-schema'; 'schema-id': number }
  | { action: 'add-spec'; spec: { 'spec-id'?: number; fields: (Omit<PartitionFieldJson, 'field-id'> & { 'field-id'?: number })[] } }
  | { action: 'set-default-spec'; 'spec-id': number }
  | { action: 'add-sort-order'; 'sort-order': SortOrderJson }
  | { action: 'set-default-sort-order'; 'sort-order-id': number }
  | { action: 'add-snapshot'; snapshot: SnapshotJson }
  | ({ action: 'set-snapshot-ref'; 'ref-name': string } & RefJson)
  | { action: 'remove-snapshots'; 'snapshot-ids': SnapshotId[] }
  | { action: 'remove-snapshot-ref'; 'ref-name': string }
  | { action: 'set-location'; location: string }
  | { action: 'set-properties'; updates: Record<string, string> }
  | { action: 'remove-properties'; removals: string[] }
  | { action: 'set-statistics'; statistics: StatisticsJson; 'snapshot-id'?: SnapshotId }
  | { action: 'remove-statistics'; 'snapshot-id': SnapshotId }
  | { action: 'set-partition-statistics'; 'partition-statistics': StatisticsJson }
  | { action: 'remove-partition-statistics'; 'snapshot-id': SnapshotId }
  | { action: 'remove-partition-specs'; 'spec-ids': number[] }
  | { action: 'remove-schemas'; 'schema-ids': number[] }
  | { action: 'add-encryption-key' | 'remove-encryption-key' };

/** Stands for what was added last in the same commit. */
const LAST_ADDED = -1;
const NO_SNAPSHOT = -1;
export const MAX_FORMAT_VERSION = 3;

interface Added {
  schema?: number;
  spec?: number;
  order?: number;
  /** Snapshots of this commit. */
  snapshots: SnapshotId[];
}

/** New metadata; what was given stays as it is. Fails with `bad-request` for an update that does not fit. */
export function applyUpdates(base: TableMetadata, updates: readonly TableUpdate[], now: CommitTime, table: string): TableMetadata {
  const added: Added = { snapshots: [] };
  return updates.reduce<TableMetadata>((metadata, update) => apply(metadata, update, added, now, table), { ...base, refs: refsOf(base) });
}

function apply(metadata: TableMetadata, update: TableUpdate, added: Added, now: CommitTime, table: string): TableMetadata {
  const bad = (what: string) => new LakeError('bad-request', `${table}: ${what}. Nothing was changed.`, { table });
  switch (update.action) {
    case 'assign-uuid':
      return { ...metadata, 'table-uuid': update.uuid.toLowerCase() };
    case 'upgrade-format-version':
      return upgraded(metadata, update['format-version'], bad);
    case 'add-schema':
      return withSchema(metadata, update.schema, added, table, bad);
    case 'set-current-schema': {
      const id = update['schema-id'] === LAST_ADDED ? added.schema : update['schema-id'];
      if (id === undefined) throw bad('the last added schema is to be current, but none was added');
      if (!metadata.schemas.some((schema) => (schema['schema-id'] ?? 0) === id)) throw bad(`there is no schema ${id}`);
      return { ...metadata, 'current-schema-id': id };
    }
    case 'add-spec':
      return withSpec(metadata, update.spec, added, table, bad);
    case 'set-default-spec': {
      const id = update['spec-id'] === LAST_ADDED ? added.spec : update['spec-id'];
      if (id === undefined) throw bad('the last added partition spec is to be the default, but none was added');
      if (!metadata['partition-specs'].some((spec) => spec['spec-id'] === id)) throw bad(`there is no partition spec ${id}`);
      return { ...metadata, 'default-spec-id': id };
    }
    case 'add-sort-order':
      return withSortOrder(metadata, update['sort-order'], added, table, bad);
    case 'set-default-sort-order': {
      const id = update['sort-order-id'] === LAST_ADDED ? added.order : update['sort-order-id'];
      if (id === undefined) throw bad('the last added sort order is to be the default, but none was added');
      if (!metadata['sort-orders'].some((order) => order['order-id'] === id)) throw bad(`there is no sort order ${id}`);
      return { ...metadata, 'default-sort-order-id': id };
    }
    case 'add-snapshot':
      added.snapshots.push(update.snapshot['snapshot-id']);
      return withSnapshot(metadata, update.snapshot, bad);
    case 'set-snapshot-ref':
      return withRef(metadata, update, added, now, bad);
    case 'remove-snapshots':
      return withoutSnapshots(metadata, update['snapshot-ids']);
    case 'remove-snapshot-ref': {
      const { [update['ref-name']]: gone, ...refs } = metadata.refs!;
      if (!gone) return metadata;
      return { ...metadata, refs, ...(update['ref-name'] === 'main' ? { 'current-snapshot-id': null } : {}) };
    }
    case 'set-location':
      return { ...metadata, location: update.location.replace(/\/+$/, '') };
    case 'set-properties':
      return { ...metadata, properties: { ...metadata.properties, ...update.updates } };
    case 'remove-properties':
      return { ...metadata, properties: Object.fromEntries(Object.entries(metadata.properties ?? {}).filter(([key]) => !update.removals.includes(key))) };
    case 'set-statistics':
      return { ...metadata, statistics: [...others(metadata.statistics, update.statistics['snapshot-id']), update.statistics] };
    case 'remove-statistics':
      return { ...metadata, statistics: others(metadata.statistics, update['snapshot-id']) };
    case 'set-partition-statistics':
      return { ...metadata, 'partition-statistics': [...others(metadata['partition-statistics'], update['partition-statistics']['snapshot-id']), update['partition-statistics']] };
    case 'remove-partition-statistics':
      return { ...metadata, 'partition-statistics': others(metadata['partition-statistics'], update['snapshot-id']) };
    case 'remove-partition-specs': {
      if (update['spec-ids'].includes(metadata['default-spec-id'])) throw bad(`the default partition spec ${metadata['default-spec-id']} cannot be removed`);
      return { ...metadata, 'partition-specs': metadata['partition-specs'].filter((spec) => !update['spec-ids'].includes(spec['spec-id'])) };
    }
    case 'remove-schemas': {
      if (update['schema-ids'].includes(metadata['current-schema-id'])) throw bad(`the current schema ${metadata['current-schema-id']} cannot be removed`);
      return { ...metadata, schemas: metadata.schemas.filter((schema) => !update['schema-ids'].includes(schema['schema-id'] ?? 0)) };
    }
    case 'add-encryption-key':
    case 'remove-encryption-key':
      throw new LakeError('unsupported', `${table}: encrypted tables are not supported. Nothing was changed.`, { table });
  }
}

type Bad = (what: string) => LakeError;

function others(statistics: StatisticsJson[] | undefined, snapshotId: SnapshotId): StatisticsJson[] {
  return (statistics ?? []).filter((each) => !sameId(each['snapshot-id'], snapshotId));
}

function upgraded(metadata: TableMetadata, version: number, bad: Bad): TableMetadata {
  const from = metadata['format-version'];
  if (version > MAX_FORMAT_VERSION) throw new LakeError('unsupported', `Iceberg format version ${version} is not supported; ${MAX_FORMAT_VERSION} is the highest.`);
  if (version < from) throw bad(`it has format version ${from}, which cannot become ${version}`);
  if (version === from) return metadata;
  const { schema: _schema, 'partition-spec': _spec, ...rest } = metadata;
  const base: TableMetadata = { ...(from === 1 ? rest : metadata), 'format-version': version, 'last-sequence-number': metadata['last-sequence-number'] ?? 0 };
  // "next-row-id must be 0 for a table that is upgraded": rows that were there get ids as their manifests are next listed.
  return version >= 3 && from < 3 ? { ...base, 'next-row-id': 0 } : base;
}

function withSchema(metadata: TableMetadata, schema: StructJson, added: Added, table: string, bad: Bad): TableMetadata {
  const parsed = parseSchema(schema, table);
  const names = new Set<string>();
  for (const { name } of parsed.fields) {
    if (names.has(name)) throw bad(`two columns are called "${name}"`);
    names.add(name);
  }
  if (metadata['format-version'] < 3) {
    const late = firstField(schema.fields, (field) => (field['initial-default'] ?? field['write-default']) !== undefined || field.type === 'timestamp_ns');
    if (late) throw bad(`"${late.name}" has a default or a type that needs format version 3`);
  }
  const { 'schema-id': _id, ...shape } = schema;
  const same = metadata.schemas.find((each) => {
    const { 'schema-id': _known, ...other } = each;
    return JSON.stringify(sorted(other)) === JSON.stringify(sorted(shape));
  });
  const lastColumn = Math.max(metadata['last-column-id'], highestId(schema.fields));
  if (same) {
    added.schema = same['schema-id'] ?? 0;
    return { ...metadata, 'last-column-id': lastColumn };
  }
  const id = Math.max(-1, ...metadata.schemas.map((each) => each['schema-id'] ?? 0)) + 1;
  added.schema = id;
  return { ...metadata, 'last-column-id': lastColumn, schemas: [...metadata.schemas, { ...shape, 'schema-id': id } as StructJson] };
}

/** Keys in one order, for comparing. */
function sorted(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(sorted);
  if (typeof value === 'bigint') return String(value);
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(Object.entries(value).filter(([, each]) => each !== undefined && each !== null && !(Array.isArray(each) && each.length === 0)).sort(([a], [b]) => (a < b ? -1 : 1)).map(([key, each]) => [key, sorted(each)]));
}

export function highestId(fields: readonly FieldJson[]): number {
  const ofType = (type: TypeJson): number => {
    if (typeof type === 'string') return 0;
    if (type.type === 'struct') return highestId(type.fields);
    return type.type === 'list' ? Math.max(type['element-id'], ofType(type.element)) : Math.max(type['key-id'], type['value-id'], ofType(type.key), ofType(type.value));
  };
  return Math.max(0, ...fields.map((field) => Math.max(field.id, ofType(field.type))));
}

function firstField(fields: readonly FieldJson[], test: (field: FieldJson) => boolean): FieldJson | undefined {
  for (const field of fields) {
    if (test(field)) return field;
    const inner = typeof field.type === 'object' && field.type.type === 'struct' ? firstField(field.type.fields, test) : undefined;
    if (inner) return inner;
  }
  return undefined;
}

function withSpec(metadata: TableMetadata, spec: Extract<TableUpdate, { action: 'add-spec' }>['spec'], added: Added, table: string, bad: Bad): TableMetadata {
  const { fields: columns } = parseSchema(metadata.schemas.find((each) => (each['schema-id'] ?? 0) === metadata['current-schema-id'])!, table);
  const known = metadata['partition-specs'].flatMap((each) => each.fields);
  let last = metadata['last-partition-id'];
  const names = new Set<string>();
  const fields = spec.fields.map((field): PartitionFieldJson => {
    const { 'source-id': source, name, transform } = field;
    const { kind } = parseTransform(transform);
    const column = fieldById(columns, source);
    if (!column && kind !== 'void') throw bad(`the partition field "${name}" is of column ${source}, which there is not`);
    if (names.has(name)) throw bad(`two partition fields are called "${name}"`);
    names.add(name);
    const clash = columns.find((each) => each.name === name);
    if (clash && !(kind === 'identity' && clash.id === source) && kind !== 'void') throw bad(`the partition field "${name}" has the name of a column`);
    // The same field of a former spec keeps its id, so that its values are known to mean the same.
    const id = field['field-id'] ?? known.find((each) => each['source-id'] === source && each.transform === transform && each.name === name)?.['field-id'] ?? last + 1;
    last = Math.max(last, id);
    return { 'source-id': source, 'field-id': id, name, transform };
  });
  const same = metadata['partition-specs'].find((each) => JSON.stringify(sorted(each.fields)) === JSON.stringify(sorted(fields)));
  if (same) {
    added.spec = same['spec-id'];
    return metadata;
  }
  const id = Math.max(-1, ...metadata['partition-specs'].map((each) => each['spec-id'])) + 1;
  added.spec = id;
  const made: PartitionSpecJson = { 'spec-id': id, fields };
  return { ...metadata, 'partition-specs': [...metadata['partition-specs'], made], 'last-partition-id': last };
}

function withSortOrder(metadata: TableMetadata, order: SortOrderJson, added: Added, table: string, bad: Bad): TableMetadata {
  const { fields: columns } = parseSchema(metadata.schemas.find((each) => (each['schema-id'] ?? 0) === metadata['current-schema-id'])!, table);
  for (const field of order.fields) {
    parseTransform(field.transform);
    if (!fieldById(columns, field['source-id'])) throw bad(`the sort order names column ${field['source-id']}, which there is not`);
  }
  const same = metadata['sort-orders'].find((each) => JSON.stringify(sorted(each.fields)) === JSON.stringify(sorted(order.fields)));
  if (same) {
    added.order = same['order-id'];
    return metadata;
  }
  // 0 is the order of tables that have none.
  const id = order.fields.length === 0 ? 0 : Math.max(0, ...metadata['sort-orders'].map((each) => each['order-id'])) + 1;
  added.order = id;
  return { ...metadata, 'sort-orders': [...metadata['sort-orders'], { 'order-id': id, fields: order.fields }] };
}

function withSnapshot(metadata: TableMetadata, snapshot: SnapshotJson, bad: Bad): TableMetadata {
  const id = snapshot['snapshot-id'];
  if (snapshotById(metadata, id)) throw bad(`there is a snapshot ${id} already`);
  const last = metadata['last-sequence-number'] ?? 0;
  const sequence = snapshot['sequence-number'] ?? 0;
  const isVersion1 = metadata['format-version'] === 1;
  if (!isVersion1 && hasParent(snapshot) && sequence <= last) {
    throw new LakeError('conflict', `The snapshot ${id} has the sequence number ${sequence}, where more than ${last} is due: somebody else committed first.`);
  }
  const next: TableMetadata = { ...metadata, snapshots: [...(metadata.snapshots ?? []), snapshot], ...(isVersion1 ? {} : { 'last-sequence-number': Math.max(last, sequence) }) };
  if (metadata['format-version'] < 3) return next;
  const firstId = metadata['next-row-id'] ?? 0;
  const { 'first-row-id': first, 'added-rows': rows } = snapshot;
  if (first === undefined || rows === undefined) throw bad(`the snapshot ${id} lacks first-row-id or added-rows, which format version 3 demands`);
  if (first < firstId) throw new LakeError('conflict', `The snapshot ${id} gives row ids from ${first}, where ${firstId} is the next: somebody else committed first.`);
  return { ...next, 'next-row-id': Math.max(firstId, first + rows) };
}

function withRef(metadata: TableMetadata, update: Extract<TableUpdate, { action: 'set-snapshot-ref' }>, added: Added, now: CommitTime, bad: Bad): TableMetadata {
  const { action: _action, 'ref-name': name, ...ref } = update;
  const snapshot = snapshotById(metadata, ref['snapshot-id']);
  if (!snapshot) throw bad(`"${name}" is to be the snapshot ${ref['snapshot-id']}, which there is not`);
  if (name === 'main' && ref.type !== 'branch') throw bad('"main" must be a branch');
  if (ref.type === 'tag' && (ref['min-snapshots-to-keep'] !== undefined || ref['max-snapshot-age-ms'] !== undefined)) throw bad(`"${name}" is a tag, which keeps one snapshot and no others`);
  const before = metadata.refs![name];
  if (before && sameId(before['snapshot-id'], ref['snapshot-id']) && JSON.stringify(sorted(before)) === JSON.stringify(sorted(ref))) return metadata;
  const next: TableMetadata = { ...metadata, refs: { ...metadata.refs, [name]: ref } };
  if (name !== 'main' || sameId(metadata['current-snapshot-id'], ref['snapshot-id'])) return next;
  const isNew = added.snapshots.some((id) => sameId(id, ref['snapshot-id']));
  const at = isNew ? snapshot['timestamp-ms'] : now;
  return { ...next, 'current-snapshot-id': ref['snapshot-id'], 'snapshot-log': [...(metadata['snapshot-log'] ?? []), { 'timestamp-ms': at, 'snapshot-id': ref['snapshot-id'] }] };
}

function withoutSnapshots(metadata: TableMetadata, ids: readonly SnapshotId[]): TableMetadata {
  const gone = new Set(ids.map(String));
  const stays = (id: SnapshotId) => !gone.has(String(id));
  const log = metadata['snapshot-log'] ?? [];
  // "When a snapshot is expired, all entries before it should be removed": else it would look as if a later one had been current then.
  const lastGone = log.findLastIndex((each) => !stays(each['snapshot-id']));
  const current = metadata['current-snapshot-id'];
  return {
    ...metadata,
    snapshots: (metadata.snapshots ?? []).filter((snapshot) => stays(snapshot['snapshot-id'])),
    refs: Object.fromEntries(Object.entries(metadata.refs!).filter(([, ref]) => stays(ref['snapshot-id']))),
    'snapshot-log': log.slice(lastGone + 1),
    ...(metadata.statistics ? { statistics: metadata.statistics.filter((each) => stays(each['snapshot-id'])) } : {}),
    ...(metadata['partition-statistics'] ? { 'partition-statistics': metadata['partition-statistics'].filter((each) => stays(each['snapshot-id'])) } : {}),
    ...(current !== undefined && current !== null && !stays(current) ? { 'current-snapshot-id': null } : {}),
  };
}

export type TableRequirement =
  | { type: 'assert-create' }
  | { type: 'assert-table-uuid'; uuid: string }
  | { type: 'assert-ref-snapshot-id'; ref: string; 'snapshot-id': SnapshotId | null }
  | { type: 'assert-last-assigned-field-id'; 'last-assigned-field-id': number }
  | { type: 'assert-current-schema-id'; 'current-schema-id': number }
  | { type: 'assert-last-assigned-partition-id'; 'last-assigned-partition-id': number }
  | { type: 'assert-default-spec-id'; 'default-spec-id': number }
  | { type: 'assert-default-sort-order-id'; 'default-sort-order-id': number };

/** Fails with `conflict` for the first that does not hold. `metadata` is undefined where there is no table. */
export function checkRequirements(metadata: TableMetadata | undefined, requirements: readonly TableRequirement[], table: string): void {
  for (const requirement of requirements) {
    const problem = broken(metadata, requirement);
    if (problem) throw new LakeError('conflict', `${table}: ${problem}.`, { table });
  }
}

function broken(metadata: TableMetadata | undefined, requirement: TableRequirement): string | undefined {
  if (requirement.type === 'assert-create') return metadata ? 'it exists already' : undefined;
  if (!metadata) return 'it does not exist';
  const differs = (what: string, wanted: unknown, found: unknown) => (wanted === found ? undefined : `${what} is ${String(found)}, where ${String(wanted)} was expected: somebody else committed first`);
  switch (requirement.type) {
    case 'assert-table-uuid':
      return differs('its UUID', requirement.uuid.toLowerCase(), metadata['table-uuid'].toLowerCase());
    case 'assert-ref-snapshot-id': {
      const found = refsOf(metadata)[requirement.ref]?.['snapshot-id'];
      const wanted = requirement['snapshot-id'];
      if (wanted === null || BigInt(wanted) === BigInt(NO_SNAPSHOT)) return found === undefined ? undefined : `"${requirement.ref}" is the snapshot ${found}, where none was expected: somebody else committed first`;
      return sameId(found, wanted) ? undefined : `"${requirement.ref}" is ${found === undefined ? 'not there' : `the snapshot ${found}`}, where ${wanted} was expected: somebody else committed first`;
    }
    case 'assert-last-assigned-field-id':
      return differs('the last column id', requirement['last-assigned-field-id'], metadata['last-column-id']);
    case 'assert-current-schema-id':
      return differs('the current schema', requirement['current-schema-id'], metadata['current-schema-id']);
    case 'assert-last-assigned-partition-id':
      return differs('the last partition field id', requirement['last-assigned-partition-id'], metadata['last-partition-id']);
    case 'assert-default-spec-id':
      return differs('the default partition spec', requirement['default-spec-id'], metadata['default-spec-id']);
    case 'assert-default-sort-order-id':
      return differs('the default sort order', requirement['default-sort-order-id'], metadata['default-sort-order-id']);
  }
}
