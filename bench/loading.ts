/** Making and loading tables through the product, against the raw engine doing the same writing by hand. */
import { closeSync, fsyncSync, mkdirSync, openSync, readdirSync, renameSync, rmSync, writeSync } from 'node:fs';
import path from 'node:path';
import { interleaved, timeText, type Claim } from './lib/measure';
import { fileList, rawEngine } from './lib/raw-engine';
import type { Running } from './lib/server';

const MADE_ROWS = 20_000_000;
const MERGED_ROWS = 10_000_000;
const APPENDED_ROWS = 10_000;
const MOST_MADE = 1.2;
const MOST_APPENDED = 1.5;
const MOST_MERGED = 1.5;
const MOST_FORECAST_MS = 3000;

const rows = (count: number, from = 0) => `SELECT range AS id, (range % 8)::INTEGER AS region, TIMESTAMP '2026-01-01' + to_seconds((range * 7919) % 7776000) AS "at", ((range * 104729) % 100000) / 100.0 AS value, 'site ' || (range % 500) AS site FROM range(${from}, ${from + count})`;
/** One row in a hundred, all over the table, with other values. */
const corrections = `SELECT id, region, "at", value + 1 AS value, site FROM (${rows(MERGED_ROWS)}) AS r WHERE id % 100 = 7`;

export async function benchLoading(server: Running): Promise<Claim[]> {
  const raw = await rawEngine();
  const scratch = path.join(server.home, 'raw');
  const out = (name: string) => {
    rmSync(path.join(scratch, name), { recursive: true, force: true });
    mkdirSync(scratch, { recursive: true });
    return path.join(scratch, name);
  };
  const sql = (text: string) => server.post<{ written?: { version: number } }>('/query', { sql: text });
  await sql('DROP NAMESPACE IF EXISTS bench CASCADE');
  await sql('CREATE NAMESPACE bench');
  const claims: Claim[] = [];
  let n = 0;
  for (const format of ['iceberg', 'delta']) {
    const order = format === 'iceberg' ? ['ORDER BY ("at")', ''] : ['', ' ORDER BY "at"'];
    const { ours, reference } = await interleaved(
      async () => {
        await sql(`CREATE TABLE bench.made_${n} PARTITION BY (region) ${order[0]} WITH (format = '${format}') AS ${rows(MADE_ROWS)}${order[1]}`);
        await sql(`DROP TABLE bench.made_${n++}`);
      },
      () => raw.run(`COPY (SELECT * FROM (${rows(MADE_ROWS)}) AS r ORDER BY "at") TO '${out('made')}' (FORMAT parquet, COMPRESSION zstd, PARTITION_BY (region))`),
      2,
    );
    claims.push(claim(`CREATE TABLE AS of 20 million rows, partitioned and sorted, as ${format}`, MOST_MADE, 'the raw engine writing the same files', ours, reference));
    rmSync(path.join(server.home, 'lake/tern-bay/_dropped'), { recursive: true, force: true });
    await sql(`CREATE TABLE bench.appended_${format} WITH (format = '${format}') AS ${rows(APPENDED_ROWS)}`);
    const append = await interleaved(
      () => sql(`INSERT INTO bench.appended_${format} ${rows(APPENDED_ROWS, APPENDED_ROWS)}`),
      async () => {
        await raw.run(`COPY (${rows(APPENDED_ROWS, APPENDED_ROWS)}) TO '${out('appended.parquet')}' (FORMAT parquet, COMPRESSION zstd)`);
        // Manifest, list, metadata and what shows it to file readers; or the commit and its checksum. On disk, as a commit is.
        for (let file = 0; file < (format === 'iceberg' ? 5 : 2); file++) writeDurably(path.join(scratch, `commit-${file}.json`), '{}'.repeat(2000));
      },
      15,
    );
    claims.push(claim(`INSERT of 10,000 rows, as ${format}`, MOST_APPENDED, "the raw engine's COPY, and the commit's files", append.ours, append.reference));
  }
  await sql(`CREATE TABLE bench.merged WITH (format = 'delta') AS ${rows(MERGED_ROWS)}`);
  const folder = path.join(server.home, 'lake/tern-bay/warehouse/bench/merged');
  const files = fileList(readdirSync(folder).filter((file) => file.endsWith('.parquet')).map((file) => path.join(folder, file)));
  const merge = await interleaved(
    () => sql(`MERGE INTO bench.merged AS t USING (${corrections}) AS s ON t.id = s.id WHEN MATCHED THEN UPDATE SET value = s.value WHEN NOT MATCHED THEN INSERT *`),
    () => raw.run(`COPY (WITH s AS (${corrections}) SELECT t.id, t.region, t."at", CASE WHEN s.id IS NULL THEN t.value ELSE s.value END AS value, t.site FROM ${files} AS t LEFT JOIN s ON s.id = t.id UNION ALL BY NAME SELECT s.* FROM s WHERE NOT EXISTS (SELECT 1 FROM ${files} AS t WHERE t.id = s.id)) TO '${out('merged')}' (FORMAT parquet, COMPRESSION zstd, FILE_SIZE_BYTES 134217728)`),
    2,
  );
  claims.push(claim('MERGE of 1% of 10 million rows, copied', MOST_MERGED, 'the raw engine rewriting the same files by a join', merge.ours, merge.reference));
  const foreseen = out('foreseen');
  await raw.run(`COPY (${rows(MADE_ROWS)}) TO '${foreseen}' (FORMAT parquet, COMPRESSION zstd, PER_THREAD_OUTPUT true)`);
  const source = path.join(server.home, 'lake/tern-bay/bench-foreseen');
  renameSync(foreseen, source);
  for (const [words, options] of [['by hash in folders', "files = 'at most 5', by = 'site', folders = '{region}'"], ['by size, sorted', "files = 'about 64 MB', sort = 'at'"], ['by range', "files = 'at most 20', by = 'at', mechanism = 'range'"]] as const) {
    const { ours, reference } = await interleaved(
      () => server.post('/writes/forecast', { sql: `WRITE TO 'tern-bay:bench-written' WITH (${options}) AS SELECT * FROM "tern-bay:bench-foreseen"` }),
      () => raw.run(`SELECT region, hash(site) % 5, count(*) FROM read_parquet('${source}/*.parquet') GROUP BY ALL`),
      3,
    );
    claims.push({ what: `Forecast of writing 20 million rows ${words}`, limit: `at most ${MOST_FORECAST_MS / 1000} s`, measured: timeText(ours), reference: `one count by the raw engine: ${timeText(reference)}`, holds: ours.median <= MOST_FORECAST_MS });
  }
  rmSync(source, { recursive: true, force: true });
  const { api } = server.memory();
  claims.push({ what: 'Memory of the API process after all of it', limit: 'at most 300 MB resident', measured: `${Math.round(api)} MB`, reference: 'fixed', holds: api <= 300 });
  await sql('DROP NAMESPACE bench CASCADE');
  rmSync(scratch, { recursive: true, force: true });
  raw.closeSync();
  return claims;
}

function writeDurably(file: string, text: string): void {
  const handle = openSync(file, 'w');
  writeSync(handle, text);
  fsyncSync(handle);
  closeSync(handle);
}

function claim(what: string, most: number, reference: string, ours: Parameters<typeof timeText>[0], theirs: Parameters<typeof timeText>[0]): Claim {
  const ratio = ours.median / theirs.median;
  return { what, limit: `at most ${most} times ${reference}`, measured: `${ratio.toFixed(2)} times: ${timeText(ours)}`, reference: timeText(theirs), holds: ratio <= most };
}
