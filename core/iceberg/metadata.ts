/** Table metadata JSON (Iceberg specification, Appendix C, "Table Metadata and Snapshots"). Unknown fields are kept as they are. */
import { inFile, LakeError } from '../errors';
import { parseJson, stringifyJson } from '../json';
import { shapeProblem, type Shape } from '../shapes';
import { toBytes, toText, type ObjectStore } from '../storage/object-store';
import { pipe } from './avro';
import type { StructJson } from './schema';

/** 63-bit: a number when it fits one exactly, else bigint. Compare with `sameId`. */
export type SnapshotId = number | bigint;

export interface SnapshotJson {
  'snapshot-id': SnapshotId;
  'parent-snapshot-id'?: SnapshotId;
  'sequence-number'?: number;
  'timestamp-ms': number;
  'manifest-list'?: string;
  /** Version 1 only. */
  manifests?: string[];
  summary?: Record<string, string>;
  'schema-id'?: number;
}

export interface PartitionSpecJson {
  'spec-id': number;
  fields: { 'source-id': number; 'field-id': number; name: string; transform: string }[];
}

export interface SortOrderJson {
  'order-id': number;
  fields: { transform: string; 'source-id': number; direction: 'asc' | 'desc'; 'null-order': 'nulls-first' | 'nulls-last' }[];
}

export interface TableMetadata {
  'format-version': number;
  'table-uuid': string;
  location: string;
  'last-sequence-number'?: number;
  'last-updated-ms': number;
  'last-column-id': number;
  schemas: StructJson[];
  'current-schema-id': number;
  'partition-specs': PartitionSpecJson[];
  'default-spec-id': number;
  'last-partition-id': number;
  'sort-orders': SortOrderJson[];
  'default-sort-order-id': number;
  properties?: Record<string, string>;
  'current-snapshot-id'?: SnapshotId | null;
  snapshots?: SnapshotJson[];
  'snapshot-log'?: { 'timestamp-ms': number; 'snapshot-id': SnapshotId }[];
  'metadata-log'?: { 'timestamp-ms': number; 'metadata-file': string }[];
  refs?: Record<string, { 'snapshot-id': SnapshotId; type: 'branch' | 'tag' }>;
  [unknown: string]: unknown;
}

export async function readMetadata(store: ObjectStore, path: string): Promise<TableMetadata> {
  try {
    const bytes = await store.read(path);
    const isGzip = bytes[0] === 0x1f && bytes[1] === 0x8b;
    return parseMetadata(toText(isGzip ? await pipe(bytes, new DecompressionStream('gzip')) : bytes), path);
  } catch (error) {
    throw inFile(error, path);
  }
}

/** Fails with `bad-file` when the text is not table metadata, `unsupported` for a version we do not read. */
export function parseMetadata(text: string, path: string): TableMetadata {
  const json = parsed(text, path);
  const version = json['format-version'];
  if (typeof version !== 'number') throw new LakeError('bad-file', `${path}: expected Iceberg table metadata with a "format-version", found none.`, { path });
  if (version > 2) throw new LakeError('unsupported', `${path}: Iceberg format version ${version} is not supported; 1 and 2 are.`, { path });
  const metadata = withoutVersion1Forms(json);
  const problem = shapeProblem(metadata, METADATA, '');
  if (problem) throw new LakeError('bad-file', `${path}: ${problem}.`, { path });
  const lacks = dangling(metadata);
  if (lacks) throw new LakeError('bad-file', `${path}: ${lacks}.`, { path });
  return metadata;
}

const SNAPSHOT: Shape = { 'snapshot-id': 'number', 'timestamp-ms': 'number', 'parent-snapshot-id?': 'number', 'sequence-number?': 'number', 'manifest-list?': 'text', 'manifests?': ['text'], 'summary?': { '*': 'text' }, 'schema-id?': 'number' };
const METADATA: Shape = {
  location: 'text', 'last-updated-ms': 'number', 'last-column-id': 'number', 'current-schema-id': 'number', 'default-spec-id': 'number', 'default-sort-order-id': 'number',
  schemas: [{ fields: [{ id: 'number', name: 'text', required: 'boolean' }], 'schema-id?': 'number' }],
  'partition-specs': [{ 'spec-id': 'number', fields: [{ 'source-id': 'number', 'field-id': 'number', name: 'text', transform: 'text' }] }],
  'sort-orders': [{ 'order-id': 'number', fields: [{ 'source-id': 'number', transform: 'text' }] }],
  'properties?': { '*': 'text' }, 'current-snapshot-id?': 'number', 'last-sequence-number?': 'number', 'snapshots?': [SNAPSHOT],
  'metadata-log?': [{ 'timestamp-ms': 'number', 'metadata-file': 'text' }], 'refs?': { '*': { 'snapshot-id': 'number', type: 'text' } },
};

/** A reference to a part of the metadata that is not there. */
function dangling(metadata: TableMetadata): string | undefined {
  const { schemas, 'current-schema-id': schema, 'current-snapshot-id': snapshot, snapshots = [] } = metadata;
  if (!schemas.some((each) => (each['schema-id'] ?? 0) === schema)) return `the current schema ${schema} is not among "schemas"`;
  const isSet = snapshot !== undefined && snapshot !== null && BigInt(snapshot) !== -1n;
  if (isSet && !snapshots.some((each) => sameId(each['snapshot-id'], snapshot))) return `the current snapshot ${snapshot} is not among "snapshots"`;
  return undefined;
}

function parsed(text: string, path: string): TableMetadata {
  try {
    const json = parseJson(text);
    if (typeof json === 'object' && json !== null && !Array.isArray(json)) return json as TableMetadata;
  } catch (error) {
    throw new LakeError('bad-file', `${path}: not JSON: ${(error as Error).message}.`, { path });
  }
  throw new LakeError('bad-file', `${path}: expected a JSON object with table metadata.`, { path });
}

/** Version 1 may carry one `schema` and one `partition-spec` instead of lists of them. */
function withoutVersion1Forms(json: TableMetadata): TableMetadata {
  const schemas = json.schemas ?? [{ 'schema-id': 0, ...(json.schema as StructJson) }];
  const specs = json['partition-specs'] ?? [{ 'spec-id': 0, fields: (json['partition-spec'] as PartitionSpecJson['fields']) ?? [] }];
  return {
    ...json,
    schemas,
    'current-schema-id': json['current-schema-id'] ?? 0,
    'partition-specs': specs,
    'default-spec-id': json['default-spec-id'] ?? 0,
    'sort-orders': json['sort-orders'] ?? [{ 'order-id': 0, fields: [] }],
    'default-sort-order-id': json['default-sort-order-id'] ?? 0,
    snapshots: json.snapshots ?? [],
  };
}

export function metadataBytes(metadata: TableMetadata): Uint8Array {
  return toBytes(`${stringifyJson(metadata, 2)}\n`);
}

export function sameId(a: SnapshotId | null | undefined, b: SnapshotId | null | undefined): boolean {
  return a !== undefined && b !== undefined && a !== null && b !== null && BigInt(a) === BigInt(b);
}

/** Null and -1 both mean that there is no snapshot yet. */
export function currentSnapshot(metadata: TableMetadata): SnapshotJson | undefined {
  const id = metadata['current-snapshot-id'];
  return metadata.snapshots?.find((snapshot) => sameId(snapshot['snapshot-id'], id));
}

export function schemaOf(metadata: TableMetadata, id: number | undefined): StructJson {
  const wanted = id ?? metadata['current-schema-id'];
  return metadata.schemas.find((schema) => (schema['schema-id'] ?? 0) === wanted) ?? metadata.schemas.at(-1)!;
}

/** Snapshots from the first ancestor to the current one, each with its version. */
export function mainLine(metadata: TableMetadata): { snapshot: SnapshotJson; version: number }[] {
  const byId = new Map((metadata.snapshots ?? []).map((snapshot) => [BigInt(snapshot['snapshot-id']), snapshot]));
  const line: SnapshotJson[] = [];
  for (let at = currentSnapshot(metadata); at; at = parentOf(at, byId)) line.unshift(at);
  // Version 1 has no sequence numbers: the place among all snapshots serves instead.
  return line.map((snapshot) => ({ snapshot, version: snapshot['sequence-number'] || metadata.snapshots!.indexOf(snapshot) + 1 }));
}

function parentOf(snapshot: SnapshotJson, byId: Map<bigint, SnapshotJson>): SnapshotJson | undefined {
  const parent = snapshot['parent-snapshot-id'];
  return parent === undefined || parent === null ? undefined : byId.get(BigInt(parent));
}
