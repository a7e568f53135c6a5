/** A snapshot as pages show it. */
import type { DataFile } from '../../core/scan/plan';
import type { Field } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import type { Snapshot } from '../../core/table/contract';

export interface ColumnView {
  name: string;
  type: string;
  required: boolean;
  comment: string | null;
  /** Share of rows that are null, 0 to 1; null where the files do not tell. */
  nulls: number | null;
  role: 'partition' | 'sort' | null;
}

/** Of tables with more files than this, nulls and arrivals are not gathered file by file. */
const LOOKED_AT = 20_000;

export async function describeSnapshot(snapshot: Snapshot) {
  const totals = await snapshot.totals();
  const files = totals.files <= LOOKED_AT ? await snapshot.files() : [];
  return {
    version: snapshot.version,
    snapshotId: snapshot.snapshotId ?? null,
    committedAt: snapshot.at,
    rows: totals.rows ?? null,
    files: totals.files,
    bytes: totals.bytes,
    partitioning: snapshot.partitioning,
    sortedBy: snapshot.sortedBy,
    properties: snapshot.properties,
    columns: snapshot.schema.fields.map((field) => column(field, snapshot, files)),
    arrivals: arrivals(snapshot, files),
  };
}

function column(field: Field, snapshot: Snapshot, files: readonly DataFile[]): ColumnView {
  const isPartition = snapshot.partitioning.some((each) => each.source === field.name);
  return {
    name: field.name,
    type: typeName(field.type),
    required: field.required,
    comment: field.comment ?? null,
    nulls: nullShare(field, files),
    role: isPartition ? 'partition' : snapshot.sortedBy.includes(field.name) ? 'sort' : null,
  };
}

/** A file that says nothing of a column (it was added later) counts as all null if others do say. */
function nullShare(field: Field, files: readonly DataFile[]): number | null {
  let nulls = 0;
  let rows = 0;
  let told = 0;
  for (const file of files) {
    const stats = file.stats([field.name]) ?? file.partitionStats([field.name]);
    if (file.rows === undefined) return null;
    rows += file.rows;
    const count = stats?.nullCount;
    if (count === undefined) nulls += file.rows;
    else {
      told++;
      nulls += file.stats([field.name])?.nullCount === undefined && count > 0 ? file.rows : count;
    }
  }
  return told === 0 || rows === 0 ? null : nulls / rows;
}

/** Rows and files by day, where a partition is one. */
function arrivals(snapshot: Snapshot, files: readonly DataFile[]): { day: string; rows: number | null; files: number }[] {
  const part = snapshot.partitioning.find((each) => files.some((file) => /^\d{4}-\d\d-\d\d$/.test(file.partition[each.name] ?? '')));
  if (!part) return [];
  const days = new Map<string, { day: string; rows: number | null; files: number }>();
  for (const file of files) {
    const day = file.partition[part.name];
    if (!day) continue;
    const entry = days.get(day) ?? { day, rows: 0, files: 0 };
    entry.files++;
    entry.rows = entry.rows === null || file.rows === undefined ? null : entry.rows + file.rows;
    days.set(day, entry);
  }
  return [...days.values()].sort((a, b) => (a.day < b.day ? -1 : 1));
}
