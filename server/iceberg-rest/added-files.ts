/**
 * What a snapshot that a client commits brings: every new file lies where this table may have files, and is of a kind that
 * this catalog reads. Found out at the commit, which can still be refused, and not by whoever reads the table later.
 */
import { LakeError } from '../../core/errors';
import { textAt } from '../../core/iceberg/entry-columns';
import { manifestsOfSnapshots } from '../../core/iceberg/expire';
import type { ManifestFile } from '../../core/iceberg/manifest-list';
import { sameId, type SnapshotJson, type TableMetadata } from '../../core/iceberg/metadata';
import type { IcebergTable } from '../../core/iceberg/table';
import type { TableUpdate } from '../../core/iceberg/updates';
import type { Belonging } from '../lake/belonging';
import { badRequest } from './errors';

const DATA_KINDS = new Set(['PARQUET', 'AVRO']);
const DELETE_KINDS = new Set(['PARQUET', 'PUFFIN', 'AVRO']);
const EXISTING = 0;
const DELETED = 2;

/** Every location and file that the updates name, and those that their snapshots add. Fails naming the one. What cannot be read here at all is left to those who read. `known`: the table's metadata, where it is at hand. */
export async function checkAddedFiles(table: IcebergTable, updates: readonly TableUpdate[], belonging: Belonging, known?: TableMetadata): Promise<void> {
  await checkNamedPlaces(belonging, updates);
  const snapshots = updates.flatMap((update) => (update.action === 'add-snapshot' ? [update.snapshot] : []));
  if (snapshots.length === 0) return;
  const metadata = known ?? (await table.current()).metadata;
  let named: Promise<ReadonlySet<string>> | undefined;
  for (const snapshot of snapshots) {
    // What stood in manifests of before was looked at when it was added.
    for (const manifest of await manifestsOf(table, metadata, snapshot)) if (sameId(manifest.addedSnapshotId, snapshot['snapshot-id'])) await checkManifest(table, metadata, manifest, belonging, () => (named ??= filesNamedBy(table, metadata)));
  }
}

/** Every file that any snapshot of the metadata names. */
export async function checkAllFiles(table: IcebergTable, metadata: TableMetadata, belonging: Belonging): Promise<void> {
  const seen = new Set<string>();
  for (const snapshot of metadata.snapshots ?? []) {
    await checkNamedPlaces(belonging, [{ action: 'add-snapshot', snapshot }]);
    for (const manifest of await manifestsOf(table, metadata, snapshot)) {
      if (seen.has(manifest.path)) continue;
      seen.add(manifest.path);
      await checkManifest(table, metadata, manifest, belonging);
    }
  }
}

/** Locations and files that the updates themselves name. */
async function checkNamedPlaces(belonging: Belonging, updates: readonly TableUpdate[]): Promise<void> {
  for (const update of updates) {
    switch (update.action) {
      case 'set-location':
        await belonging.check('the location', update.location);
        break;
      case 'add-snapshot':
        if (update.snapshot['manifest-list'] !== undefined) await belonging.check('the manifest list', update.snapshot['manifest-list']);
        for (const manifest of update.snapshot.manifests ?? []) await belonging.check('the manifest', manifest);
        break;
      case 'set-statistics':
        await belonging.check('the statistics file', update.statistics['statistics-path']);
        break;
      case 'set-partition-statistics':
        await belonging.check('the statistics file', update['partition-statistics']['statistics-path']);
        break;
      default:
    }
  }
}

async function manifestsOf(table: IcebergTable, metadata: TableMetadata, snapshot: SnapshotJson): Promise<readonly ManifestFile[]> {
  return (await table.manifests(metadata, snapshot).catch(readableElsewhere(table, `the manifest list ${snapshot['manifest-list']}`))) ?? [];
}

async function filesNamedBy(table: IcebergTable, metadata: TableMetadata): Promise<ReadonlySet<string>> {
  const named = new Set<string>();
  for (const manifest of (await manifestsOfSnapshots(table, metadata, metadata.snapshots ?? [])).values()) {
    const columns = await table.entries(metadata, manifest);
    for (let row = 0; row < columns.count; row++) named.add(textAt(columns, columns.path[row]!));
  }
  return named;
}

/** `before`: what the table named before; a table that shares another's files may go on to name those in manifests that are put together. */
async function checkManifest(table: IcebergTable, metadata: TableMetadata, manifest: ManifestFile, belonging: Belonging, before?: () => Promise<ReadonlySet<string>>): Promise<void> {
  await belonging.check('the manifest', manifest.path);
  const columns = await table.entries(metadata, manifest).catch(readableElsewhere(table, `the manifest ${manifest.path}`));
  for (let row = 0; row < (columns?.count ?? 0); row++) {
    if (columns!.status[row] === DELETED) continue;
    const path = textAt(columns!, columns!.path[row]!);
    await belonging.check('the file', path).catch(async (error: unknown) => {
      if (columns!.status[row] !== EXISTING || !before || !(await before()).has(path)) throw error;
    });
    const kind = textAt(columns!, columns!.format[row]!).toUpperCase();
    if (!(manifest.content === 'data' ? DATA_KINDS : DELETE_KINDS).has(kind)) throw badRequest(`${table.name}: the file ${path} is of the format ${kind}; Parquet and Avro are read here. Nothing was changed. Set write.format.default to parquet and write again.`);
  }
}

/** What others understand and this program does not is theirs to read; what is missing or damaged is of use to nobody. */
function readableElsewhere(table: IcebergTable, what: string): (error: unknown) => undefined {
  return (error) => {
    if (!(error instanceof LakeError)) throw error;
    if (error.kind === 'unsupported') return undefined;
    throw badRequest(`${table.name}: ${what} cannot be read: ${error.message} Nothing was changed. Write it before it is committed.`);
  };
}
