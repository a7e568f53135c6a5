/** The actions of a Delta log that matter to readers and writers (Delta protocol, "Actions"). Unknown ones are ignored, as the protocol says. */
import { LakeError } from '../errors';
import { parseJson } from '../json';
import { shapeProblem, type Shape } from '../shapes';
import type { VectorDescriptor } from './deletion-vector';

export interface Protocol {
  minReaderVersion: number;
  minWriterVersion: number;
  readerFeatures?: string[];
  writerFeatures?: string[];
}

export interface Metadata {
  id: string;
  name?: string;
  description?: string;
  format: { provider: string; options: Record<string, string> };
  schemaString: string;
  partitionColumns: string[];
  createdTime?: number;
  configuration: Record<string, string>;
}

export interface Add {
  /** Relative to the table's root and percent-encoded, or an absolute URI. */
  path: string;
  /** By physical name. */
  partitionValues: Record<string, string | null>;
  size: number;
  modificationTime: number;
  dataChange: boolean;
  /** JSON text, by physical name. */
  stats?: string;
  tags?: Record<string, string>;
  deletionVector?: VectorDescriptor;
  /** Row tracking: the id of the file's first row, and the version that brought it. */
  baseRowId?: number;
  defaultRowCommitVersion?: number;
  clusteringProvider?: string;
}

export interface Remove {
  path: string;
  deletionTimestamp?: number;
  dataChange: boolean;
  extendedFileMetadata?: boolean;
  partitionValues?: Record<string, string | null>;
  size?: number;
  stats?: string;
  tags?: Record<string, string>;
  deletionVector?: VectorDescriptor;
  baseRowId?: number;
  defaultRowCommitVersion?: number;
}

/** A file of changed rows ("Add CDC File"); its rows are no part of the table. */
export interface ChangeFile {
  path: string;
  partitionValues: Record<string, string | null>;
  size: number;
  dataChange: false;
  tags?: Record<string, string>;
}

export interface Txn {
  appId: string;
  version: number;
  lastUpdated?: number;
}

export interface DomainMetadata {
  domain: string;
  configuration: string;
  removed: boolean;
}

export interface CommitInfo {
  timestamp?: number;
  inCommitTimestamp?: number;
  operation?: string;
  operationParameters?: Record<string, unknown>;
  operationMetrics?: Record<string, unknown>;
  userName?: string;
  readVersion?: number;
  isBlindAppend?: boolean;
  engineInfo?: string;
  txnId?: string;
  [other: string]: unknown;
}

/** A file of add and remove actions that a V2 checkpoint names. */
export interface Sidecar {
  path: string;
  sizeInBytes: number;
  modificationTime: number;
}

export type Action =
  | { add: Add }
  | { remove: Remove }
  | { cdc: ChangeFile }
  | { metaData: Metadata }
  | { protocol: Protocol }
  | { txn: Txn }
  | { domainMetadata: DomainMetadata }
  | { commitInfo: CommitInfo }
  | { sidecar: Sidecar }
  | { checkpointMetadata: { version: number } };

export interface Commit {
  version: number;
  adds: Add[];
  removes: Remove[];
  changeFiles: ChangeFile[];
  metadata?: Metadata;
  protocol?: Protocol;
  txns: Txn[];
  domains: DomainMetadata[];
  info?: CommitInfo;
  /** Only in V2 checkpoints. */
  sidecars: Sidecar[];
}

export function emptyCommit(version: number): Commit {
  return { version, adds: [], removes: [], changeFiles: [], txns: [], domains: [], sidecars: [] };
}

/** Reads one commit's lines. Fails naming the file and line that is not JSON, or the file that is empty. */
export function parseCommit(version: number, text: string, path: string): Commit {
  const commit = emptyCommit(version);
  let actions = 0;
  text.split('\n').forEach((line, index) => {
    if (line.trim() === '') return;
    actions++;
    const problem = addAction(commit, parseLine(line, path, index + 1));
    if (problem) throw new LakeError('bad-file', `${path}, line ${index + 1}: ${problem}.`, { path, line: index + 1 });
  });
  if (actions === 0) throw new LakeError('bad-file', `${path} is empty, where at least one action is expected. It was cut off while it was written.`, { path, line: 1 });
  return commit;
}

function parseLine(line: string, path: string, number: number): Record<string, unknown> {
  try {
    const value = parseJson(line);
    if (typeof value === 'object' && value !== null && !Array.isArray(value)) return value as Record<string, unknown>;
  } catch {
    // reported below
  }
  throw new LakeError('bad-file', `${path}, line ${number}: expected one JSON action, found "${line.slice(0, 60)}".`, { path, line: number });
}

const VECTOR: Shape = { storageType: 'text', pathOrInlineDv: 'text', 'offset?': 'number', sizeInBytes: 'number', cardinality: 'number' };

/** What an action must hold to be used. Everything else is unknown to us and left alone. */
const HOLDS: Record<string, Shape> = {
  add: { path: 'text', partitionValues: 'object', size: 'number', 'stats?': 'text', 'deletionVector?': VECTOR },
  remove: { path: 'text', 'size?': 'number', 'stats?': 'text', 'deletionVector?': VECTOR },
  cdc: { path: 'text', partitionValues: 'object', size: 'number' },
  metaData: { id: 'text', schemaString: 'text', 'partitionColumns?': ['text'], 'configuration?': { '*': 'text' } },
  protocol: { minReaderVersion: 'number', minWriterVersion: 'number', 'readerFeatures?': ['text'], 'writerFeatures?': ['text'] },
  txn: { appId: 'text', version: 'number' },
  domainMetadata: { domain: 'text', configuration: 'text' },
  commitInfo: { 'inCommitTimestamp?': 'number', 'operation?': 'text', 'userName?': 'text', 'operationParameters?': 'object', 'operationMetrics?': 'object' },
};
const KINDS = Object.keys(HOLDS);

/**
 * Puts one action, as JSON or a checkpoint row gives it, where it belongs. Keys of unknown actions are ignored.
 * Returns what is wrong with one that cannot be used.
 */
export function addAction(commit: Commit, action: Record<string, unknown>): string | undefined {
  for (const kind of KINDS) {
    const value = action[kind];
    if (value === undefined || value === null) continue;
    const problem = shapeProblem(value, HOLDS[kind]!, kind);
    if (problem) return problem;
  }
  if (action.add) commit.adds.push(action.add as Add);
  if (action.remove) commit.removes.push(action.remove as Remove);
  if (action.cdc) commit.changeFiles.push(action.cdc as ChangeFile);
  if (action.metaData) commit.metadata = withDefaults(action.metaData as Metadata);
  if (action.protocol) commit.protocol = action.protocol as Protocol;
  if (action.txn) commit.txns.push(action.txn as Txn);
  if (action.domainMetadata) commit.domains.push(action.domainMetadata as DomainMetadata);
  if (action.commitInfo) commit.info = action.commitInfo as CommitInfo;
  if (isSidecar(action.sidecar)) commit.sidecars.push(action.sidecar);
  return undefined;
}

/** Only checkpoints have them; anywhere else they mean nothing. */
function isSidecar(value: unknown): value is Sidecar {
  return typeof value === 'object' && value !== null && typeof (value as Partial<Sidecar>).path === 'string';
}

function withDefaults(metadata: Metadata): Metadata {
  return { ...metadata, partitionColumns: metadata.partitionColumns ?? [], configuration: metadata.configuration ?? {} };
}
