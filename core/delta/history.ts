/** What each version did, from its commit alone: nothing is replayed but columns. */
import { stringifyJson } from '../json';
import type { StepKind, TimelineEntry } from '../table/contract';
import type { Commit, Metadata } from './actions';
import type { DeltaTable } from './table';
import { earliestVersion, filePath } from './log';
import type { TableLog } from './log-memory';
import { rowCountOf } from './stats';
import { hasOwnTimes, modifiedTimes } from './times';

/** Commits read side by side. */
const AT_ONCE = 64;
/** Files of the version before the first that is shown, up to which they are looked at for their rows. */
const COUNTED_FILES = 20_000;

/** One entry for each of the newest `most` versions that can still be rebuilt, oldest first. */
export async function buildHistory(table: DeltaTable, log: TableLog, most: number): Promise<TimelineEntry[]> {
  const earliest = earliestVersion(log, table.root, table.name);
  const first = Math.max(earliest, log.latest - most + 1);
  const base = first > earliest || !log.commits.has(first) ? await table.state(first > earliest ? first - 1 : first, log) : undefined;
  let metadata: Metadata | undefined = base?.metadata;
  const times = modifiedTimes(log, first);
  const rows = new Map<string, number | undefined>();
  // Of a large table only what the shown commits themselves say of rows that went is known.
  if (base && base.files.count <= COUNTED_FILES) for await (const batch of base.files.batches()) for (const [, add] of batch) rows.set(filePath(add.path), rowCountOf(add.stats));
  const entries: TimelineEntry[] = [];
  for (let from = first; from <= log.latest; from += AT_ONCE) {
    const versions = Array.from({ length: Math.min(AT_ONCE, log.latest - from + 1) }, (_, index) => from + index);
    const commits = await Promise.all(versions.map((version) => (log.commits.has(version) ? table.commit(version, log) : undefined)));
    for (const [index, commit] of commits.entries()) {
      const version = from + index;
      if (!commit) {
        entries.push(checkpointEntry(version, base?.files ?? { count: 0, bytes: 0 }, times[version - first]!));
        continue;
      }
      const before = metadata;
      metadata = commit.metadata ?? metadata;
      const ownTime = metadata && hasOwnTimes(metadata) ? commit.info?.inCommitTimestamp : undefined;
      entries.push(entry(commit, before, rows, ownTime === undefined ? times[version - first]! : Number(ownTime)));
      for (const add of commit.adds) rows.set(filePath(add.path), rowCountOf(add.stats));
    }
  }
  return entries;
}

/** `before`: the metadata that the commit found, or undefined for a table's first. */
function entry(commit: Commit, before: Metadata | undefined, rowsOf: ReadonlyMap<string, number | undefined>, at: number): TimelineEntry {
  const info = commit.info ?? {};
  const changesColumns = commit.metadata !== undefined && before !== undefined && commit.metadata.schemaString !== before.schemaString;
  const rows = rowChanges(commit, rowsOf);
  const bytes = (files: { size?: number }[]) => files.reduce((sum, each) => sum + Number(each.size ?? 0), 0);
  return {
    version: commit.version,
    at,
    kind: kindOf(commit, before, changesColumns),
    operation: info.operation ?? 'unknown',
    ...(info.userName ? { who: info.userName } : {}),
    rowsAdded: rows.added,
    rowsRemoved: rows.removed,
    filesAdded: commit.adds.length,
    filesRemoved: commit.removes.length,
    bytesAdded: bytes(commit.adds),
    bytesRemoved: bytes(commit.removes),
    changesColumns,
    details: textual({ ...info.operationParameters, ...info.operationMetrics, ...(info.engineInfo ? { engine: info.engineInfo } : {}) }),
  };
}

function checkpointEntry(version: number, files: { count: number; bytes: number }, at: number): TimelineEntry {
  return {
    version, at, kind: 'create', operation: 'checkpoint', filesAdded: files.count, filesRemoved: 0,
    bytesAdded: files.bytes, bytesRemoved: 0, changesColumns: false,
    details: { note: 'Older versions have left the log.' },
  };
}

/** Rows by the operation's own metrics where it counts rows, else by the files and vectors that came and went. */
function rowChanges(commit: Commit, rowsOf: ReadonlyMap<string, number | undefined>): { added?: number; removed?: number } {
  if (isUpkeep(commit)) return { added: 0, removed: 0 };
  const metric = (...names: string[]) => {
    const found = names.map((name) => commit.info?.operationMetrics?.[name]).filter((value) => value !== undefined);
    return found.length > 0 ? found.reduce<number>((sum, value) => sum + Number(value), 0) : undefined;
  };
  const updated = metric('numTargetRowsUpdated', 'numUpdatedRows') ?? 0;
  const inserted = metric('numTargetRowsInserted');
  const deleted = metric('numTargetRowsDeleted', 'numDeletedRows');
  const replaced = commit.info?.operation === 'WRITE' && deleted !== undefined;
  if (!replaced && (inserted !== undefined || deleted !== undefined || updated > 0)) return { added: (inserted ?? 0) + updated, removed: (deleted ?? 0) + updated };
  const sum = (counts: (number | undefined)[]) => counts.reduce<number | undefined>((total, rows) => (total === undefined || rows === undefined ? undefined : total + rows), 0);
  const logical = (rows: number | undefined, vector: { cardinality: number } | undefined) => (rows === undefined ? undefined : rows - Number(vector?.cardinality ?? 0));
  const added = sum(commit.adds.map((add) => logical(rowCountOf(add.stats), add.deletionVector)));
  const removed = sum(commit.removes.map((remove) => logical(rowsOf.get(filePath(remove.path)) ?? rowCountOf(remove.stats), remove.deletionVector)));
  return replaced ? { added: metric('numOutputRows') ?? added, removed: deleted } : { added, removed };
}

function isUpkeep(commit: Commit): boolean {
  const changes = [...commit.adds, ...commit.removes];
  return changes.length > 0 && changes.every((each) => each.dataChange === false);
}

function kindOf(commit: Commit, before: Metadata | undefined, changesColumns: boolean): StepKind {
  if (isUpkeep(commit)) return 'upkeep';
  if (commit.info?.operation === 'RESTORE') return 'restore';
  if (commit.removes.length > 0) return 'change';
  if (commit.adds.length > 0) return changesColumns ? 'columns' : 'append';
  return before ? 'columns' : 'create';
}

function textual(details: Record<string, unknown>): Record<string, string> {
  return Object.fromEntries(Object.entries(details).map(([key, value]) => [key, typeof value === 'string' ? value : stringifyJson(value)]));
}
