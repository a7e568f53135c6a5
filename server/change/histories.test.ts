import fc from 'fast-check';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { DiskStore } from '../storage/disk-store';
import { history, replayHistory } from '../testing/histories';
import { icebergHistory, replayIcebergHistory } from '../testing/iceberg-histories';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { SqlBench } from '../testing/sql-bench';

const folder = temporaryFolder();
let bench: SqlBench;
beforeAll(async () => {
  // Every checkpoint is read by its index, the way that those of very large tables are.
  bench = new SqlBench(new DiskStore(folder.path), await LocalEngine.start(), { indexFromBytes: 1 });
});
afterAll(() => {
  bench.remove();
  folder.remove();
});

it('every version of a random history of a Delta table reads as a simple model has it', async () => {
  let run = 0;
  await fc.assert(fc.asyncProperty(history, async (each) => {
    expect(await replayHistory(bench, `h${run++}`, each)).toBeUndefined();
  }), { seed: Number(process.env.HISTORY_SEED ?? 11), numRuns: Number(process.env.HISTORY_RUNS ?? 25), endOnFailure: false });
}, 3_600_000);

it('every snapshot of a random history of an Iceberg table reads as a simple model has it', async () => {
  let run = 0;
  await fc.assert(fc.asyncProperty(icebergHistory, async (each) => {
    expect(await replayIcebergHistory(bench, `i${run++}`, each)).toBeUndefined();
  }), { seed: Number(process.env.HISTORY_SEED ?? 11), numRuns: Number(process.env.HISTORY_RUNS ?? 25), endOnFailure: false });
}, 3_600_000);
