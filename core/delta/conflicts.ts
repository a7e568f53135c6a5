/**
 * Whether a commit that came first makes a change wrong. Which pairs may both stand follows from what each read and
 * removed; the levels Serializable and WriteSerializable are common practice (the property delta.isolationLevel).
 */
import { AlreadyLoaded, LakeError } from '../errors';
import type { Predicate } from '../scan/predicate';
import { mightMatch } from '../scan/prune';
import { constantStats } from '../scan/constant-stats';
import type { Add, Commit, DomainMetadata, Remove, Txn } from './actions';
import { fileKey } from './file-key';
import { filePath } from './log';
import { schemaOf } from './schema';
import type { LogState } from './state';
import { statsLookup } from './stats';
import type { DeltaTable } from './table';

/** What a change read, so that a concurrent commit can be judged. */
export type ReadSet =
  | { kind: 'nothing' } // a blind append
  | { kind: 'files' } // moves rows to other files without changing them: upkeep
  | { kind: 'rows'; predicate: Predicate }; // `true` for the whole table

export const BLIND: ReadSet = { kind: 'nothing' };
export const WHOLE_TABLE: ReadSet = { kind: 'rows', predicate: { op: 'true' } };

export interface Judged {
  read: ReadSet;
  removes: readonly Remove[];
  txns?: readonly Txn[];
  domains?: readonly DomainMetadata[];
  /** Paths of files whose entries are said anew: nobody may have removed them. */
  restated?: readonly string[];
}

/** Domains that writers make anew when they try again. */
const REMADE_DOMAINS = new Set(['delta.rowTracking']);

/** Fails with `conflict` naming what the winner did. `state` is the table before the winner. */
export async function checkConflict(table: DeltaTable, state: LogState, change: Judged, winner: Commit): Promise<void> {
  const fail = (what: string): never => {
    throw new LakeError('conflict', `${table.name}: version ${winner.version}, committed meanwhile, ${what}. Read the table again and repeat the change.`, { table: table.name, version: winner.version });
  };
  if (winner.protocol) fail('changed the protocol');
  if (winner.metadata) fail('changed the columns or properties');
  const mine = new Set(change.txns?.map((txn) => txn.appId));
  const sameApp = winner.txns.find((txn) => mine.has(txn.appId));
  const own = change.txns?.find((txn) => txn.appId === sameApp?.appId);
  if (own && Number(sameApp!.version) >= own.version) throw new AlreadyLoaded(table.name, winner.version);
  if (sameApp) fail(`came from the same application (${sameApp.appId})`);
  const domains = new Set(change.domains?.map((each) => each.domain));
  const sameDomain = winner.domains.find((each) => domains.has(each.domain) && !REMADE_DOMAINS.has(each.domain));
  if (sameDomain) fail(`changed the settings ${sameDomain.domain}`);
  const removedByWinner = new Set(winner.removes.map((remove) => filePath(remove.path)));
  if (change.removes.some((remove) => removedByWinner.has(filePath(remove.path)))) fail('removed or changed a file that this change replaces');
  if (change.restated?.some((path) => removedByWinner.has(filePath(path)))) fail('removed or changed a file whose entry this change says anew');
  if (change.read.kind !== 'rows') return;
  const { predicate } = change.read;
  const matches = fileMatcher(table, state, predicate);
  const isSerializable = state.metadata.configuration['delta.isolationLevel'] === 'Serializable';
  const exempt = winner.info?.isBlindAppend === true && !isSerializable;
  if (!exempt && winner.adds.some((add) => add.dataChange && matches(add))) fail('added rows that this change should have seen');
  const before = await state.files.get(winner.removes.map(fileKey));
  if (winner.removes.some((remove) => remove.dataChange && matches(before.get(fileKey(remove)) ?? remove))) fail('removed rows that this change had read');
}

/** Whether a file can hold rows of the predicate; what does not say counts as yes. */
function fileMatcher(table: DeltaTable, { metadata }: LogState, predicate: Predicate): (file: Add | Remove) => boolean {
  const schema = schemaOf(metadata, table.name);
  return (file) => {
    if (predicate.op === 'true') return true;
    const constants = file.partitionValues ? table.partitionOf({ path: file.path, partitionValues: file.partitionValues }, schema, metadata.partitionColumns).constants : {};
    const [partition, stats] = [constantStats(constants, schema.fields), statsLookup(file.stats, schema.fields)];
    return mightMatch(predicate, (column) => partition(column) ?? stats(column));
  };
}
