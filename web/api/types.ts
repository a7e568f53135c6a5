/** What the server's answers hold, as far as pages use it. */
import type { OtherWay } from '../../core/text/column-forms';
import type { CrawlDefinition } from '../../core/crawl/definition';
import type { ReadOptions } from '../../core/folder/read-options';
import type { ScanCounts } from '../../core/scan/plan';

import type { TimelineEntry } from '../../core/table/contract';

export type { TimelineEntry };

export interface FolderListing {
  storage: string;
  path: string;
  folders: string[];
  files: { path: string; bytes: number; modified: number }[];
  fileCount: number;
  bytes: number;
  tables: { name: string; location: string; format: string }[];
}

export interface FileLook {
  name: string;
  path: string;
  bytes: number;
  modified: number;
  kind: string;
  read: string;
  columns: { name: string; type: string; why?: string }[];
  notes: string[];
  rows: unknown[][];
  rowCount: number | null;
  lines: string[];
  parquet: { createdBy: string; rowGroups: { rows: number; bytes: number; columns: number; compression: string }[]; columns: { name: string; type: string; encodings: string; bytes: number; nulls: number | null; min: string | null; max: string | null }[] } | null;
  members: { path: string; name: string; bytes: number; kind: string }[] | null;
  meaning: FileMeaning | null;
  misfits: Misfits | null;
  unchecked: string | null;
  options: ReadOptions | null;
  problem: string | null;
}

/** What a file of metadata means: a commit's actions, a table's snapshots; facts may name another file. */
export interface FileMeaning {
  title: string;
  facts: { what: string; text: string; path?: string }[];
}

export interface Misfits {
  count: number;
  lines: number;
  files: number;
  of: number;
  some: { path: string; line: number | null; text: string; why: string }[];
}

export interface StorageName {
  name: string;
  kind: 'folder' | 's3' | 'postgres';
  location: string;
  settings: { endpoint?: string; host?: string; port?: number; user?: string } | null;
  keys: 'stored' | 'environment' | null;
}

export interface CheckStep {
  doing: string;
  works: boolean;
  detail: string;
  millis: number;
}

export interface SavedOptions {
  name: string;
  options: ReadOptions;
  who: string;
  at: string;
  tables: string[];
}

export interface FilesAccount {
  files: number;
  bytes: number;
  tables: { name: string; managed: boolean; files: number | null; of: number | null; views: string[] }[];
}

export interface Job {
  id: string;
  kind: string;
  title: string;
  state: 'running' | 'done' | 'failed' | 'cancelled' | 'interrupted';
  startedAt: string;
  finishedAt: string | null;
  done: number;
  total: number | null;
  message: string;
  log: { at: string; text: string }[];
  result: Record<string, unknown> | null;
}

export interface Crawl {
  id: number;
  name: string;
  definition: CrawlDefinition;
  scheduleWords: string | null;
  lastRun: CrawlOutcome | null;
}

export type Decision = 'register' | 'leave-out' | 'leave-out-always' | 'undecided' | 'registered' | 'unregistered';
export interface Evidence {
  looked: number;
  of: number;
  known: number;
  read: string;
  columns: { name: string; type: string; presence: number[]; clash: boolean; fromPath: boolean; isNew: boolean; why?: string; isAmbiguous?: boolean; others?: OtherWay[] }[];
  buckets: string[];
  partitions: { name: string; type: string; values: number; first: string | null; last: string | null }[];
  clashes: { column: string; types: { type: string; files: number; example: string }[] }[];
  partial: { column: string; presentIn: number; of: number; firstIn: string }[];
  problems: { path: string; problem: string }[];
  /** Ways out of the problems, to be chosen. */
  mends?: { label: string; misfits: 'set-aside' }[];
  /** What was seen of the files' layout. Absent in findings of older crawls, as the two below. */
  notes?: string[];
  /** What reading the files by this very definition gave. */
  proof?: { rows: number | null; files: number; of: number; repairs: string[]; missing: { column: string; values: number; texts: string[] }[] };
  statement: string;
  example: string | null;
  affected: string[];
  rowsAreEstimated: boolean;
  version: number | null;
}
/** A finding without what it rests on. */
export interface FindingBrief {
  id: number;
  storage: string;
  location: string;
  place: string;
  namespace: string;
  name: string;
  status: 'new' | 'changed' | 'unchanged' | 'clash' | 'no-shape' | 'unreadable' | 'gone';
  decision: Decision;
  format: string | null;
  summary: string;
  files: number;
  bytes: number;
  rows: number | null;
  relationId: number | null;
  rowsAreEstimated: boolean;
  /** Whether there is anything that could be registered. */
  isDefined: boolean;
}

export interface Finding extends Omit<FindingBrief, 'rowsAreEstimated' | 'isDefined'> {
  definition: { kind: 'folder'; folder: { options: ReadOptions; readWith?: string; pattern: string; partitionColumns: string[] } } | { kind: 'lake' } | null;
  evidence: Evidence;
}

/** A run without its findings. */
export interface CrawlOutcome {
  id: number;
  crawlId: number;
  crawl: string;
  definition: CrawlDefinition;
  jobId: string | null;
  askedAt: string | null;
  startedAt: string;
  finishedAt: string | null;
  who: string;
  cause: 'asked' | 'schedule' | 'restart';
  files: number;
  opened: number;
  found: number;
  undecided: number;
  added: number;
  problem: string | null;
}

export interface CrawlRun extends CrawlOutcome {
  findings: FindingBrief[];
}

export interface DriftEntry {
  id: number;
  table: string;
  runId: number;
  at: string;
  kind: string;
  column: string;
  before: string | null;
  after: string | null;
  files: string[];
  done: 'open' | 'taken over' | 'left as it was';
  doneBy: string | null;
  doneAt: string | null;
}

export interface RelationName {
  id: number;
  namespace: string;
  name: string;
  kind: 'table' | 'view';
  format: string | null;
  storage: string | null;
  location: string | null;
  description: string;
  owner: string;
  tags: string[];
  vouched: { who: string; until: string } | null;
  viewSql: string | null;
}
export interface NamespaceName {
  id: number;
  name: string;
  description: string;
  owner: string;
  properties: Record<string, string>;
  storage: string | null;
  folder: string | null;
  tables: number;
  views: number;
}
export interface CatalogNames {
  namespaces: NamespaceName[];
  relations: RelationName[];
}
export interface ColumnView {
  name: string;
  type: string;
  required: boolean;
  comment: string | null;
  nulls: number | null;
  role: 'partition' | 'sort' | null;
}
export interface TableDetail {
  namespace: string;
  name: string;
  kind: 'table' | 'view';
  format: string | null;
  storage: string | null;
  location: string | null;
  managed: boolean;
  description: string;
  owner: string;
  tags: string[];
  ownProperties: Record<string, string>;
  vouched: { who: string; why: string; since: string; until: string } | null;
  notes: Record<string, { description: string; tags: string[] }>;
  viewColumns?: { name: string; type: string }[];
  viewSql?: string;
  /** The view's text is in another engine's dialect, with something that is not taken over. */
  viewDialect?: { dialect: string; problem: string };
  version: number;
  snapshotId: string | null;
  committedAt: number;
  rows: number | null;
  files: number;
  bytes: number;
  partitioning: { source: string; transform: string; name: string }[];
  sortedBy: string[];
  properties: Record<string, string>;
  columns: ColumnView[];
  arrivals: { day: string; rows: number | null; files: number }[];
  latestVersion: number;
  past: boolean;
}
export interface ResultColumn {
  name: string;
  type: string;
}
export interface ReceiptTable {
  name: string;
  format: string;
  version: number;
  snapshotId?: string;
  committedAt: number;
  past: boolean;
  files: ScanCounts;
  bytes: { total: number; read: number };
  /** What a connected database is asked. */
  asked?: string;
  /** Why every file is read, where the query could not be planned. */
  unplanned?: string;
}
export interface QueryResult {
  /** Of a statement that defines: what was done, in words. */
  done?: string;
  /** Of SHOW and DESCRIBE, which leave no receipt. */
  isLook?: true;
  /** Of a statement that changed rows. */
  written?: Written;
  /** Of WRITE, whose rows are the files. */
  wrote?: unknown;
  id: string;
  columns: ResultColumn[];
  rows: unknown[][];
  rowCount: number;
  truncated: boolean;
  receipt: { id: string; tables: ReceiptTable[]; planMs: number; engineMs: number; totalMs: number };
}
export interface Receipt {
  id: string;
  at: string;
  who: string;
  kind: 'query' | 'write';
  outcome: 'done' | 'failed' | 'cancelled';
  sql: string;
  tables: ReceiptTable[];
  /** Of a write: the table, its new version, and counts where a statement made it. */
  written: { table: string; version?: number | null; rowsInserted?: number; rowsUpdated?: number; rowsDeleted?: number } | null;
  rowCount: number | null;
  totalMs: number | null;
  planMs: number | null;
  engineMs: number | null;
  problem: string | null;
}
export interface ReadMap extends ReceiptTable {
  skippedBy: { column: string; kind: 'partition' | 'bounds'; files: number }[];
  partitions: { label: string; segments: { bytes: number; rows: number | null; read: boolean; because?: string; path?: string; files: number }[] }[];
  partitionsSkippedWhole: number;
  partitionsNotShown: number;
}
export interface Hit {
  kind: 'table' | 'view' | 'column' | 'folder' | 'file' | 'saved query';
  name: string;
  inside: string;
  because?: string;
}
export interface ColumnProfile {
  name: string;
  type: string;
  nulls: number | null;
  distinct: number | null;
  distinctIsExact: boolean;
  min: string | null;
  max: string | null;
  mean: number | null;
  quantiles: number[] | null;
  lengths: { min: number; mean: number; max: number } | null;
  frequent: { value: string; rows: number }[];
  histogram: { from: number; to: number; counts: number[]; isTime: boolean } | null;
}
export interface TableProfile {
  version: number;
  latestVersion: number;
  at: string;
  looked: number;
  rows: number | null;
  how: 'all rows' | 'a sample' | 'metadata';
  columns: ColumnProfile[];
}
export interface Revision {
  number: number;
  at: string;
  who: string;
  action: string;
  subject: string;
}
export interface RevisionComparison {
  from: number;
  to: number;
  tables: { name: string; change: 'added' | 'gone' }[];
  columns: { table: string; column: string; change: 'added' | 'gone' | 'retyped' | 'renamed?'; before: string | null; after: string | null }[];
}

/** What a statement that changed rows wrote; no version where no row was concerned. */
export interface Written {
  table: string;
  version: number | null;
  operation: string;
}

export interface TableProperty {
  name: string;
  value: string | null;
  means: string;
  standard: string;
  form: string | readonly string[];
}

export interface IcebergFacts {
  formatVersion: number;
  uuid: string;
  location: string;
  metadataFile: string;
  ownedBy: 'catalog' | 'files';
  snapshots: number;
  properties: TableProperty[];
  refs: IcebergRef[];
  partitionings: { id: number; isCurrent: boolean; fields: { name: string; transform: string; source: string }[] }[];
  sortOrder: { column: string; direction: 'asc' | 'desc' }[];
  key: string[];
}

export interface IcebergRef {
  name: string;
  type: 'branch' | 'tag';
  snapshotId: string;
  version: number | null;
  at: number | null;
  isOnMain: boolean;
  minSnapshotsToKeep: number | null;
  maxSnapshotAgeMs: number | null;
  maxRefAgeMs: number | null;
}

export interface IcebergUpkeep {
  rewrite: { groups: number; files: number; bytes: number };
  deletes: { groups: number; files: number; bytes: number };
  manifests: { before: number; after: number };
  expiry: { snapshots: { id: string; at: number; operation: string }[]; refs: string[]; kept: number; files: number; bytes: number; paths: { path: string; bytes: number }[] };
  orphans: { files: number; bytes: number; young: number; paths: { path: string; bytes: number }[] };
}

/** What a table of the other open format over the same files would come to. */
export interface TableConversion {
  from: 'delta' | 'iceberg';
  to: 'delta' | 'iceberg';
  plan: { files: number; rows: number; bytes: number; leftBehind: { what: string; why: string }[]; obstacles: { what: string; why: string }[] };
}

export type AccessRight = 'see' | 'read' | 'write' | 'manage';

export interface AccessToken {
  id: string;
  name: string;
  grants: { on: string; right: AccessRight }[];
  createdBy: string;
  createdAt: string;
  expiresAt: string | null;
  lastUsed: string | null;
  revokedAt: string | null;
}

export interface ConnectFacts {
  path: string;
  tokenPath: string;
  endpoints: string[];
  warehouses: { name: string; kind: string; uri: string }[];
}

/** A table by its folder, registered or not. */
export interface FolderTable {
  format: string;
  version: number;
  rows: number | null;
  files: number;
  bytes: number;
  columns: { name: string; type: string }[];
  history: TimelineEntry[];
}
