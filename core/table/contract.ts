/**
 * The one contract that every format implements. Nothing above it asks which format a table has, except to show it.
 */
import type { ReadFormat } from '../folder/read-options';
import type { TableSchema } from '../schema/types';
import type { Predicate } from '../scan/predicate';
import type { DataFile, ScanPlan, Totals } from '../scan/plan';

/** `postgres`: a table of a connected database, which has no versions. */
export type TableFormat = 'delta' | 'iceberg' | 'postgres' | ReadFormat;

/** Delta: the log's version. Iceberg: the snapshot's sequence number. Folders: the n-th listing that differed. */
export type Version = number;
/** Milliseconds since the epoch, UTC. */
export type CommitTime = number;

/** Which state of a table is meant. `number` may be a version or, for Iceberg, a snapshot id; the answer says which. `ref` is a branch or tag. */
export type AsOf = { kind: 'latest' } | { kind: 'number'; number: bigint } | { kind: 'time'; at: CommitTime } | { kind: 'ref'; name: string };

export const LATEST: AsOf = { kind: 'latest' };

/** What kind of step a commit was, for drawing it. */
export type StepKind = 'create' | 'append' | 'change' | 'restore' | 'columns' | 'settings' | 'upkeep' | 'listing';

export interface TimelineEntry {
  /** Absent for a commit that changed only columns or properties where those have no number (Iceberg). */
  version?: Version;
  snapshotId?: string;
  at: CommitTime;
  kind: StepKind;
  /** The operation by the format's own name: `WRITE`, `append`, … */
  operation: string;
  who?: string;
  rowsAdded?: number;
  rowsRemoved?: number;
  filesAdded: number;
  filesRemoved: number;
  bytesAdded: number;
  bytesRemoved: number;
  /** Whether columns differ from the step before. */
  changesColumns: boolean;
  /** Parameters and summary as the format keeps them. */
  details: Record<string, string>;
}

export interface PartitionColumn {
  /** Name of the partition column or of its source column. */
  source: string;
  /** `identity`, `day`, `bucket[16]`, … */
  transform: string;
  name: string;
}

export interface Snapshot {
  format: TableFormat;
  version: Version;
  snapshotId?: string;
  at: CommitTime;
  schema: TableSchema;
  partitioning: PartitionColumn[];
  sortedBy: string[];
  properties: Record<string, string>;
  /** Every live data file of this version; very many in large tables. */
  files(): Promise<readonly DataFile[]>;
  totals(): Promise<Totals>;
  plan(predicate: Predicate): Promise<ScanPlan>;
}

export interface LakeTable {
  readonly format: TableFormat;
  /** Oldest first; at least the newest `most` where that is given. */
  history(most?: number): Promise<TimelineEntry[]>;
  /** Fails with `not-found` and the versions that do exist when there is no such state. */
  snapshot(asOf: AsOf): Promise<Snapshot>;
}
