import type { StepKind, TimelineEntry } from '../table/contract';
import type { Commit } from './actions';
import { filePath, type LogListing, type LogState } from './log';
import { rowCountOf } from './stats';

/**
 * The commit time of consecutive versions from `first`: the in-commit timestamp where the table keeps one, else the
 * file's modified time, never before its predecessor (Delta protocol, "In-Commit Timestamps"; the adjustment of
 * modified times by one millisecond is common practice).
 */
export function commitTimes(commits: readonly (Commit | undefined)[], first: number, log: LogListing): number[] {
  let previous = -Infinity;
  return commits.map((commit, index) => {
    const inCommit = commit?.info?.inCommitTimestamp;
    const modified = log.commits.get(first + index)?.modified ?? 0;
    previous = inCommit !== undefined ? Number(inCommit) : Math.max(Math.floor(modified), previous + 1);
    return previous;
  });
}

/** One entry for each state that can still be rebuilt; states[i] is the state after commits[i]. */
export function buildHistory(states: LogState[], commits: (Commit | undefined)[], log: LogListing, _table: string): TimelineEntry[] {
  const times = commitTimes(commits, states[0]!.version, log);
  return states.map((state, index) => {
    const commit = commits[index];
    const before = states[index - 1];
    return commit ? entry(commit, before, times[index]!) : checkpointEntry(state, times[index]!);
  });
}

function entry(commit: Commit, before: LogState | undefined, at: number): TimelineEntry {
  const info = commit.info ?? {};
  const changesColumns = commit.metadata !== undefined && before !== undefined && commit.metadata.schemaString !== before.metadata.schemaString;
  const rows = rowChanges(commit, before);
  const bytes = (paths: { size?: number }[]) => paths.reduce((sum, each) => sum + Number(each.size ?? 0), 0);
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
    details: textual({ ...info.operationParameters, ...info.operationMetrics }),
  };
}

function checkpointEntry(state: LogState, at: number): TimelineEntry {
  return {
    version: state.version, at, kind: 'create', operation: 'checkpoint', filesAdded: state.files.size, filesRemoved: 0,
    bytesAdded: [...state.files.values()].reduce((sum, add) => sum + Number(add.size), 0), bytesRemoved: 0, changesColumns: false,
    details: { note: 'Older versions have left the log.' },
  };
}

/** Rows by the operation's own metrics where it counts rows, else by the files that came and went. */
function rowChanges(commit: Commit, before: LogState | undefined): { added?: number; removed?: number } {
  if (isUpkeep(commit)) return { added: 0, removed: 0 };
  const metric = (...names: string[]) => {
    const found = names.map((name) => commit.info?.operationMetrics?.[name]).filter((value) => value !== undefined);
    return found.length > 0 ? found.reduce<number>((sum, value) => sum + Number(value), 0) : undefined;
  };
  const updated = metric('numTargetRowsUpdated', 'numUpdatedRows') ?? 0;
  const inserted = metric('numTargetRowsInserted');
  const deleted = metric('numTargetRowsDeleted', 'numDeletedRows');
  if (inserted !== undefined || deleted !== undefined || updated > 0) return { added: (inserted ?? 0) + updated, removed: (deleted ?? 0) + updated };
  const sum = (counts: (number | undefined)[]) => counts.reduce<number | undefined>((total, rows) => (total === undefined || rows === undefined ? undefined : total + rows), 0);
  return {
    added: sum(commit.adds.map((add) => rowCountOf(add.stats))),
    removed: sum(commit.removes.map((remove) => rowCountOf(before?.files.get(filePath(remove.path))?.stats ?? remove.stats))),
  };
}

function isUpkeep(commit: Commit): boolean {
  const changes = [...commit.adds, ...commit.removes];
  return changes.length > 0 && changes.every((each) => each.dataChange === false);
}

function kindOf(commit: Commit, before: LogState | undefined, changesColumns: boolean): StepKind {
  if (isUpkeep(commit)) return 'upkeep';
  if (commit.info?.operation === 'RESTORE') return 'restore';
  if (commit.removes.length > 0) return 'change';
  if (commit.adds.length > 0) return changesColumns ? 'columns' : 'append';
  return before ? 'columns' : 'create';
}

function textual(details: Record<string, unknown>): Record<string, string> {
  return Object.fromEntries(Object.entries(details).map(([key, value]) => [key, typeof value === 'string' ? value : JSON.stringify(value)]));
}
