/** Committing to a Delta log: one put-if-absent, with conflict check and retry (Delta protocol, "Requirements for Writers"). */
import { LakeError } from '../errors';
import { stringifyJson } from '../json';
import { joinPath } from '../storage/paths';
import { toBytes, type Clock, type Ids } from '../storage/object-store';
import { emptyCommit, type Action, type Add, type ChangeFile, type Commit, type CommitInfo, type DomainMetadata, type Metadata, type Protocol, type Remove, type Txn } from './actions';
import { checkConflict, type ReadSet } from './conflicts';
import { COMMIT_RETRIES, retrying } from '../table/retry';
import { commitPath, isSameObject, LOG_FOLDER, paddedVersion, readCommit } from './log';
import { checkWritable, hasFeature } from './protocol';
import { RowIds } from './row-tracking';
import { rulesOf } from './rules';
import { applyCommit, type LogState } from './state';
import { timeOfVersion, hasOwnTimes } from './times';
import type { DeltaTable } from './table';

/** Before 0.2 minimums of times before 1970 were rounded up. */
export const ENGINE_INFO = 'Kind-Harbor/0.2';
const WROTE_LATE_MINIMUMS = /^Kind-Harbor\/0\.1$/;

export function wroteLateMinimums({ info }: Commit): boolean {
  return WROTE_LATE_MINIMUMS.test(info?.engineInfo ?? '');
}

export interface CommitPorts {
  clock: Clock;
  ids: Ids;
  /** Shown as the person who committed. */
  who: string;
}

export interface Change {
  operation: string;
  parameters: Record<string, unknown>;
  metrics: Record<string, number>;
  adds: Add[];
  removes: Remove[];
  changeFiles?: ChangeFile[];
  metadata?: Metadata;
  protocol?: Protocol;
  txns?: Txn[];
  domains?: DomainMetadata[];
  read: ReadSet;
  restated?: readonly string[];
  /** The new rows were held against the table's rules (`rulesOf`) by whoever made them. */
  rowsChecked?: boolean;
}

/**
 * Commits `change`, which was made against `base` (undefined: the table does not exist yet). Returns the new version.
 * Fails with `conflict` when a commit since then makes the change wrong; nothing of it is visible in that case.
 */
export async function commitChange(table: DeltaTable, base: LogState | undefined, change: Change, ports: CommitPorts): Promise<number> {
  if (base) {
    checkAllowed(table, base, change);
    await checkStands(table, base.version);
  }
  let state = base;
  let previousTime = base ? await commitTime(table, base) : -Infinity;
  return retrying(table.name, COMMIT_RETRIES, ports.clock, async () => {
    const version = (state?.version ?? -1) + 1;
    const made = withRowIds(change, state, version);
    // Strictly increasing, also when the clock goes backwards.
    const timestamp = Math.max(ports.clock.now(), previousTime + 1);
    const path = commitPath(table.root, version);
    const info = commitInfo(made, state, timestamp, ports);
    const text = toBytes(commitText(made, info));
    const mine = await table.store.putIfAbsent(path, text).catch((error: unknown) => rethrowUnlessOurs(error, table, path, info));
    if (mine) {
      await checkWritten(table, path, text);
      concluded(table, base, state, asCommit(version, made, info), timestamp);
      return version;
    }
    const winner = await readCommit(table.store, path, version);
    if (!state) throw new LakeError('conflict', `${table.name}: somebody else made a table at ${table.root} first.`, { table: table.name, path: table.root });
    await checkConflict(table, state, change, winner);
    state = applyCommit(state, winner, table.name);
    checkWritable(table.name, version, state.protocol, state.metadata);
    previousTime = await commitTime(table, state);
    return undefined;
  });
}

/** Before a version is put on top of another: that one is still in the log, else the log would get a gap. */
async function checkStands(table: DeltaTable, version: number): Promise<void> {
  const path = commitPath(table.root, version);
  const known = table.listed(version)?.commits.get(version);
  const now = await table.store.head(path);
  if (now ? !known || isSameObject(now, known) : (await table.log()).checkpoints.has(version)) return;
  throw new LakeError('conflict', `${table.name}: version ${version}, which this change was made from, is ${now ? 'another one by now' : 'no longer in the log'}. The table was dropped, made again or put back meanwhile. Nothing was changed.`, {
    table: table.name, version, path, hint: 'Look at the table as it is now, and repeat the change.',
  });
}

/** Nothing is acknowledged that storage does not give back: not every store keeps what it promises of conditional writes. */
async function checkWritten(table: DeltaTable, path: string, text: Uint8Array): Promise<void> {
  const stands = await table.store.read(path);
  if (stands.length === text.length && stands.every((byte, index) => byte === text[index])) return;
  throw new LakeError('bad-file', `${table.name}: the storage took the commit ${path}, but gives back another one. Two writers may have been told that they committed.`, {
    table: table.name, path, hint: 'Check the storage: it must refuse a conditional write (If-None-Match) over a file that is there.',
  });
}

function checkAllowed(table: DeltaTable, base: LogState, change: Change): void {
  checkWritable(table.name, base.version, base.protocol, base.metadata);
  // "appendOnly: no data may be removed or changed", which compaction does not.
  if (base.metadata.configuration['delta.appendOnly'] === 'true' && change.removes.some((remove) => remove.dataChange)) {
    throw new LakeError('refused', `${table.name} is append-only (delta.appendOnly): ${change.operation} is not allowed.`, { table: table.name });
  }
  if (change.rowsChecked || !change.adds.some((add) => add.dataChange)) return;
  const { conditions, generated } = rulesOf(base.metadata, table.name);
  const rules = [...conditions.map((each) => each.name), ...generated.map((each) => each.column)];
  if (rules.length > 0) {
    throw new LakeError('unsupported', `${table.name} has rules for new rows (${rules.join(', ')}), which this way of writing does not check. Nothing was written.`, { table: table.name, hint: 'Add the rows with INSERT INTO, which checks them.' });
  }
}

/** A put that failed may have happened all the same (a lost answer): the log says, by our transaction id. */
async function rethrowUnlessOurs(error: unknown, table: DeltaTable, path: string, info: CommitInfo): Promise<boolean> {
  const written = await readCommit(table.store, path, 0).catch(() => undefined);
  if (written?.info?.txnId === info.txnId) return true;
  throw error;
}

async function commitTime(table: DeltaTable, { version, metadata }: LogState): Promise<number> {
  return timeOfVersion(table, table.listed(version) ?? (await table.newest()), version, hasOwnTimes(metadata));
}

function commitInfo(change: Change, state: LogState | undefined, timestamp: number, { ids, who }: CommitPorts): CommitInfo {
  const metadata = change.metadata ?? state?.metadata;
  const isolation = state?.metadata.configuration['delta.isolationLevel'];
  return {
    ...(metadata && hasOwnTimes(metadata) ? { inCommitTimestamp: timestamp } : {}),
    timestamp,
    userName: who,
    operation: change.operation,
    operationParameters: change.parameters,
    operationMetrics: Object.fromEntries(Object.entries(change.metrics).map(([name, value]) => [name, String(value)])),
    ...(state ? { readVersion: state.version } : {}),
    ...(isolation ? { isolationLevel: isolation } : {}),
    isBlindAppend: change.read.kind === 'nothing' && change.removes.length === 0,
    engineInfo: ENGINE_INFO,
    txnId: ids.uuid(),
  };
}

/** In-commit timestamps must be in the first action, so commitInfo leads. */
function commitText(change: Change, info: CommitInfo): string {
  return actionsText([
    { commitInfo: info },
    ...(change.protocol ? [{ protocol: change.protocol }] : []),
    ...(change.metadata ? [{ metaData: change.metadata }] : []),
    ...(change.txns ?? []).map((txn) => ({ txn })),
    ...(change.domains ?? []).map((domainMetadata) => ({ domainMetadata })),
    ...change.removes.map((remove) => ({ remove })),
    ...change.adds.map((add) => ({ add })),
    ...(change.changeFiles ?? []).map((cdc) => ({ cdc })),
  ]);
}

export function actionsText(actions: readonly Action[]): string {
  return actions.map((action) => `${stringifyJson(action)}\n`).join('');
}

function asCommit(version: number, change: Change, info: CommitInfo): Commit {
  return {
    ...emptyCommit(version), adds: change.adds, removes: change.removes, changeFiles: change.changeFiles ?? [], txns: change.txns ?? [], domains: change.domains ?? [], info,
    ...(change.metadata ? { metadata: change.metadata } : {}), ...(change.protocol ? { protocol: change.protocol } : {}),
  };
}

/** "Row Tracking": supported tables number the rows of every new file, and keep the highest number as a domain. */
function withRowIds(change: Change, state: LogState | undefined, version: number): Change {
  const protocol = change.protocol ?? state?.protocol;
  if (!protocol || !hasFeature(protocol, 'rowTracking') || change.adds.length === 0) return change;
  const ids = RowIds.of(state);
  const adds = change.adds.map((add) => ids.number(add, version));
  return { ...change, adds, domains: [...(change.domains ?? []).filter((each) => each.domain !== RowIds.DOMAIN), ids.domain()] };
}

/** The state after the commit is known without reading; its checksum file is left for `settled`, since it only ever confirms and may be lacking. */
function concluded(table: DeltaTable, base: LogState | undefined, before: LogState | undefined, commit: Commit, timestamp: number): void {
  const state = applyCommit(before, commit, table.name);
  table.adopt(base, state, commit);
  // "Version Checksum File": tableSizeBytes, numFiles, numMetadata, numProtocol, metadata and protocol are required.
  const checksum = {
    txnId: commit.info?.txnId, tableSizeBytes: state.files.bytes, numFiles: state.files.count, numMetadata: 1, numProtocol: 1,
    ...(hasOwnTimes(state.metadata) ? { inCommitTimestampOpt: timestamp } : {}), metadata: state.metadata, protocol: state.protocol,
  };
  table.writeBehind(() => table.store.putIfAbsent(joinPath(table.root, LOG_FOLDER, `${paddedVersion(commit.version)}.crc`), toBytes(stringifyJson(checksum))));
}
