/** Committing to a Delta log: one put-if-absent, with conflict check and retry (Delta protocol, "Writer Requirements"; conflict rules are common practice). */
import { LakeError } from '../errors';
import { stringifyJson } from '../json';
import { toBytes, type Clock, type Ids } from '../storage/object-store';
import type { Action, Add, Commit, CommitInfo, Metadata, Protocol, Remove } from './actions';
import { commitTimes } from './history';
import { applyCommit, commitPath, earliestVersion, filePath, readCommit, type LogState } from './log';
import { checkWritable } from './protocol';
import type { DeltaTable } from './table';

export interface CommitPorts {
  clock: Clock;
  ids: Ids;
  /** Shown as the person who committed. */
  who: string;
}

/** What a change read, so that a concurrent commit can be judged. */
export type ReadSet =
  | 'nothing' // a blind append
  | 'whole-table';

export interface Change {
  operation: string;
  parameters: Record<string, unknown>;
  metrics: Record<string, number>;
  adds: Add[];
  removes: Remove[];
  metadata?: Metadata;
  protocol?: Protocol;
  read: ReadSet;
}

/** How often a commit tries again when others win the race for its version. */
const ATTEMPTS = 100;

/**
 * Commits `change`, which was made against `base` (undefined: the table does not exist yet). Returns the new version.
 * Fails with `conflict` when a commit since then makes the change wrong; nothing of it is visible in that case.
 */
export async function commitChange(table: DeltaTable, base: LogState | undefined, change: Change, ports: CommitPorts): Promise<number> {
  if (base) {
    checkWritable(table.name, base.version, base.protocol, base.metadata);
    if (base.metadata.configuration['delta.appendOnly'] === 'true' && change.removes.some((remove) => remove.dataChange)) {
      throw new LakeError('refused', `${table.name} is append-only (delta.appendOnly): ${change.operation} is not allowed.`, { table: table.name });
    }
  }
  let state = base;
  let previousTime = base ? await lastCommitTime(table, base.version) : -Infinity;
  for (let attempt = 0; attempt < ATTEMPTS; attempt++) {
    const version = (state?.version ?? -1) + 1;
    // Strictly increasing, also when the clock goes backwards.
    const timestamp = Math.max(ports.clock.now(), previousTime + 1);
    const path = commitPath(table.root, version);
    const info = commitInfo(change, state, timestamp, ports);
    const mine = await table.store.putIfAbsent(path, toBytes(commitText(change, info))).catch((error: unknown) => rethrowUnlessOurs(error, table, path, info));
    if (mine) return version;
    const winner = await readCommit(table.store, path, version);
    checkConflict(table.name, change, winner);
    state = applyCommit(state, winner, table.name);
    checkWritable(table.name, version, state.protocol, state.metadata);
    previousTime = await lastCommitTime(table, version);
  }
  throw new LakeError('conflict', `${table.name}: other writers committed ${ATTEMPTS} times in a row first. Try again.`, { table: table.name });
}

/** A put that failed may have happened all the same (a lost answer): the log says, by our transaction id. */
async function rethrowUnlessOurs(error: unknown, table: DeltaTable, path: string, info: CommitInfo): Promise<boolean> {
  const written = await readCommit(table.store, path, 0).catch(() => undefined);
  if (written?.info?.txnId === info.txnId) return true;
  throw error;
}

async function lastCommitTime(table: DeltaTable, version: number): Promise<number> {
  const log = await table.log();
  const first = earliestVersion(log, table.root, table.name);
  if (!log.commits.has(version)) return log.commits.get(version)?.modified ?? -Infinity;
  const commits: Commit[] = [];
  for (let each = Math.max(first, version - 1); each <= version; each++) {
    const file = log.commits.get(each);
    if (file) commits.push(await readCommit(table.store, file.path, each));
  }
  return commitTimes(commits, version - commits.length + 1, log).at(-1)!;
}

function commitInfo(change: Change, state: LogState | undefined, timestamp: number, { ids, who }: CommitPorts): CommitInfo {
  const metadata = change.metadata ?? state?.metadata;
  const inCommit = metadata?.configuration['delta.enableInCommitTimestamps'] === 'true';
  return {
    ...(inCommit ? { inCommitTimestamp: timestamp } : {}),
    timestamp,
    userName: who,
    operation: change.operation,
    operationParameters: change.parameters,
    operationMetrics: Object.fromEntries(Object.entries(change.metrics).map(([name, value]) => [name, String(value)])),
    ...(state ? { readVersion: state.version } : {}),
    isBlindAppend: change.read === 'nothing' && change.removes.length === 0,
    engineInfo: 'Kind-Harbor/0.1',
    txnId: ids.uuid(),
  };
}

/** In-commit timestamps must be in the first action, so commitInfo leads. */
function commitText(change: Change, info: CommitInfo): string {
  const actions: Action[] = [
    { commitInfo: info },
    ...(change.protocol ? [{ protocol: change.protocol }] : []),
    ...(change.metadata ? [{ metaData: change.metadata }] : []),
    ...change.removes.map((remove) => ({ remove })),
    ...change.adds.map((add) => ({ add })),
  ];
  return actions.map((action) => `${stringifyJson(action)}\n`).join('');
}

/** Whether a commit that came first makes this change wrong. */
function checkConflict(table: string, change: Change, winner: Commit): void {
  const fail = (what: string): never => {
    throw new LakeError('conflict', `${table}: version ${winner.version}, committed meanwhile, ${what}. Read the table again and repeat the change.`, { table, version: winner.version });
  };
  if (winner.protocol) fail('changed the protocol');
  if (winner.metadata) fail('changed the columns or properties');
  if (change.metadata || change.protocol) fail('came before this change of columns or properties');
  const removedByWinner = new Set(winner.removes.map((remove) => filePath(remove.path)));
  if (change.removes.some((remove) => removedByWinner.has(filePath(remove.path)))) fail('removed a file that this change replaces');
  if (change.read === 'nothing') return;
  if (winner.adds.some((add) => add.dataChange)) fail('added rows that this change did not see');
  if (winner.removes.some((remove) => remove.dataChange)) fail('removed rows that this change had read');
}
