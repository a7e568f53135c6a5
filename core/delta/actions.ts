/** The actions of a Delta commit that matter to readers and writers (Delta protocol, "Actions"). Unknown ones are ignored, as the protocol says. */
import { LakeError } from '../errors';
import { parseJson } from '../json';

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
    if (line.trim() !== '') addAction(commit, parseLine(line, path, index + 1));
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

/** Puts one action, as JSON or a checkpoint row gives it, where it belongs. Keys of unknown actions are ignored. */
export function addAction(commit: Commit, action: Record<string, unknown>): void {
  if (action.add) commit.adds.push(action.add as Add);
  if (action.remove) commit.removes.push(action.remove as Remove);
  if (action.metaData) commit.metadata = action.metaData as Metadata;
  if (action.protocol) commit.protocol = action.protocol as Protocol;
  if (action.txn) commit.txns.push(action.txn as Txn);
  if (action.commitInfo) commit.info = action.commitInfo as CommitInfo;
}
