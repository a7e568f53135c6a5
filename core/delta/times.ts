/**
 * When versions were committed: the in-commit timestamp where the table keeps one, else the file's modified time, never
 * before its predecessor (Delta protocol, "In-Commit Timestamps"; the adjustment of modified times by one millisecond is
 * common practice).
 */
import { LakeError } from '../errors';
import type { AsOf } from '../table/contract';
import { pickVersion } from '../table/versions';
import type { Commit, Metadata } from './actions';
import { earliestVersion } from './log';
import type { TableLog } from './log-memory';
import type { LogState } from './state';

interface Table {
  name: string;
  root: string;
  commit(version: number, log: TableLog): Promise<Commit>;
  state(version: number, log: TableLog): Promise<LogState>;
}

/** Whether commits hold their own time. */
export function hasOwnTimes({ configuration }: Pick<Metadata, 'configuration'>): boolean {
  return configuration['delta.enableInCommitTimestamps'] === 'true';
}

/** Modified times of the commit files from `first`, each at least a millisecond after the one before. */
export function modifiedTimes(log: TableLog, first: number, last = log.latest): number[] {
  const times: number[] = [];
  for (let version = first; version <= last; version++) times.push(Math.max(Math.floor(log.commits.get(version)?.modified ?? 0), (times.at(-1) ?? -Infinity) + 1));
  return times;
}

export async function timeOfVersion(table: Table, log: TableLog, version: number, ownTimes: boolean): Promise<number> {
  if (ownTimes && log.commits.has(version)) {
    const { info } = await table.commit(version, log);
    if (info?.inCommitTimestamp !== undefined) return Number(info.inCommitTimestamp);
  }
  return modifiedTimes(log, firstListed(log, version), version).at(-1)!;
}

/** Times count from the oldest commit in an unbroken row. */
function firstListed(log: TableLog, version: number): number {
  let first = version;
  while (first > 0 && log.commits.has(first - 1)) first--;
  return first;
}

/** The version that is meant, by number or by time; fails saying which versions there are. */
export async function versionAt(table: Table, log: TableLog, asOf: Exclude<AsOf, { kind: 'latest' }>): Promise<number> {
  const first = earliestReadable(table, log, asOf);
  if (asOf.kind === 'number') {
    if (asOf.number >= BigInt(first) && asOf.number <= BigInt(log.latest)) return Number(asOf.number);
    return pickVersion(table.name, [{ version: first, at: 0 }, { version: log.latest, at: 0 }].slice(first === log.latest ? 1 : 0), asOf).version;
  }
  if (asOf.kind !== 'time') return pickVersion(table.name, [{ version: log.latest, at: 0 }], asOf).version;
  const { metadata } = await table.state(log.latest, log);
  const times = modifiedTimes(log, first);
  // "For versions from the enablement version on, the in-commit timestamp; before it, the file's modified time."
  const own = hasOwnTimes(metadata) ? Math.max(first, Number(metadata.configuration['delta.inCommitTimestampEnablementVersion'] ?? first)) : Infinity;
  const timeAt = async (version: number) => (version >= own ? timeOfVersion(table, log, version, true) : times[version - first]!);
  let [low, high] = [first - 1, log.latest];
  while (low < high) {
    const middle = low + Math.ceil((high - low) / 2);
    if ((await timeAt(middle)) <= asOf.at) low = middle;
    else high = middle - 1;
  }
  if (low >= first) return low;
  return pickVersion(table.name, [{ version: first, at: await timeAt(first) }], asOf).version;
}

/** A version that is named can be read even where a later part of the log is damaged. */
function earliestReadable(table: Table, log: TableLog, asOf: AsOf): number {
  try {
    return earliestVersion(log, table.root, table.name);
  } catch (error) {
    const number = asOf.kind === 'number' ? Number(asOf.number) : -1;
    if (!(error instanceof LakeError) || number < 0 || !log.commits.has(number)) throw error;
    return earliestVersion({ ...log, latest: number }, table.root, table.name);
  }
}
