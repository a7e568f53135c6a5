/** What a snapshot tells of itself (specification, "Optional Snapshot Summary Fields"); all values are texts. */
import type { IcebergDataFile } from './manifest';
import { groupKey } from './delete-index';

export interface FileCounts {
  data: IcebergDataFile[];
  deletes: IcebergDataFile[];
}

export function summaryOf(before: Record<string, string>, added: FileCounts, removed: FileCounts): Record<string, string> {
  const summary: Record<string, string> = {};
  const isVector = (file: IcebergDataFile) => file.format === 'PUFFIN';
  const isPositions = (file: IcebergDataFile) => file.content === 1;
  const isEquality = (file: IcebergDataFile) => file.content === 2;
  const rows = (files: readonly IcebergDataFile[]) => files.reduce((sum, file) => sum + file.rows, 0);
  const bytes = ({ data, deletes }: FileCounts) => [...data, ...deletes].reduce((sum, file) => sum + (file.contentBytes ?? file.bytes), 0);
  const say = (key: string, count: number) => {
    if (count > 0) summary[key] = String(count);
  };
  say('added-data-files', added.data.length);
  say('deleted-data-files', removed.data.length);
  say('added-records', rows(added.data));
  say('deleted-records', rows(removed.data));
  say('added-delete-files', added.deletes.length);
  say('removed-delete-files', removed.deletes.length);
  say('added-position-delete-files', added.deletes.filter((file) => isPositions(file) && !isVector(file)).length);
  say('removed-position-delete-files', removed.deletes.filter((file) => isPositions(file) && !isVector(file)).length);
  say('added-equality-delete-files', added.deletes.filter(isEquality).length);
  say('removed-equality-delete-files', removed.deletes.filter(isEquality).length);
  say('added-dvs', added.deletes.filter(isVector).length);
  say('removed-dvs', removed.deletes.filter(isVector).length);
  say('added-position-deletes', rows(added.deletes.filter(isPositions)));
  say('removed-position-deletes', rows(removed.deletes.filter(isPositions)));
  say('added-equality-deletes', rows(added.deletes.filter(isEquality)));
  say('removed-equality-deletes', rows(removed.deletes.filter(isEquality)));
  say('added-files-size', bytes(added));
  say('removed-files-size', bytes(removed));
  say('changed-partition-count', new Set([...added.data, ...added.deletes, ...removed.data, ...removed.deletes].map((file) => groupKey(0, file.partition))).size);
  const total = (key: string, count: (files: FileCounts) => number) => {
    summary[key] = String(Math.max(0, Number(before[key] ?? 0) + count(added) - count(removed)));
  };
  total('total-data-files', ({ data }) => data.length);
  total('total-records', ({ data }) => rows(data));
  total('total-files-size', bytes);
  total('total-delete-files', ({ deletes }) => deletes.length);
  total('total-position-deletes', ({ deletes }) => rows(deletes.filter(isPositions)));
  total('total-equality-deletes', ({ deletes }) => rows(deletes.filter(isEquality)));
  return summary;
}
