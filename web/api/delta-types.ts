/** What the server's answers hold of Delta tables alone, as far as pages use it. */
import type { TableProperty } from './types';

/** A Delta log held against itself. */
export interface LogCheck {
  oldest: number;
  latest: number;
  versions: { from: number; to: number; state: 'whole' | 'wrong' | 'missing' | 'unreadable' }[];
  missing: number[];
  checkpoints: { version: number; status: 'right' | 'wrong' | 'unproved'; lacking: number; extra: number; otherwise: boolean; paths: string[]; files: string[] }[];
  checksums: { version: number; path: string; problem: string }[];
  /** Files whose bounds of times before 1970 may leave rows out. */
  lateMinimums: number;
}

export interface DeltaProtocol {
  version: number;
  readerVersion: number;
  writerVersion: number;
  features: { name: string; forReaders: boolean; means: string; write: 'yes' | 'no' | 'unused' }[];
  properties: TableProperty[];
  rules: { required: string[]; conditions: { name: string; sql: string }[]; generated: { column: string; sql: string }[]; defaults: { column: string; sql: string }[] };
  domains: string[];
  applications: { name: string; version: number }[];
}

export interface DeltaUpkeep {
  compaction: { groups: number; files: number; bytes: number };
  clearing: { files: number; bytes: number; paths: { path: string; bytes: number }[]; oldestReadable: number; breaks?: { from: number; to: number }; isShort: boolean };
  log: { files: number; oldestVersion: number; commits: number; lastCheckpoint: number };
}
