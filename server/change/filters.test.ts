/** Leaving files out changes no answer, at the values where encodings bend. All types, more conditions and more seeds: `npm run soak`. */
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { DiskStore } from '../storage/disk-store';
import { judgeFilters } from '../testing/filter-judge';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { SqlBench } from '../testing/sql-bench';

const folder = temporaryFolder();
let bench: SqlBench;
beforeAll(async () => {
  bench = new SqlBench(new DiskStore(folder.path), await LocalEngine.start());
});
afterAll(() => {
  bench.remove();
  folder.remove();
});

describe('tables of both formats in every layout', () => {
  it.each(['bigint', 'float', 'decimal(38,4)', 'timestamp', 'varchar', 'blob'])('answer conditions on %s as the same rows without files do', async (type) => {
    expect((await judgeFilters(bench, 11, 12, [type])).problems).toEqual([]);
  }, 60_000);
});
