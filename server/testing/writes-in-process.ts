/** Statements of every kind against one table, one after the other, until the process is killed; each that was acknowledged is told to the parent. Arguments: folder, format, seed. */
import { seeded } from '../../core/testing/driven-store';
import { DiskStore } from '../storage/disk-store';
import { LocalEngine } from './local-engine';
import { SqlBench } from './sql-bench';

const [root, format, seed] = process.argv.slice(2) as [string, 'delta' | 'iceberg', string];
const random = seeded(Number(seed));
const below = (most: number) => Math.floor(random() * most);
const bench = new SqlBench(new DiskStore(root), await LocalEngine.start());
if (format === 'delta') bench.open('t');
else bench.openIceberg('t');

const statements = [
  () => `INSERT INTO bay.t SELECT i, i % 7 FROM range(${below(1000)}, ${1000 + below(50)}) r(i)`,
  () => `UPDATE bay.t SET v = v + 1 WHERE k % 5 = ${below(5)}`,
  () => `DELETE FROM bay.t WHERE k % 11 = ${below(11)}`,
  () => `MERGE INTO bay.t AS t USING (SELECT i AS k, 0 AS v FROM range(${below(100)}, ${100 + below(50)}) r(i)) AS s ON t.k = s.k AND t.v = s.v WHEN MATCHED THEN DELETE WHEN NOT MATCHED THEN INSERT (k, v) VALUES (s.k, s.v)`,
  () => `REPLACE ALL ROWS OF bay.t BY SELECT i::BIGINT AS k, 1::BIGINT AS v FROM range(${below(200)}) r(i)`,
];
process.send?.('ready');
for (;;) {
  const kind = below(statements.length + 2);
  if (kind < statements.length) {
    const { written } = await bench.run(statements[kind]!());
    if (written.version !== null) process.send?.(written.version);
  } else if (format === 'delta' && kind === statements.length) await bench.upkeep.checkpoint(bench.delta('t'), bench.storage);
  else if (format === 'delta') await bench.upkeep.compact(bench.delta('t'), bench.storage, {}, 'soak');
  else await bench.icebergUpkeep.rewrite(bench.iceberg('t'), bench.storage, {}, 'soak');
}
