/**
 * What a snapshot that a client commits brings: every new file lies where this catalog can read it, and is of a kind that it
 * reads. Found out at the commit, which can still be refused, and not by whoever reads the table later.
 */
import { LakeError } from '../../core/errors';
import { textAt } from '../../core/iceberg/entry-columns';
import { sameId, type SnapshotJson, type TableMetadata } from '../../core/iceberg/metadata';
import type { IcebergTable } from '../../core/iceberg/table';
import type { TableUpdate } from '../../core/iceberg/updates';
import { isWithin } from '../lake/places';
import type { OpenStorage } from '../lake/lake';
import { badRequest } from './errors';

const DATA_KINDS = new Set(['PARQUET']);
const DELETE_KINDS = new Set(['PARQUET', 'PUFFIN', 'AVRO']);
const ADDED = 1;

/** Fails naming the file. What cannot be read here at all is left to those who read. `known`: the table's metadata, where it is at hand. */
export async function checkAddedFiles(table: IcebergTable, updates: readonly TableUpdate[], storage: OpenStorage, known?: TableMetadata): Promise<void> {
  const snapshots = updates.flatMap((update) => (update.action === 'add-snapshot' ? [update.snapshot] : []));
  if (snapshots.length === 0) return;
  const metadata = known ?? (await table.current()).metadata;
  for (const snapshot of snapshots) await checkSnapshot(table, metadata, snapshot, storage);
}

async function checkSnapshot(table: IcebergTable, metadata: TableMetadata, snapshot: SnapshotJson, storage: OpenStorage): Promise<void> {
  const manifests = await table.manifests(metadata, snapshot).catch(orNothing);
  for (const manifest of manifests ?? []) {
    if (!sameId(manifest.addedSnapshotId, snapshot['snapshot-id'])) continue;
    if (!isWithin(storage, manifest.path)) throw badRequest(`${table.name}: the manifest ${manifest.path} lies outside of the table's storage. Nothing was changed.`);
    const columns = await table.entries(metadata, manifest).catch(orNothing);
    for (let row = 0; row < (columns?.count ?? 0); row++) {
      if (columns!.status[row] !== ADDED) continue;
      const path = textAt(columns!, columns!.path[row]!);
      const kind = textAt(columns!, columns!.format[row]!).toUpperCase();
      if (!isWithin(storage, path)) throw badRequest(`${table.name}: the file ${path} lies outside of the table's storage ${storage.storage.name}, so it could not be read here. Nothing was changed.`);
      if (!(manifest.content === 'data' ? DATA_KINDS : DELETE_KINDS).has(kind)) {
        throw badRequest(`${table.name}: the file ${path} is of the format ${kind}; data files are read as Parquet here. Nothing was changed. Set write.format.default to parquet and write again.`);
      }
    }
  }
}

function orNothing(error: unknown): undefined {
  if (error instanceof LakeError) return undefined;
  throw error;
}
