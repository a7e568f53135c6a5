/** Queries through the API against the raw engine on the same list of files. */
import { readdirSync } from 'node:fs';
import path from 'node:path';
import { interleaved, millis, timeText, type Claim } from './lib/measure';
import { fileList, rawEngine } from './lib/raw-engine';
import type { Running } from './lib/server';

const MOST_RATIO = 1.05;
const MOST_MORE_MS = 25;
/** In a row without a pause: within the number of engine instances that are kept ready. */
const SMALL_RUNS = 7;

interface Answer {
  rowCount: number;
  rows: unknown[][];
  receipt: { tables: { files: { total: number; read: number; skippedByPartition: number } }[] };
}

function dataFiles(server: Running, table: string): string[] {
  const root = path.join(server.home, 'lake/tern-bay', table);
  return readdirSync(root, { recursive: true, encoding: 'utf8' }).filter((file) => file.endsWith('.parquet')).map((file) => path.join(root, file));
}

/** Work over a second: aggregates over all soundings with small results. */
const LONG: [what: string, sql: (from: string) => string][] = [
  ['approximate quantiles by buoy', (from) => `SELECT buoy_id, approx_quantile(oxygen_mg_l, [0.1, 0.5, 0.9]), approx_quantile(temp_c, 0.5), approx_quantile(salinity_psu, 0.5) FROM ${from} GROUP BY buoy_id ORDER BY buoy_id LIMIT 20`],
  ['arithmetic and regressions by day', (from) => `SELECT taken_at::DATE AS day, sum(sin(depth_m) * cos(temp_c) + ln(1 + turbidity_ntu) * sqrt(salinity_psu) + pow(oxygen_mg_l, 1.5)), regr_slope(oxygen_mg_l, temp_c), corr(depth_m, salinity_psu), count(DISTINCT buoy_id) FROM ${from} GROUP BY day ORDER BY day`],
];

/** Small work, warm. */
const SMALL: [what: string, table: string, files: (server: Running) => string[], sql: (from: string) => string][] = [
  ['one buoy on one day', 'refined.soundings', (server) => dataFiles(server, 'refined/soundings/data/taken_at_day=2026-03-14'), (from) => `SELECT avg(oxygen_mg_l) FROM ${from} WHERE taken_at >= '2026-03-14' AND taken_at < '2026-03-15' AND buoy_id = 'TB-03'`],
  ['a small Delta table by site', 'refined.bottles', (server) => [dataFiles(server, 'refined/bottles').at(-1)!], (from) => `SELECT site, count(*) FROM ${from} GROUP BY site ORDER BY site`],
];

export async function benchQueries(server: Running): Promise<Claim[]> {
  const raw = await rawEngine();
  const claims: Claim[] = [];
  const ask = (sql: string) => server.post<Answer>('/query', { sql });
  const all = fileList(dataFiles(server, 'refined/soundings/data'));
  for (const [what, sql] of LONG) {
    const { ours, reference } = await interleaved(() => ask(sql('refined.soundings')), () => raw.runAndReadAll(sql(all)));
    if (reference.median < 1000) throw new Error(`"${what}" takes the raw engine only ${millis(reference.median)}; it has to be over a second to count as long work.`);
    const ratio = ours.median / reference.median;
    claims.push({ what: `Long query: ${what}`, limit: `at most ${MOST_RATIO} times the raw engine`, measured: `${ratio.toFixed(3)} times: ${timeText(ours)}`, reference: timeText(reference), holds: ratio <= MOST_RATIO });
  }
  for (const [what, table, files, sql] of SMALL) {
    const list = fileList(files(server));
    // As for a person between two questions: the engine has made up for the instances that were used.
    await new Promise((resolve) => setTimeout(resolve, 1500));
    const { ours, reference } = await interleaved(() => ask(sql(table)), () => raw.runAndReadAll(sql(list)), SMALL_RUNS);
    const more = ours.median - reference.median;
    claims.push({ what: `Small query: ${what}`, limit: `at most ${MOST_MORE_MS} ms more than the raw engine`, measured: `${more.toFixed(1)} ms more: ${timeText(ours)}`, reference: timeText(reference), holds: more <= MOST_MORE_MS });
  }
  const day = await ask("SELECT count(*) FROM refined.soundings WHERE taken_at >= '2026-03-14' AND taken_at < '2026-03-15'");
  const { total, read } = day.receipt.tables[0]!.files;
  const ofDay = dataFiles(server, 'refined/soundings/data/taken_at_day=2026-03-14').length;
  claims.push({ what: 'Files read for one day of soundings', limit: `that day's ${ofDay} files`, measured: `${read} of ${total}`, reference: 'counted in the folder', holds: read === ofDay });
  raw.closeSync();
  return claims;
}
