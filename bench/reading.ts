/** Files that people bring: looks at a single one, a crawl of many, and a catalog of thousands of tables. Made up from a fixed seed. */
import { copyFileSync, mkdirSync, readdirSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { gzipSync } from 'node:zlib';
import { projectRoot } from '../server/program-files';
import { millis, repeated, timed, timeText, type Claim } from './lib/measure';
import type { Running } from './lib/server';

const folder = path.join(projectRoot, '.cache/bench-reading');
const PLACES = ['Holm Quay', 'Low Scar', 'Whinny Sands', 'Tern Bay, outer'];
const [TEXTS, TABLES] = [500, 5000];

export async function benchReading(server: Running): Promise<Claim[]> {
  rmSync(folder, { recursive: true, force: true });
  mkdirSync(folder, { recursive: true });
  const looks = await looksAtOne(server);
  const texts = await crawlOfTexts(server);
  return [...looks, texts, ...(await thousandsOfTables(server))];
}

/** Numbers that look random and are the same each time (common practice: a linear congruential generator). */
function numbers(seed: number): () => number {
  let state = seed;
  return () => (state = (state * 1_664_525 + 1_013_904_223) % 2 ** 32) / 2 ** 32;
}

function row(n: number, next: () => number): Record<string, unknown> {
  return {
    id: n,
    place: PLACES[Math.floor(next() * PLACES.length)],
    day: new Date(Date.UTC(2024, 0, 1 + (n % 700))).toISOString().slice(0, 10),
    depth: Math.round(next() * 1e5) / 1000,
    count: Math.floor(next() * 1e6),
    open: next() < 0.5,
    note: n % 9 === 0 ? 'NA' : `n${n}`,
  };
}

function csvOf(rows: readonly Record<string, unknown>[]): string {
  const cell = (value: unknown) => (String(value).includes(',') ? `"${String(value)}"` : String(value));
  return [Object.keys(rows[0]!).join(','), ...rows.map((each) => Object.values(each).map(cell).join(','))].join('\n');
}

/** A file of 1 MB of each kind. */
async function looksAtOne(server: Running): Promise<Claim[]> {
  const next = numbers(7);
  const rows = Array.from({ length: 15_000 }, (_, n) => row(n, next));
  const files: Record<string, string | Buffer> = {
    'a.csv': csvOf(rows),
    'a.csv.gz': gzipSync(csvOf(rows)),
    'a.jsonl': rows
      .map((each) => JSON.stringify(each))
      .join('\n')
      .slice(0, 1e6)
      .replace(/\n[^\n]*$/, ''),
    'nested.json': JSON.stringify({ page: 1, data: rows.slice(0, 8000) }),
    'a.xml': `<all>${rows
      .slice(0, 5500)
      .map(
        (each) =>
          `<r>${Object.entries(each)
            .map(([key, value]) => `<${key}>${String(value)}</${key}>`)
            .join('')}</r>`,
      )
      .join('')}</all>`,
    'access.log': rows
      .map(
        (each) =>
          `10.0.0.1 - - [${String(1 + ((each.id as number) % 28)).padStart(2, '0')}/Mar/2024:08:00:00 +0000] "GET /quay/${String(each.id)} HTTP/1.1" 200 ${String(each.count)}`,
      )
      .slice(0, 11_000)
      .join('\n'),
  };
  for (const [name, content] of Object.entries(files)) writeFileSync(path.join(folder, name), content);
  await server.post('/storages', { name: 'brought', kind: 'folder', location: folder });
  const claims: Claim[] = [];
  for (const name of Object.keys(files)) {
    const look = () => server.get(`/storages/brought/look?path=${encodeURIComponent(name)}`);
    const first = await timed(look);
    const again = await repeated(look);
    claims.push({
      what: `A look at 1 MB of ${name}`,
      limit: 'at most 300 ms',
      measured: `${timeText(again)}; the first ${millis(first)}`,
      reference: 'fixed',
      holds: again.median <= 300,
    });
  }
  return claims;
}

async function crawlOfTexts(server: Running): Promise<Claim> {
  for (let n = 0; n < TEXTS; n++) {
    const next = numbers(n);
    const rows = Array.from({ length: 50 + Math.floor(next() * 1200) }, (_, index) => row(index, next));
    const keys = Object.keys(rows[0]!).slice(0, 3 + (n % 5));
    mkdirSync(path.join(folder, `texts/t${n}`), { recursive: true });
    writeFileSync(
      path.join(folder, `texts/t${n}/t${n}.csv`),
      csvOf(rows.map((each) => Object.fromEntries(keys.map((key) => [`${key}_${n}`, each[key]])))),
    );
  }
  const took = await timed(() => crawl(server, 'texts'));
  return {
    what: `First crawl of ${TEXTS} text files that have nothing to do with each other, each read to its end`,
    limit: 'at most 10 s',
    measured: millis(took),
    reference: 'fixed; one run, since it is the first',
    holds: took <= 10_000,
  };
}

async function thousandsOfTables(server: Running): Promise<Claim[]> {
  const lake = path.join(server.home, 'lake');
  const parquet = readdirSync(lake, { recursive: true })
    .map(String)
    .find((name) => name.endsWith('.parquet'))!;
  for (let n = 0; n < TABLES; n++) {
    const own = path.join(folder, `tables/s${n % 50}/t${n}`);
    mkdirSync(own, { recursive: true });
    copyFileSync(path.join(lake, parquet), path.join(own, 'rows.parquet'));
  }
  let runId = 0;
  const crawled = await timed(async () => (runId = await crawl(server, 'tables')));
  const registered = await timed(() => server.post(`/crawl-runs/${runId}/register`, {}));
  const page = await repeated(() => server.get(`/crawl-runs/${runId}?brief=true`));
  const catalog = await repeated(() => server.get('/catalog'));
  const shown = await repeated(() => server.post('/query', { sql: 'SHOW TABLES', maxRows: 10_000 }));
  return [
    {
      what: `Crawl of ${TABLES.toLocaleString('en')} tables`,
      limit: 'at most 30 s',
      measured: millis(crawled),
      reference: 'fixed; one run',
      holds: crawled <= 30_000,
    },
    {
      what: 'Registering all of them',
      limit: 'at most 15 s',
      measured: millis(registered),
      reference: 'fixed; one run',
      holds: registered <= 15_000,
    },
    {
      what: 'The page of that crawl',
      limit: 'at most 500 ms',
      measured: timeText(page),
      reference: 'fixed',
      holds: page.median <= 500,
    },
    {
      what: 'The catalog with them',
      limit: 'at most 150 ms',
      measured: timeText(catalog),
      reference: 'fixed',
      holds: catalog.median <= 150,
    },
    {
      what: 'SHOW TABLES of them',
      limit: 'at most 150 ms',
      measured: timeText(shown),
      reference: 'fixed',
      holds: shown.median <= 150,
    },
  ];
}

/** The number of the run. */
async function crawl(server: Running, inside: string): Promise<number> {
  const { runId } = await server.post<{ runId: number }>('/crawls', { storage: 'brought', folder: inside });
  while (!(await server.get<{ finishedAt: string | null }>(`/crawl-runs/${runId}?brief=true`)).finishedAt)
    await new Promise((resolve) => setTimeout(resolve, 100));
  return runId;
}
