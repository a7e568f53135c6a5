/** A storage of 100,000 Parquet files in 5,000 folders: crawled first, and again; beside the engine's own metadata function. */
import { copyFileSync, existsSync, mkdirSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { quoteList } from '../server/engine/instances';
import { projectRoot } from '../server/program-files';
import { millis, repeated, timed, timeText, type Claim } from './lib/measure';
import { rawEngine } from './lib/raw-engine';
import type { Running } from './lib/server';

const FOLDERS = 5000;
const FILES_EACH = 20;
const FILES = FOLDERS * FILES_EACH;
/** Files in one call of the engine, as many as it takes well. */
const AT_ONCE = 20_000;

/** Made once and kept: each file has four columns and twenty rows. */
async function manyFiles(): Promise<string> {
  const root = path.join(projectRoot, '.cache/bench-many-files');
  const complete = path.join(root, '..', 'bench-many-files-complete');
  if (existsSync(complete)) return root;
  console.log('Making 100,000 files …');
  mkdirSync(root, { recursive: true });
  const engine = await rawEngine();
  const one = path.join(root, '..', 'bench-one.parquet');
  await engine.run(`COPY (SELECT i AS id, 'x' || i AS name, i * 1.5 AS reading, DATE '2026-01-01' AS day FROM range(20) numbers(i)) TO '${one}' (FORMAT parquet)`);
  for (let folder = 0; folder < FOLDERS; folder++) {
    // Connections that end meanwhile are to be noticed.
    await new Promise((resolve) => setImmediate(resolve));
    const place = path.join(root, `t${String(folder).padStart(5, '0')}`);
    mkdirSync(place, { recursive: true });
    for (let file = 0; file < FILES_EACH; file++) copyFileSync(one, path.join(place, `part-${file}.parquet`));
  }
  writeFileSync(complete, '');
  return root;
}

export async function benchManyFiles(server: Running): Promise<Claim[]> {
  const root = await manyFiles();
  await server.post('/storages', { name: 'many', location: root });
  const crawl = async () => {
    const { runId } = await server.post<{ runId: number }>('/crawls', { storage: 'many', folder: '' });
    for (;;) {
      // The job, since the run itself brings all its findings.
      const job = (await server.get<{ kind: string; state: string }[]>('/jobs?limit=1'))[0]!;
      if (job.state !== 'running') break;
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
    return runId;
  };
  const engine = await rawEngine();
  const paths = Array.from({ length: FILES }, (_, n) => path.join(root, `t${String(Math.floor(n / FILES_EACH)).padStart(5, '0')}`, `part-${n % FILES_EACH}.parquet`));
  const metadata = async () => {
    for (let start = 0; start < FILES; start += AT_ONCE) await engine.runAndReadAll(`SELECT sum(num_rows) FROM parquet_file_metadata(${quoteList(paths.slice(start, start + AT_ONCE))})`);
  };
  const before = await timed(metadata);
  const first = await timed(crawl);
  const after = await timed(metadata);
  const reference = (before + after) / 2;
  const again = await repeated(crawl, 3);
  const memory = Object.values(server.memory());
  return [
    { what: 'First crawl of 100,000 files in 5,000 folders', limit: 'at most 1.3 times the reference', measured: `${millis(first)}, ${(first / reference).toFixed(2)} times; ${Math.round(FILES / first)},000 files a second`, reference: `the engine's metadata function over the same files: ${millis(reference)} (before and after)`, holds: first <= 1.3 * reference },
    { what: 'The same, in files a second', limit: 'at least 8,000', measured: Math.round(FILES / (first / 1000)).toLocaleString('en-GB'), reference: 'fixed', holds: first <= FILES / 8 },
    { what: 'Crawl them again, unchanged', limit: 'at least 40,000 files a second: 2.5 s', measured: timeText(again), reference: 'fixed', holds: again.median <= FILES / 40 },
    { what: 'Memory of the API process and the work engine after those crawls', limit: 'at most 600 MB resident together', measured: `${(server.memory().api + server.memory()['work engine']).toFixed(0)} MB; all processes ${memory.reduce((sum, each) => sum + each, 0).toFixed(0)} MB`, reference: 'fixed', holds: server.memory().api + server.memory()['work engine'] <= 600 },
  ];
}
