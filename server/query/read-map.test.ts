import { describe, expect, it } from 'vitest';
import { planScan, type DataFile } from '../../core/scan/plan';
import type { Predicate } from '../../core/scan/predicate';
import type { PlannedTable } from './prepare';
import { readMap } from './read-map';

const file = (day: string | undefined, name: string, n: number, bytes = 100): DataFile => ({
  path: name, bytes, rows: 10, partition: day === undefined ? {} : { day }, constants: {},
  partitionStats: (column) => (column[0] === 'day' && day !== undefined ? { lower: day, upper: day, nullCount: 0, rowCount: 1 } : undefined),
  stats: (column) => (column[0] === 'n' ? { lower: BigInt(n), upper: BigInt(n + 9), nullCount: 0, rowCount: 10 } : undefined),
});
const mapOf = (files: DataFile[], predicate: Predicate) => {
  const source = { name: 'ns.t', past: false, snapshot: { format: 'iceberg', version: 3, snapshotId: '77', at: 5 } };
  return readMap({ source, standIn: '__r0', predicate, plan: planScan({ kind: 'parquet', match: 'name' }, [], files, predicate) } as unknown as PlannedTable);
};
const both: Predicate = { op: 'and', args: [{ op: 'compare', column: ['day'], comparison: '>=', value: '2026-01-02' }, { op: 'compare', column: ['n'], comparison: '<', value: 5n }] };

describe('what a query reads of a table', () => {
  it('shows touched partitions in order, with the reason for each file that is skipped', () => {
    const map = mapOf([file('2026-01-03', 'c', 0), file('2026-01-01', 'a', 0), file('2026-01-02', 'b1', 0), file('2026-01-02', 'b2', 50)], both);
    expect(map.partitions.map(({ label, segments }) => [label, segments.map(({ path, read, because }) => [path, read, because])])).toEqual([
      ['2026-01-02', [['b1', true, undefined], ['b2', false, 'n']]], ['2026-01-03', [['c', true, undefined]]],
    ]);
    expect([map.partitionsSkippedWhole, map.skippedBy]).toEqual([1, [{ column: 'day', kind: 'partition', files: 1 }, { column: 'n', kind: 'bounds', files: 1 }]]);
    expect([map.version, map.snapshotId, map.files.read]).toEqual([3, '77', 2]);
  });

  it('puts many files of a partition together without losing a byte', () => {
    const map = mapOf(Array.from({ length: 1000 }, (_, index) => file(undefined, `f${index}`, index % 2 === 0 ? 0 : 50, index)), { op: 'compare', column: ['n'], comparison: '<', value: 5n });
    const { segments } = map.partitions[0]!;
    expect(segments.length).toBeLessThanOrEqual(42);
    expect(segments.reduce((sum, each) => sum + each.bytes, 0)).toBe(map.bytes.total);
    expect(segments.filter((each) => each.read).reduce((sum, each) => sum + each.files, 0)).toBe(500);
  });

  it('counts the partitions that it does not show', () => {
    const days = Array.from({ length: 20 }, (_, index) => file(`2026-02-${String(index + 1).padStart(2, '0')}`, `f${index}`, 0));
    const map = mapOf(days, { op: 'true' });
    expect([map.partitions.length, map.partitionsNotShown, map.partitionsSkippedWhole]).toEqual([12, 8, 0]);
  });

  it('says so when only several columns together rule a file out', () => {
    const either: Predicate = { op: 'or', args: [{ op: 'compare', column: ['day'], comparison: '=', value: '2026-03-01' }, { op: 'compare', column: ['n'], comparison: '=', value: 99n }] };
    expect(mapOf([file('2026-01-01', 'a', 0)], either).skippedBy).toEqual([{ column: 'several columns together', kind: 'bounds', files: 1 }]);
  });
});
