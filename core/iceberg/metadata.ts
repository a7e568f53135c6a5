/** Table metadata JSON (Iceberg specification, Appendix C, "Table Metadata and Snapshots"). Unknown fields are kept as they are. */
import { faultWords } from '../fault-words';
import { LakeError } from '../errors';
import { inFile } from '../fault-words';
import { parseJson, stringifyJson } from '../json';
import { shapeProblem, type Shape } from '../shapes';
import { toBytes, toText, type ObjectStore } from '../storage/object-store';
import { pipe } from './avro';
import { parseGrown, type KnownList } from './grown-list';
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
  /** Version 3: the id of the first row that the snapshot adds, and how many ids it gives. */
  'first-row-id'?: number;
  'added-rows'?: number;
  /** Version 3: set where manifests are encrypted. */
  'key-id'?: string;
}

/** A name for a snapshot, with how long it and what leads to it are kept. */
export interface RefJson {
  'snapshot-id': SnapshotId;
  type: 'branch' | 'tag';
  'min-snapshots-to-keep'?: number;
  'max-snapshot-age-ms'?: number;
  'max-ref-age-ms'?: number;
}

export interface PartitionSpecJson {
  'spec-id': number;
  fields: PartitionFieldJson[];
}

export interface PartitionFieldJson {
  'source-id': number;
  'field-id': number;
  name: string;
  transform: string;
}

export interface SortOrderJson {
  'order-id': number;
  fields: SortFieldJson[];
}

export interface SortFieldJson {
  transform: string;
  'source-id': number;
  direction: 'asc' | 'desc';
  'null-order': 'nulls-first' | 'nulls-last';
}

/** Statistics of a snapshot, or of its partitions, in a file of their own; kept, not read. */
export interface StatisticsJson {
  'snapshot-id': SnapshotId;
  'statistics-path': string;
  [more: string]: unknown;
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
  refs?: Record<string, RefJson>;
  statistics?: StatisticsJson[];
  'partition-statistics'?: StatisticsJson[];
  /** Version 3: the id that the next row gets. */
  'next-row-id'?: number;
  [unknown: string]: unknown;
}

/** What was parsed of a table's metadata before, so that of the next only what is new need be. */
export interface KnownSnapshots {
  list?: KnownList | undefined;
}

/** `known` is taken up and brought forward. */
export async function readMetadata(store: ObjectStore, path: string, known: KnownSnapshots = {}): Promise<TableMetadata> {
  try {
    const bytes = await store.read(path);
    const isGzip = bytes[0] === 0x1f && bytes[1] === 0x8b;
    return parseMetadata(toText(isGzip ? await pipe(bytes, new DecompressionStream('gzip')) : bytes), path, known);
  } catch (error) {
    throw inFile(error, path);
  }
}

/** Fails with `bad-file` when the text is not table metadata, `unsupported` for a version we do not read. */
export function parseMetadata(text: string, path: string, known: KnownSnapshots = {}): TableMetadata {
  const { json, unchecked, list } = parsed(text, path, known.list);
  // Kept only where all turns out well.
  known.list = undefined;
  const version = json['format-version'];
  if (typeof version !== 'number') throw new LakeError('bad-file', `${path}: expected Iceberg table metadata with a "format-version", found none.`, { path });
  if (version > 3) throw new LakeError('unsupported', `${path}: Iceberg format version ${version} is not supported; 1, 2 and 3 are.`, { path });
  const metadata = withoutVersion1Forms(json);
  const problem = shapeProblem(unchecked ? { ...metadata, snapshots: unchecked } : metadata, METADATA, '');
  if (problem) throw new LakeError('bad-file', `${path}: ${problem}.`, { path });
  const lacks = dangling(metadata);
  if (lacks) throw new LakeError('bad-file', `${path}: ${lacks}.`, { path });
  known.list = list;
  return { ...metadata, refs: refsOf(metadata) };
}

const SNAPSHOT: Shape = { 'snapshot-id': 'number', 'timestamp-ms': 'number', 'parent-snapshot-id?': 'number', 'sequence-number?': 'number', 'manifest-list?': 'text', 'manifests?': ['text'], 'summary?': { '*': 'text' }, 'schema-id?': 'number', 'first-row-id?': 'number', 'added-rows?': 'number', 'key-id?': 'text' };
const METADATA: Shape = {
  location: 'text', 'last-updated-ms': 'number', 'last-column-id': 'number', 'current-schema-id': 'number', 'default-spec-id': 'number', 'default-sort-order-id': 'number',
  schemas: [{ fields: [{ id: 'number', name: 'text', required: 'boolean' }], 'schema-id?': 'number' }],
  'partition-specs': [{ 'spec-id': 'number', fields: [{ 'source-id': 'number', 'field-id': 'number', name: 'text', transform: 'text' }] }],
  'sort-orders': [{ 'order-id': 'number', fields: [{ 'source-id': 'number', transform: 'text' }] }],
  'properties?': { '*': 'text' }, 'current-snapshot-id?': 'number', 'last-sequence-number?': 'number', 'snapshots?': [SNAPSHOT],
  'metadata-log?': [{ 'timestamp-ms': 'number', 'metadata-file': 'text' }], 'refs?': { '*': { 'snapshot-id': 'number', type: 'text' } }, 'snapshot-log?': [{ 'timestamp-ms': 'number', 'snapshot-id': 'number' }],
  'statistics?': ['object'], 'partition-statistics?': ['object'], 'next-row-id?': 'number',
};

/** A reference to a part of the metadata that is not there. */
function dangling(metadata: TableMetadata): string | undefined {
  const { schemas, 'current-schema-id': schema, 'current-snapshot-id': snapshot, snapshots = [] } = metadata;
  if (!schemas.some((each) => (each['schema-id'] ?? 0) === schema)) return `the current schema ${schema} is not among "schemas"`;
  const isSet = snapshot !== undefined && snapshot !== null && BigInt(snapshot) !== -1n;
  if (isSet && !snapshots.some((each) => sameId(each['snapshot-id'], snapshot))) return `the current snapshot ${snapshot} is not among "snapshots"`;
  return undefined;
}

/** Shorter texts are parsed faster than they are compared. */
const LONG_TEXT = 50_000;

/** `unchecked`: the snapshots that are new, where the others were parsed and checked before. */
function parsed(text: string, path: string, known: KnownList | undefined): { json: TableMetadata; unchecked?: unknown[]; list: KnownList | undefined } {
  try {
    const grown = text.length < LONG_TEXT ? undefined : parseGrown(text, 'snapshots', known, parseJson);
    const isGrown = grown !== undefined && grown.added.length < grown.known!.items.length;
    const json = grown?.json ?? parseJson(text);
    if (typeof json === 'object' && json !== null && !Array.isArray(json)) return { json: json as TableMetadata, list: grown?.known, ...(isGrown ? { unchecked: grown.added } : {}) };
  } catch (error) {
    throw new LakeError('bad-file', `${path}: ${faultWords(error)}.`, { path });
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
    'last-partition-id': json['last-partition-id'] ?? lastPartitionId(specs),
    'sort-orders': json['sort-orders'] ?? [{ 'order-id': 0, fields: [] }],
    'default-sort-order-id': json['default-sort-order-id'] ?? 0,
    snapshots: json.snapshots ?? [],
  };
}

/** Below the first id that is given by common practice, for tables without partitions. */
function lastPartitionId(specs: readonly PartitionSpecJson[]): number {
  const ids = Array.isArray(specs) ? specs.flatMap((spec) => (Array.isArray(spec.fields) ? spec.fields : [])).map((field) => field['field-id']) : [];
  return Math.max(999, ...ids.filter((id) => Number.isInteger(id)));
}

/** Metadata of many snapshots is not indented: it is read far more often by programs than by people. */
const MOST_INDENTED = 200;

export function metadataBytes(metadata: TableMetadata): Uint8Array {
  const isLong = (metadata.snapshots?.length ?? 0) > MOST_INDENTED;
  return toBytes(`${stringifyJson(metadata, isLong ? undefined : 2)}\n`);
}

export function sameId(a: SnapshotId | null | undefined, b: SnapshotId | null | undefined): boolean {
  return a !== undefined && b !== undefined && a !== null && b !== null && BigInt(a) === BigInt(b);
}

export function snapshotById(metadata: TableMetadata, id: SnapshotId | null | undefined): SnapshotJson | undefined {
  return metadata.snapshots?.find((snapshot) => sameId(snapshot['snapshot-id'], id));
}

/** Branches and tags; tables of older writers name only the current snapshot, which is what `main` stands for. */
export function refsOf(metadata: TableMetadata): Record<string, RefJson> {
  const current = metadata['current-snapshot-id'];
  if (metadata.refs?.main || current === undefined || current === null || BigInt(current) === -1n) return metadata.refs ?? {};
  return { ...metadata.refs, main: { 'snapshot-id': current, type: 'branch' } };
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

/**
 * Snapshots from the first ancestor to the current one, each with its version. Where one between them has expired, what
 * lies before it is no longer linked to what comes after: then older snapshots count that no other branch has.
 */
export function mainLine(metadata: TableMetadata): { snapshot: SnapshotJson; version: number }[] {
  const line = lineTo(metadata, currentSnapshot(metadata));
  const [first] = line;
  return [...(first && hasParent(first) ? unlinkedBefore(metadata, first) : []), ...line].map((snapshot) => ({ snapshot, version: versionOf(metadata, snapshot) }));
}

/** Whether it was made on top of another, which may have expired. */
export function hasParent({ 'parent-snapshot-id': parent }: SnapshotJson): boolean {
  return parent !== undefined && parent !== null;
}

function unlinkedBefore(metadata: TableMetadata, first: SnapshotJson): SnapshotJson[] {
  const elsewhere = new Set(Object.entries(metadata.refs ?? {}).flatMap(([name, ref]) => (name === 'main' || ref.type !== 'branch' ? [] : lineTo(metadata, snapshotById(metadata, ref['snapshot-id'])))));
  const order = (snapshot: SnapshotJson) => snapshot['sequence-number'] || snapshot['timestamp-ms'];
  return (metadata.snapshots ?? []).filter((each) => !elsewhere.has(each) && order(each) < order(first)).sort((a, b) => order(a) - order(b));
}

/** A snapshot with all that it descends from and that is still there, oldest first. */
export function lineTo(metadata: TableMetadata, snapshot: SnapshotJson | undefined): SnapshotJson[] {
  const byId = new Map((metadata.snapshots ?? []).map((each) => [BigInt(each['snapshot-id']), each]));
  const line: SnapshotJson[] = [];
  const seen = new Set<SnapshotJson>();
  for (let at = snapshot; at && !seen.has(at); at = parentOf(at, byId)) {
    seen.add(at);
    line.push(at);
  }
  return line.reverse();
}

/** Version 1 has no sequence numbers: the place among all snapshots serves instead. */
export function versionOf(metadata: TableMetadata, snapshot: SnapshotJson): number {
  return snapshot['sequence-number'] || metadata.snapshots!.indexOf(snapshot) + 1;
}

function parentOf(snapshot: SnapshotJson, byId: Map<bigint, SnapshotJson>): SnapshotJson | undefined {
  const parent = snapshot['parent-snapshot-id'];
  return parent === undefined || parent === null ? undefined : byId.get(BigInt(parent));
}
