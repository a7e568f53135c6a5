import { writeFileSync } from 'node:fs';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { TRUE } from '../../core/scan/predicate';
import { LATEST } from '../../core/table/contract';
import { quoteText } from '../../core/sql/tokens';
import { DiskStore } from '../storage/disk-store';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { SqlBench } from '../testing/sql-bench';
import { FileShapes } from './file-shapes';

const folder = temporaryFolder();
let engine: LocalEngine;
let bench: SqlBench;
beforeAll(async () => {
  engine = await LocalEngine.start();
  bench = new SqlBench(new DiskStore(folder.path), engine);
});
afterAll(() => {
  bench.remove();
  folder.remove();
});

let made = 0;
/** A folder of files; the first tells the table's columns. Which of them are plain, and the rows. */
async function plainOf(...selects: string[]): Promise<{ plain: string[]; rows: unknown[][] }> {
  const name = `f${made++}`;
  await bench.store.makeFolder(name);
  for (const [index, select] of selects.entries()) await engine.call('run', { sql: `COPY (${select}) TO ${quoteText(path.join(folder.path, name, `${index}.parquet`))} (FORMAT parquet)` });
  const table = await bench.openFolder(name);
  const plan = await (await table.snapshot(LATEST)).plan(TRUE);
  const found = await new FileShapes(engine).plainFiles(plan, (file) => path.join(folder.path, file.path));
  return { plain: [...found].map((file) => path.basename(file.path, '.parquet')).sort(), rows: await bench.rows(`SELECT * FROM bay.${name} ORDER BY 1`) };
}

describe('files with the columns of the table', () => {
  it('are known by their footers, nested columns too', async () => {
    const columns = "i::INTEGER AS i, {'x': i, 'y': [i::VARCHAR]} AS s, MAP {'k': DATE '2026-01-01'} AS m, 1.5::DECIMAL(9,2) AS d";
    expect((await plainOf(`SELECT ${columns} FROM range(2) t(i)`, `SELECT ${columns} FROM range(2, 3) t(i)`)).plain).toEqual(['0', '1']);
  });

  it.each([
    ['lacks one', 'SELECT 2::BIGINT AS a', [[1, 'x'], [2, null]]], ['has a narrower type', "SELECT 2::INTEGER AS a, 'y' AS b", [[1, 'x'], [2, 'y']]],
    ['has more, in another order', "SELECT 9 AS more, 'y' AS b, 2::BIGINT AS a", [[1, 'x'], [2, 'y']]],
  ])('are read with others of which one %s', async (what, other, rows) => {
    const found = await plainOf("SELECT 1::BIGINT AS a, 'x' AS b", other);
    expect(found).toEqual({ plain: what.startsWith('has more') ? ['0', '1'] : ['0'], rows });
  });

  it('are none where a footer cannot be read, and the query says which file it is', async () => {
    await bench.store.makeFolder('broken');
    await engine.call('run', { sql: `COPY (SELECT 1 AS a) TO ${quoteText(path.join(folder.path, 'broken/0.parquet'))} (FORMAT parquet)` });
    writeFileSync(path.join(folder.path, 'broken/1.parquet'), 'PAR1 is not enough PAR1');
    await bench.openFolder('broken');
    await expect(bench.rows('SELECT * FROM bay.broken')).rejects.toThrow('broken/1.parquet');
  });
});
