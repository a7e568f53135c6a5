/** What a query would read of one table, small enough for a page: files in rows by partition, binned when many. */
import { whySkipped, type ConsideredFile } from '../../core/scan/plan';
import type { ReceiptTable } from '../catalog/receipts';
import { receiptTable, type PlannedTable } from './prepare';

export interface ReadMap extends ReceiptTable {
  /** Columns whose bounds or partitions ruled files out. */
  skippedBy: { column: string; kind: 'partition' | 'bounds'; files: number }[];
  /** Partitions of which at least one file was not ruled out by partition. */
  partitions: { label: string; segments: Segment[] }[];
  partitionsSkippedWhole: number;
  partitionsNotShown: number;
}

export interface Segment {
  bytes: number;
  rows: number | null;
  read: boolean;
  /** Why it is skipped. */
  because?: string;
  /** One file's path, or how many files were put together. */
  path?: string;
  files: number;
}

type Why = (file: ConsideredFile) => string | undefined;

const MAX_PARTITIONS = 12;
const MAX_SEGMENTS = 40;

export function readMap(planned: PlannedTable): ReadMap {
  const { plan, predicate } = planned;
  const why: Why = (file) => whySkipped(file, predicate);
  const groups = new Map<string, ConsideredFile[]>();
  for (const each of plan.considered) {
    const label = Object.values(each.file.partition).map((value) => value ?? 'null').join(' / ');
    const group = groups.get(label);
    if (group) group.push(each);
    else groups.set(label, [each]);
  }
  const touched = [...groups].filter(([, files]) => files.some((each) => each.verdict !== 'skipped-by-partition'));
  return {
    ...receiptTable(planned),
    skippedBy: skippedBy(plan, why),
    partitions: touched.sort(([a], [b]) => (a < b ? -1 : 1)).slice(0, MAX_PARTITIONS).map(([label, files]) => ({ label, segments: segments(files, why) })),
    partitionsSkippedWhole: groups.size - touched.length,
    partitionsNotShown: Math.max(0, touched.length - MAX_PARTITIONS),
  };
}

function skippedBy({ considered, ruledOut = [] }: PlannedTable['plan'], why: Why): ReadMap['skippedBy'] {
  const counts = new Map<string, ReadMap['skippedBy'][number]>(ruledOut.map((each) => [`${each.kind} ${each.column}`, { ...each }]));
  for (const each of considered) {
    const { verdict } = each;
    if (verdict === 'read') continue;
    const kind = verdict === 'skipped-by-partition' ? 'partition' : 'bounds';
    const column = why(each) ?? 'several columns together';
    const entry = counts.get(`${kind} ${column}`) ?? { column, kind, files: 0 };
    entry.files++;
    counts.set(`${kind} ${column}`, entry);
  }
  return [...counts.values()].sort((a, b) => b.files - a.files);
}

/** One segment a file; neighbours with the same verdict are put together when there are many. */
function segments(files: readonly ConsideredFile[], why: Why): Segment[] {
  const single = files.map((each): Segment => {
    const because = why(each);
    return { bytes: each.file.bytes, rows: each.file.rows ?? null, read: each.verdict === 'read', files: 1, path: each.file.path, ...(because ? { because } : {}) };
  });
  if (single.length <= MAX_SEGMENTS) return single;
  const step = Math.ceil(single.length / MAX_SEGMENTS);
  const sorted = [...single].sort((a, b) => Number(b.read) - Number(a.read));
  const bins: Segment[] = [];
  for (const each of sorted) {
    const last = bins.at(-1);
    if (!last || last.read !== each.read || last.files >= step) bins.push({ bytes: each.bytes, rows: each.rows, read: each.read, files: 1, ...(each.because ? { because: each.because } : {}) });
    else Object.assign(last, { bytes: last.bytes + each.bytes, rows: last.rows === null || each.rows === null ? null : last.rows + each.rows, files: last.files + 1 });
  }
  return bins;
}
