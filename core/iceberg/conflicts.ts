/** Whether a change may still be committed after others came first (common practice of the two isolation levels; the specification leaves it to writers). */
import { LakeError } from '../errors';
import type { Predicate } from '../scan/predicate';
import { mergeStats, mightMatch } from '../scan/prune';
import { metricsLookup, partitionLookup, partsOf, typedPartition } from './file-stats';
import { textAt } from './entry-columns';
import { partitionAt, entryAt } from './manifest';
import { lineTo, sameId, schemaOf, type SnapshotId, type SnapshotJson, type TableMetadata } from './metadata';
import { parseSchema } from './schema';
import { specOf, type IcebergTable } from './table';

export interface ReadState {
  /** The branch's snapshot that was read; absent where there was none. */
  snapshotId: SnapshotId | undefined;
  /** Rows that would have been read; files that came meanwhile and may hold such are a conflict. Absent: any may come. */
  rows?: Predicate;
  /** Data files that are rewritten, or of which rows are deleted: nobody may have deleted rows of them, or the files. */
  files: ReadonlySet<string>;
  /** The columns that new files were written with; others may have been added since. */
  schemaId?: number;
}

export async function checkConflicts(table: IcebergTable, now: TableMetadata, parent: SnapshotJson | undefined, read: ReadState): Promise<void> {
  if (read.schemaId !== undefined && read.schemaId !== now['current-schema-id'] && !covers(now, read.schemaId)) {
    throw new LakeError('conflict', `${table.name}: its columns changed while rows were written. Write them again.`, { table: table.name });
  }
  if (sameId(parent?.['snapshot-id'], read.snapshotId) || (parent === undefined && read.snapshotId === undefined)) return;
  const line = lineTo(now, parent);
  const from = line.findIndex((snapshot) => sameId(snapshot['snapshot-id'], read.snapshotId));
  if (from < 0 && read.snapshotId !== undefined) throw new LakeError('conflict', `${table.name}: the state that was read is no longer an ancestor of the current one.`, { table: table.name });
  for (const snapshot of line.slice(from + 1)) await checkSnapshot(table, now, snapshot, read);
}

async function checkSnapshot(table: IcebergTable, metadata: TableMetadata, snapshot: SnapshotJson, read: ReadState): Promise<void> {
  const { fields } = parseSchema(schemaOf(metadata, undefined), table.name);
  for (const manifest of await table.manifests(metadata, snapshot)) {
    if (!sameId(manifest.addedSnapshotId, snapshot['snapshot-id'])) continue;
    const spec = specOf(metadata, manifest.specId);
    const parts = partsOf(spec, fields);
    const columns = await table.entries(metadata, manifest);
    for (let row = 0; row < columns.count; row++) {
      const entry = entryAt(columns, row, manifest, spec);
      if (entry.status === 'existing' || !sameId(entry.snapshotId, snapshot['snapshot-id'])) continue;
      const path = textAt(columns, columns.path[row]!);
      if (entry.status === 'deleted') {
        if (manifest.content === 'data' && read.files.has(path)) throw conflict(table, snapshot, `it removed ${path}, of which rows are changed`);
        continue;
      }
      const stats = partitionLookup(parts, partitionAt(columns, row, spec).map((value, index) => typedPartition(parts[index]!, value)), fields);
      if (manifest.content === 'data') {
        // Rewriting files brings no rows.
        if (read.rows === undefined || snapshot.summary?.operation === 'replace') continue;
        const metrics = metricsLookup(columns, row, fields);
        if (mightMatch(read.rows, (column) => mergeStats(stats(column), metrics(column)))) throw conflict(table, snapshot, `it added ${path}, which may hold rows that this looks at`);
        continue;
      }
      if (read.files.size === 0) continue;
      const { referencedFile, content } = entry.file;
      if (referencedFile !== undefined ? read.files.has(referencedFile) : content === 2 || concerns(columns, row, read.files)) {
        throw conflict(table, snapshot, `it deleted rows of a file of which rows are changed${referencedFile ? ` (${referencedFile})` : ''}`);
      }
    }
  }
}

/** A position delete file may name any data file between its bounds. */
function concerns(columns: Parameters<typeof metricsLookup>[0], row: number, files: ReadonlySet<string>): boolean {
  const stats = metricsLookup(columns, row, [{ id: 2147483546, name: 'file_path', type: { kind: 'string' }, required: true }])(['file_path']);
  return [...files].some((path) => mightMatch({ op: 'compare', column: ['file_path'], comparison: '=', value: path }, () => ({ ...stats, nullCount: 0 })));
}

function conflict(table: IcebergTable, snapshot: SnapshotJson, what: string): LakeError {
  return new LakeError('conflict', `${table.name}: snapshot ${snapshot['snapshot-id']} was committed first, and ${what}. Nothing was changed.`, { table: table.name });
}

/** Columns added since are read as null; any other change of columns needs the rows written anew. */
function covers(now: TableMetadata, schemaId: number): boolean {
  const fieldsOf = (id: number) => now.schemas.find((each) => (each['schema-id'] ?? 0) === id)?.fields ?? [];
  const current = fieldsOf(now['current-schema-id']);
  const written = fieldsOf(schemaId);
  return written.every((each) => JSON.stringify(current.find((field) => field.id === each.id)?.type) === JSON.stringify(each.type)) && current.every((field) => !field.required || written.some((each) => each.id === field.id));
}
