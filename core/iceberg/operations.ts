/** What can be done to an Iceberg table: each function is one commit. Data files are written before, by the caller. */
import { LakeError } from '../errors';
import { findField, type Field, type TableSchema } from '../schema/types';
import { joinPath } from '../storage/paths';
import { lowerTextBound, upperTextBound, type WrittenColumn, type WrittenFile } from '../table/written-file';
import { parseValue } from '../values/text';
import { compareValues, type Value } from '../values/value';
import { commitMetadata, type CommitPorts } from './commit';
import { writeManifest, writeManifestList, type FieldSummary, type IcebergDataFile, type ManifestEntry, type ManifestFile } from './manifest';
import { currentSnapshot, type PartitionSpecJson, type SnapshotId, type SnapshotJson, type TableMetadata } from './metadata';
import { assignIds, fieldById, parseSchema, schemaJson, type StructJson } from './schema';
import { encodeValue } from './single-value';
import { specOf, type IcebergTable } from './table';
import { parseTransform, resultType } from './transforms';

export interface NewTable {
  schema: TableSchema;
  /** Each is a source column and a transform: `{ source: 'taken_at', transform: 'day' }`. */
  partitionBy?: { source: string; transform: string; name?: string }[];
  sortBy?: string[];
  properties?: Record<string, string>;
}

/** The first metadata of a table without snapshots; ids of columns are given afresh. */
export async function createIcebergTable(table: IcebergTable, options: NewTable, ports: CommitPorts): Promise<TableMetadata> {
  if (await table.pointer.current()) throw new LakeError('conflict', `${table.name}: an Iceberg table stands at ${table.root} already.`, { table: table.name });
  const { fields, lastId } = assignIds(options.schema.fields, 0);
  const source = (name: string): Field => {
    const found = findField(fields, name);
    if (!found) throw new LakeError('bad-request', `${table.name} has no column "${name}" to partition or sort by.`);
    return found;
  };
  const specFields = (options.partitionBy ?? []).map((each, index) => {
    const kind = parseTransform(each.transform).kind;
    const name = each.name ?? (kind === 'identity' ? each.source : `${each.source}_${kind}`);
    return { 'source-id': source(each.source).id!, 'field-id': 1000 + index, name, transform: each.transform };
  });
  const sortFields = (options.sortBy ?? []).map((name) => ({ transform: 'identity', 'source-id': source(name).id!, direction: 'asc' as const, 'null-order': 'nulls-first' as const }));
  const metadata: TableMetadata = {
    'format-version': 2,
    'table-uuid': ports.ids.uuid(),
    location: `${table.store.uri}/${table.root}`,
    'last-sequence-number': 0,
    'last-updated-ms': ports.clock.now(),
    'last-column-id': lastId,
    'current-schema-id': 0,
    schemas: [schemaJson({ id: 0, fields })],
    'default-spec-id': 0,
    'partition-specs': [{ 'spec-id': 0, fields: specFields }],
    'last-partition-id': 999 + specFields.length,
    'default-sort-order-id': sortFields.length > 0 ? 1 : 0,
    'sort-orders': sortFields.length > 0 ? [{ 'order-id': 0, fields: [] }, { 'order-id': 1, fields: sortFields }] : [{ 'order-id': 0, fields: [] }],
    properties: options.properties ?? {},
    'current-snapshot-id': null,
    refs: {},
    snapshots: [],
    'snapshot-log': [],
    'metadata-log': [],
  };
  if (!(await table.pointer.replace(undefined, metadata, 1))) throw new LakeError('conflict', `${table.name}: somebody else created a table at ${table.root} meanwhile.`, { table: table.name });
  return metadata;
}

/**
 * Adds files as one snapshot. The manifest is written once; after a lost race only the manifest list and the metadata
 * are made again, since added entries inherit their sequence number. Returns the snapshot.
 */
export async function append(table: IcebergTable, files: WrittenFile[], ports: CommitPorts): Promise<SnapshotJson> {
  const snapshotId = ports.ids.snapshotId();
  const { metadata } = await table.current();
  const manifest = await writeAddedManifest(table, metadata, files, snapshotId, ports);
  const done = await commitMetadata(table, async (base, now) => {
    if (base['current-schema-id'] !== metadata['current-schema-id'] && !covers(base, metadata)) {
      throw new LakeError('conflict', `${table.name}: its columns changed while rows were written. Write them again.`, { table: table.name });
    }
    return withSnapshot(table, base, manifest, files, snapshotId, now, ports);
  }, ports);
  return done.snapshots!.at(-1)!;
}

/** Columns added since are read as null; any other change of columns needs the rows written anew. */
function covers(newer: TableMetadata, older: TableMetadata): boolean {
  const ids = (metadata: TableMetadata) => parseSchema(metadata.schemas.find((each) => each['schema-id'] === metadata['current-schema-id'])!, '').fields;
  return ids(older).every((each) => JSON.stringify(fieldById(ids(newer), each.id!)?.type) === JSON.stringify(each.type));
}

async function writeAddedManifest(table: IcebergTable, metadata: TableMetadata, files: WrittenFile[], snapshotId: SnapshotId, ports: CommitPorts): Promise<ManifestFile> {
  const json = metadata.schemas.find((each) => each['schema-id'] === metadata['current-schema-id'])!;
  const schema = parseSchema(json, table.name);
  const spec = specOf(metadata, metadata['default-spec-id']);
  const partitionFields = spec.fields.map((each) => {
    const source = fieldById(schema.fields, each['source-id'])!;
    return { name: each.name, required: false, type: resultType(parseTransform(each.transform), source.type) };
  });
  const entries: ManifestEntry[] = files.map((file) => ({
    status: 'added',
    snapshotId,
    sequenceNumber: 0,
    file: icebergFile(table, file, schema, spec, metadata['default-sort-order-id']),
  }));
  const path = joinPath(table.root, 'metadata', `${ports.ids.uuid()}-m0.avro`);
  const header = { schemaJson: JSON.stringify(json), schemaId: json['schema-id'] ?? 0, spec, partitionFields };
  const bytes = await writeManifest(entries, header, syncMarker(ports));
  await table.store.put(path, bytes);
  return {
    path: `${table.store.uri}/${path}`,
    bytes: bytes.length,
    specId: spec['spec-id'],
    content: 'data',
    sequenceNumber: 0,
    minSequenceNumber: 0,
    addedSnapshotId: snapshotId,
    addedFiles: files.length,
    existingFiles: 0,
    deletedFiles: 0,
    addedRows: files.reduce((sum, file) => sum + file.rows, 0),
    existingRows: 0,
    deletedRows: 0,
    partitions: spec.fields.map((each, index) => summary(partitionFields[index]!.type, files.map((file) => file.partition[each.name] ?? null))),
  };
}

function icebergFile(table: IcebergTable, file: WrittenFile, schema: TableSchema, spec: PartitionSpecJson, sortOrderId: number): IcebergDataFile {
  const out: IcebergDataFile = {
    content: 0, path: `${table.store.uri}/${file.path}`, format: 'PARQUET', rows: file.rows, bytes: file.bytes, sortOrderId,
    partition: spec.fields.map((each) => file.partition[each.name] ?? null),
    columnBytes: new Map(), valueCounts: new Map(), nullCounts: new Map(), nanCounts: new Map(), lower: new Map(), upper: new Map(),
  };
  for (const column of file.columns) {
    const leaf = leafAt(schema.fields, column.path);
    if (leaf?.id === undefined) continue;
    out.columnBytes.set(leaf.id, column.bytes);
    if (column.valueCount !== undefined) out.valueCounts.set(leaf.id, column.valueCount);
    if (column.nullCount !== undefined) out.nullCounts.set(leaf.id, column.nullCount);
    if ((leaf.type.kind === 'double' || leaf.type.kind === 'float') && !column.hasNaN) out.nanCounts.set(leaf.id, 0);
    addBounds(out, leaf, column);
  }
  return out;
}

function leafAt(fields: readonly Field[], path: readonly string[]): Field | undefined {
  const [name, ...rest] = path;
  const found = fields.find((each) => each.name === name);
  if (!found || rest.length === 0) return found;
  if (found.type.kind === 'struct') return leafAt(found.type.fields, rest);
  if (found.type.kind === 'list') return leafAt([found.type.element], rest);
  return found.type.kind === 'map' ? leafAt([found.type.key, found.type.value], rest) : undefined;
}

function addBounds(out: IcebergDataFile, leaf: Field, column: WrittenColumn): void {
  if (column.min === undefined || column.max === undefined || ['binary', 'fixed', 'uuid'].includes(leaf.type.kind)) return;
  // The specification's default truncates text bounds to 16 characters.
  const isText = leaf.type.kind === 'string';
  const min = isText ? lowerTextBound(column.min, 16) : column.min;
  const max = isText ? upperTextBound(column.max, 16) : column.max;
  const lower = encodeValue(leaf.type, parseValue(leaf.type, min));
  const upper = max === undefined ? undefined : encodeValue(leaf.type, parseValue(leaf.type, max));
  if (lower) out.lower.set(leaf.id!, lower);
  if (upper) out.upper.set(leaf.id!, upper);
}

function summary(type: Field['type'], values: (Value | null)[]): FieldSummary {
  const present = values.filter((value): value is Value => value !== null).sort(compareValues);
  const lower = present.length > 0 ? encodeValue(type, present[0]!) : undefined;
  const upper = present.length > 0 ? encodeValue(type, present.at(-1)!) : undefined;
  return { containsNull: present.length < values.length, containsNaN: false, ...(lower ? { lower } : {}), ...(upper ? { upper } : {}) };
}

async function withSnapshot(table: IcebergTable, base: TableMetadata, manifest: ManifestFile, files: WrittenFile[], snapshotId: SnapshotId, now: number, ports: CommitPorts): Promise<TableMetadata> {
  const parent = currentSnapshot(base);
  const sequenceNumber = (base['last-sequence-number'] ?? 0) + 1;
  const kept = await table.manifests(base, parent);
  const manifests = [{ ...manifest, sequenceNumber, minSequenceNumber: sequenceNumber }, ...kept];
  const listPath = joinPath(table.root, 'metadata', `snap-${snapshotId}-${ports.ids.uuid()}.avro`);
  const header = { 'snapshot-id': String(snapshotId), 'parent-snapshot-id': String(parent?.['snapshot-id'] ?? 'null'), 'sequence-number': String(sequenceNumber) };
  await table.store.put(listPath, await writeManifestList(manifests, header, syncMarker(ports)));
  const snapshot: SnapshotJson = {
    'sequence-number': sequenceNumber,
    'snapshot-id': snapshotId,
    ...(parent ? { 'parent-snapshot-id': parent['snapshot-id'] } : {}),
    'timestamp-ms': now,
    summary: appendSummary(parent?.summary ?? {}, files, ports.who),
    'manifest-list': `${table.store.uri}/${listPath}`,
    'schema-id': base['current-schema-id'],
  };
  return {
    ...base,
    'last-sequence-number': sequenceNumber,
    'current-snapshot-id': snapshotId,
    refs: { ...base.refs, main: { 'snapshot-id': snapshotId, type: 'branch' } },
    snapshots: [...(base.snapshots ?? []), snapshot],
    'snapshot-log': [...(base['snapshot-log'] ?? []), { 'timestamp-ms': now, 'snapshot-id': snapshotId }],
  };
}

/** Summary values are strings (specification, "Optional Snapshot Summary Fields"). */
function appendSummary(before: Record<string, string>, files: WrittenFile[], who: string): Record<string, string> {
  const rows = files.reduce((sum, file) => sum + file.rows, 0);
  const bytes = files.reduce((sum, file) => sum + file.bytes, 0);
  const total = (key: string, added: number) => String(Number(before[key] ?? 0) + added);
  return {
    operation: 'append',
    'committed-by': who,
    'added-data-files': String(files.length),
    'added-records': String(rows),
    'added-files-size': String(bytes),
    'changed-partition-count': String(new Set(files.map((file) => Object.values(file.partition).map(String).join('/'))).size),
    'total-data-files': total('total-data-files', files.length),
    'total-records': total('total-records', rows),
    'total-files-size': total('total-files-size', bytes),
    'total-delete-files': '0',
    'total-position-deletes': '0',
    'total-equality-deletes': '0',
  };
}

function syncMarker({ ids }: CommitPorts): Uint8Array {
  return Uint8Array.from(ids.uuid().replaceAll('-', '').match(/../g)!, (pair) => parseInt(pair, 16));
}

/** Adds columns at the end with new ids; older rows read null there. */
export async function addColumns(table: IcebergTable, columns: Field[], ports: CommitPorts): Promise<TableMetadata> {
  return commitMetadata(table, async (base) => {
    const current = parseSchema(base.schemas.find((each) => each['schema-id'] === base['current-schema-id'])!, table.name);
    const clash = columns.find((column) => findField(current.fields, column.name));
    if (clash) throw new LakeError('bad-request', `${table.name} has a column "${clash.name}" already.`, { table: table.name });
    const required = columns.find((column) => column.required);
    if (required) throw new LakeError('bad-request', `A new column must allow nulls, since older rows of ${table.name} have none for "${required.name}".`);
    const added = assignIds(columns, base['last-column-id']);
    const schema: StructJson = schemaJson({ id: Math.max(...base.schemas.map((each) => each['schema-id'] ?? 0)) + 1, fields: [...current.fields, ...added.fields] });
    return { ...base, 'last-column-id': added.lastId, schemas: [...base.schemas, schema], 'current-schema-id': schema['schema-id']! };
  }, ports);
}
