/** The actions of a Delta commit that matter to readers and writers (Delta protocol, "Actions"). Unknown ones are ignored, as the protocol says. */
import { LakeError } from '../errors';
import { parseJson } from '../json';
import { shapeProblem, type Shape } from '../shapes';

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
  partitionValues: Record<string, string | null>;
  size: number;
  modificationTime: number;
  dataChange: boolean;
  /** JSON text. */
  stats?: string;
  tags?: Record<string, string>;
  deletionVector?: Record<string, unknown>;
}

export interface Remove {
  path: string;
  deletionTimestamp?: number;
  dataChange: boolean;
  extendedFileMetadata?: boolean;
  partitionValues?: Record<string, string | null>;
  size?: number;
  stats?: string;
  deletionVector?: Record<string, unknown>;
}

export interface Txn {
  appId: string;
  version: number;
  lastUpdated?: number;
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

export type Action =
  | { add: Add }
  | { remove: Remove }
  | { metaData: Metadata }
  | { protocol: Protocol }
  | { txn: Txn }
  | { commitInfo: CommitInfo };

export interface Commit {
  version: number;
  adds: Add[];
  removes: Remove[];
  metadata?: Metadata;
  protocol?: Protocol;
  txns: Txn[];
  info?: CommitInfo;
}

/** Reads one commit's lines. Fails naming the file and line that is not JSON. */
export function parseCommit(version: number, text: string, path: string): Commit {
  const commit: Commit = { version, adds: [], removes: [], txns: [] };
  text.split('\n').forEach((line, index) => {
    if (line.trim() === '') return;
    const problem = addAction(commit, parseLine(line, path, index + 1));
    if (problem) throw new LakeError('bad-file', `${path}, line ${index + 1}: ${problem}.`, { path, line: index + 1 });
  });
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

/** What an action must hold to be used. Everything else is unknown to us and left alone. */
const HOLDS: Record<string, Shape> = {
  add: { path: 'text', partitionValues: 'object', size: 'number', 'stats?': 'text' },
  remove: { path: 'text', 'size?': 'number', 'stats?': 'text' },
  metaData: { id: 'text', schemaString: 'text', 'partitionColumns?': ['text'], 'configuration?': { '*': 'text' } },
  protocol: { minReaderVersion: 'number', minWriterVersion: 'number', 'readerFeatures?': ['text'], 'writerFeatures?': ['text'] },
  txn: { appId: 'text', version: 'number' },
  commitInfo: { 'inCommitTimestamp?': 'number', 'operation?': 'text', 'userName?': 'text', 'operationParameters?': 'object', 'operationMetrics?': 'object' },
};

/**
 * Puts one action, as JSON or a checkpoint row gives it, where it belongs. Keys of unknown actions are ignored.
 * Returns what is wrong with one that cannot be used.
 */
export function addAction(commit: Commit, action: Record<string, unknown>): string | undefined {
  for (const kind of Object.keys(HOLDS)) {
    const value = action[kind];
    if (value === undefined || value === null) continue;
    const problem = shapeProblem(value, HOLDS[kind]!, kind);
    if (problem) return problem;
  }
  if (action.add) commit.adds.push(action.add as Add);
  if (action.remove) commit.removes.push(action.remove as Remove);
  if (action.metaData) commit.metadata = action.metaData as Metadata;
  if (action.protocol) commit.protocol = action.protocol as Protocol;
  if (action.txn) commit.txns.push(action.txn as Txn);
  if (action.commitInfo) commit.info = action.commitInfo as CommitInfo;
  return undefined;
}
