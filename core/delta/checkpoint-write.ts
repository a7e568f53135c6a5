/** Writing checkpoints (Delta protocol, "Checkpoints", "V2 Spec", "Last Checkpoint File"). */
import { joinPath } from '../storage/paths';
import { toBytes, type Clock, type Ids } from '../storage/object-store';
import type { Action, Remove, Sidecar } from './actions';
import { actionsText } from './commit';
import { fileKey } from './file-key';
import { LOG_FOLDER, paddedVersion } from './log';
import { durationOf, PROPERTIES } from './properties';
import type { LogState } from './state';
import type { DeltaTable } from './table';

/** The port that writes actions as rows of one Parquet file in the checkpoint's schema; whole or not at all. */
export interface ActionFiles {
  write(path: string, actions: AsyncIterable<Action>): Promise<{ bytes: number }>;
}

export interface CheckpointPorts {
  files: ActionFiles;
  clock: Clock;
  ids: Ids;
}

/** File actions of one sidecar. */
const SIDECAR_ACTIONS = 50_000;

/** Sums the log up to the state's version; readers begin there. Returns the checkpoint's path. `isNewest`: readers are pointed to it. */
export async function writeCheckpoint(table: DeltaTable, state: LogState, ports: CheckpointPorts, { isNewest = true } = {}): Promise<string> {
  const isV2 = state.metadata.configuration['delta.checkpointPolicy'] === 'v2';
  const log = joinPath(table.root, LOG_FOLDER);
  const head = headActions(state);
  const counted = { actions: head.length };
  const files = fileActions(state, ports.clock.now(), counted);
  const path = isV2 ? joinPath(log, `${paddedVersion(state.version)}.checkpoint.${ports.ids.uuid()}.json`) : joinPath(log, `${paddedVersion(state.version)}.checkpoint.parquet`);
  let bytes: number;
  if (isV2) {
    const sidecars: Sidecar[] = [];
    const rest = files[Symbol.asyncIterator]();
    for (let first = await rest.next(); !first.done; first = await rest.next()) {
      const name = `${ports.ids.uuid()}.parquet`;
      const written = await ports.files.write(joinPath(log, '_sidecars', name), atMost(first.value, rest, SIDECAR_ACTIONS));
      sidecars.push({ path: name, sizeInBytes: written.bytes, modificationTime: ports.clock.now() });
    }
    const text = toBytes(actionsText([{ checkpointMetadata: { version: state.version } }, ...head, ...sidecars.map((sidecar) => ({ sidecar }))]));
    await table.store.putIfAbsent(path, text);
    bytes = text.length;
  } else {
    bytes = (await ports.files.write(path, joined(head, files))).bytes;
  }
  if (!isNewest) return path;
  const last = { version: state.version, size: counted.actions, sizeInBytes: bytes, numOfAddFiles: state.files.count };
  await table.store.put(joinPath(log, '_last_checkpoint'), toBytes(`${JSON.stringify(last)}\n`));
  return path;
}

/** Whether the log is to be summed up: a multiple of the interval was reached since the checkpoint of version `last` (-1: there is none). */
export function isCheckpointDue({ version, metadata }: LogState, last: number): boolean {
  const every = Number(metadata.configuration['delta.checkpointInterval'] ?? PROPERTIES['delta.checkpointInterval']!.standard);
  return Math.floor(version / every) > Math.floor(Math.max(0, last) / every);
}

function headActions(state: LogState): Action[] {
  return [
    { protocol: state.protocol }, { metaData: state.metadata },
    ...[...state.txns.values()].map((txn) => ({ txn })),
    ...[...state.domains.values()].map((domainMetadata) => ({ domainMetadata })),
  ];
}

/** "Tombstones are kept until they expire"; what stands in a checkpoint changes no data. */
async function* fileActions(state: LogState, now: number, counted: { actions: number }): AsyncGenerator<Action> {
  for await (const batch of state.files.batches()) {
    counted.actions += batch.length;
    for (const [, add] of batch) yield { add: { ...add, dataChange: false } };
  }
  const expired = now - durationOf(state.metadata.configuration, 'delta.deletedFileRetentionDuration');
  for await (const batch of tombstones(state)) {
    const kept = batch.filter((remove) => Number(remove.deletionTimestamp ?? 0) > expired);
    counted.actions += kept.length;
    for (const remove of kept) yield { remove: { ...remove, dataChange: false } };
  }
}

/** Files that were removed, those in an index too unless they came back. */
export async function* tombstones(state: LogState): AsyncIterable<Remove[]> {
  for await (const batch of state.files.olderRemoves()) {
    const back = await state.files.get(batch.map(fileKey));
    yield batch.filter((remove) => !back.has(fileKey(remove)) && !state.removes.has(fileKey(remove)));
  }
  yield [...state.removes.values()];
}

async function* joined(first: readonly Action[], rest: AsyncIterable<Action>): AsyncIterable<Action> {
  yield* first;
  yield* rest;
}

async function* atMost(first: Action, rest: AsyncIterator<Action>, most: number): AsyncIterable<Action> {
  yield first;
  for (let count = 1; count < most; count++) {
    const next = await rest.next();
    if (next.done) return;
    yield next.value;
  }
}
