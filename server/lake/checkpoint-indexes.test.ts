/** An index of a checkpoint must rule out no file that judging one by one would read, and find each by its key. */
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { allFiles, IndexedFiles } from '../../core/delta/live-files';
import { latestState } from '../../core/delta/operations';
import { DeltaTable } from '../../core/delta/table';
import { filesToRead } from '../../core/scan/plan';
import type { Predicate } from '../../core/scan/predicate';
import { parseTypeName } from '../../core/schema/type-names';
import { field } from '../../core/schema/types';
import { LATEST } from '../../core/table/contract';
import { parseValue } from '../../core/values/text';
import { DiskStore } from '../storage/disk-store';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { SqlBench } from '../testing/sql-bench';

const folder = temporaryFolder();
let bench: SqlBench;
const TYPES = { n: 'bigint', x: 'double', d: 'decimal(8,2)', wide: 'decimal(25,3)', day: 'date', at: 'timestamptz', s: 'varchar', ok: 'boolean', place: 'struct(lat double, name varchar)', g: 'varchar', k: 'integer' };
beforeAll(async () => {
  bench = new SqlBench(new DiskStore(folder.path), await LocalEngine.start(), { indexFromBytes: 1 });
});
afterAll(() => {
  bench.remove();
  folder.remove();
});

async function filled(name: string, properties: Record<string, string>): Promise<void> {
  await bench.create(name, { schema: { fields: Object.entries(TYPES).map(([each, type]) => field(each, parseTypeName(type))) }, partitionColumns: ['g', 'k'], properties });
  for (let n = 0; n < 12; n++) {
    await bench.run(`INSERT INTO bay.${name} SELECT i, CASE WHEN i % 7 = 0 THEN 'nan'::DOUBLE WHEN i % 5 = 0 THEN NULL ELSE i / 3 END, i / 4, i * 1000000000000 + 0.001, DATE '2026-01-01' + i::INTEGER, TIMESTAMPTZ '2026-01-01 00:00:00.000999+00' + to_hours(i),
      CASE WHEN ${n} = 3 THEN NULL ELSE 'wörd ' || i END, i % 2 = 0, {'lat': i / 10, 'name': 'p' || i}, CASE ${n} % 4 WHEN 0 THEN 'ö/=' WHEN 1 THEN NULL ELSE 'b' END, CASE WHEN ${n} % 3 = 0 THEN NULL ELSE ${n} END FROM range(${n * 10}, ${n * 10 + 10}) numbers(i)`);
  }
  await bench.run(`DELETE FROM bay.${name} WHERE n IN (3, 44)`);
  await bench.upkeep.checkpoint(bench.delta(name), bench.storage);
  await bench.run(`UPDATE bay.${name} SET s = 'later' WHERE n = 17`);
}

const text = (type: string, value: string) => parseValue(parseTypeName(type), value);
const VALUES: Record<string, fc.Arbitrary<unknown>> = {
  n: fc.integer({ min: -5, max: 130 }).map((n) => BigInt(n)), x: fc.oneof(fc.double({ min: -5, max: 50, noNaN: true }), fc.constant(NaN)), d: fc.integer({ min: -100, max: 4000 }).map((n) => BigInt(n)),
  wide: fc.integer({ min: 0, max: 130 }).map((n) => BigInt(n) * 10n ** 15n + 1n), day: fc.integer({ min: 0, max: 130 }).map((n) => Number(text('date', '2026-01-01')) + n), at: fc.integer({ min: 0, max: 130 }).map((n) => (text('timestamptz', '2026-01-01T00:00:00.000999Z') as bigint) + BigInt(n) * 3_600_000_000n),
  s: fc.constantFrom('wörd 5', 'wörd', 'a', 'zz', 'later', 'wörd 99'), g: fc.constantFrom('b', 'ö/=', 'c'), k: fc.nat(12), 'place.lat': fc.double({ min: -1, max: 12, noNaN: true }), 'place.name': fc.constantFrom('p3', 'p77', 'q'),
};
const leaf = fc.constantFrom(...Object.keys(VALUES)).chain((name) => {
  const column = name.split('.');
  const value = VALUES[name]!;
  return fc.oneof(
    fc.tuple(fc.constantFrom('=', '!=', '<', '<=', '>', '>='), value).map(([comparison, each]) => ({ op: 'compare', column, comparison, value: each })),
    fc.array(value, { maxLength: 3 }).map((values) => ({ op: 'in', column, values })),
    fc.constantFrom('null', 'not-null').map((op) => ({ op, column })),
    ...(name === 's' || name === 'g' ? [fc.constantFrom('wö', 'b', 'l').map((prefix) => ({ op: 'prefix', column, prefix }))] : []),
  );
}) as fc.Arbitrary<Predicate>;
const predicate: fc.Arbitrary<Predicate> = fc.oneof(leaf, fc.tuple(fc.constantFrom('and' as const, 'or' as const), fc.array(leaf, { minLength: 2, maxLength: 3 })).map(([op, args]) => ({ op, args })));

describe.each([['plain', {}], ['by vectors', { 'delta.enableDeletionVectors': 'true' }], ['mapped, with sidecars', { 'delta.columnMapping.mode': 'name', 'delta.checkpointPolicy': 'v2' }]])('a table read by its index: %s', (kind, properties) => {
  const name = `i${kind.length}`;
  beforeAll(() => filled(name, properties as Record<string, string>));

  it('reads the files that judging one by one reads, and counts the others as it does', async () => {
    const [indexed, listed] = [await bench.open(name).snapshot(LATEST), await new DeltaTable(bench.store, name, name).snapshot(LATEST)];
    expect((await latestState(bench.delta(name))).files).toBeInstanceOf(IndexedFiles);
    await fc.assert(fc.asyncProperty(predicate, async (each) => {
      const [ours, theirs] = await Promise.all([indexed.plan(each), listed.plan(each)]);
      expect(filesToRead(ours).map((file) => file.path).sort()).toEqual(filesToRead(theirs).map((file) => file.path).sort());
      expect([ours.files.total, ours.files.skippedByPartition, ours.files.read, ours.bytes]).toEqual([theirs.files.total, theirs.files.skippedByPartition, theirs.files.read, theirs.bytes]);
    }), { seed: 3, numRuns: 150 });
  });

  it('finds files by their keys, and all of them in batches, as they are in the log', async () => {
    const [indexed, listed] = [await latestState(bench.open(name)), await latestState(new DeltaTable(bench.store, name, name))];
    const [ours, theirs] = [await allFiles(indexed.files), await allFiles(listed.files)];
    expect([...ours.keys()].sort()).toEqual([...theirs.keys()].sort());
    const plain = (files: Map<string, unknown>) => [...files].sort(([a], [b]) => (a < b ? -1 : 1)).map(([key, add]) => [key, { ...(add as object), dataChange: true }]);
    expect(plain(ours)).toEqual(plain(theirs));
    const keys = [...theirs.keys()];
    expect([...(await indexed.files.get([...keys, 'nowhere'])).keys()].sort()).toEqual([...keys].sort());
    expect([indexed.files.count, indexed.files.bytes]).toEqual([listed.files.count, listed.files.bytes]);
  });
});
