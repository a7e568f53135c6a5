/** Damaged and odd files: each a clear error that names the file, while everything else goes on. Open data sets read right. */
import { cpSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { expect, test, type APIRequestContext } from '@playwright/test';
import { parquetReadObjects } from 'hyparquet';
import { compressors } from 'hyparquet-compressors';
import { home } from './served';

const demo = `${home}/lake/tern-bay`;
const vega = 'node_modules/vega-datasets/data';
let lake: string;

function put(file: string, content: string | Buffer): void {
  const full = path.join(lake, file);
  mkdirSync(path.dirname(full), { recursive: true });
  writeFileSync(full, content);
}

test.beforeAll(async ({ request }) => {
  lake = mkdtempSync(path.join(os.tmpdir(), 'odd-lake-'));
  const parquet = readFileSync(path.join(demo, 'landing/soundings/day=2026-01-01/low-scar.parquet'));
  put('cut/good.parquet', parquet);
  put('cut/short.parquet', parquet.subarray(0, 3000));
  put('ragged/a.csv', 'id,name\n1,one\n2,two,too many\n3,three\n');
  put("odd names/it's 100% \"größe\"/a b.csv", 'id,name\n1,one\n2,two\n');
  put('mixed/a.csv', 'id\n1\n');
  put('mixed/b.json', '{"id": 1}\n');
  cpSync(path.join(demo, 'refined/bottles'), path.join(lake, 'gap'), { recursive: true });
  rmSync(path.join(lake, 'gap/_delta_log/00000000000000000004.json'));
  cpSync(path.join(demo, 'refined/bottles'), path.join(lake, 'broken-log'), { recursive: true });
  put('broken-log/_delta_log/00000000000000000014.json', '{"commitInfo":{}}\n{"add":{"path":"x"\n');
  put('no-json/metadata/v1.metadata.json', 'not json at all');
  put('no-json/metadata/version-hint.text', '1');
  for (const [folder, file] of [['weather', 'seattle-weather.csv'], ['flights', 'flights-3m.parquet'], ['movies', 'movies.json'], ['stocks', 'stocks.csv'], ['unemployment', 'unemployment.tsv']] as const) {
    mkdirSync(path.join(lake, 'open', folder), { recursive: true });
    cpSync(path.join(vega, file), path.join(lake, 'open', folder, file));
  }
  expect((await request.post('/api/storages', { data: { name: 'odd', location: lake } })).status()).toBe(200);
});
test.afterAll(() => rmSync(lake, { recursive: true, force: true }));

const query = (request: APIRequestContext, sql: string) => request.post('/api/query', { data: { sql } });
async function rows(request: APIRequestContext, sql: string): Promise<unknown[][]> {
  const answer = await query(request, sql);
  const body = await answer.json();
  expect(answer.status(), JSON.stringify(body)).toBe(200);
  return body.rows as unknown[][];
}

const broken: [what: string, sql: string, words: RegExp, details: Record<string, unknown>][] = [
  ['a truncated Parquet file', 'SELECT * FROM "odd:cut/short.parquet"', /short\.parquet/, { path: 'cut/short.parquet' }],
  ['a folder with one truncated file', 'SELECT count(*) FROM "odd:cut"', /short\.parquet/, { path: 'cut/short.parquet' }],
  ['a CSV with a ragged line', 'SELECT * FROM "odd:ragged"', /ragged\/a\.csv/, { path: 'ragged/a.csv', line: 3 }],
  ['a folder of mixed kinds', 'SELECT * FROM "odd:mixed"', /1 CSV file and 1 JSON file/, { path: 'mixed' }],
  ['a Delta log with a missing commit', 'SELECT * FROM "odd:gap"', /00000000000000000004\.json is missing/, { path: 'gap/_delta_log/00000000000000000004.json' }],
  ['a Delta log with a line that is no JSON', 'SELECT * FROM "odd:broken-log"', /line 2: expected one JSON action/, { path: 'broken-log/_delta_log/00000000000000000014.json', line: 2 }],
  ['Iceberg metadata that is no JSON', 'SELECT * FROM "odd:no-json"', /v1\.metadata\.json: it is no JSON/, { path: 'no-json/metadata/v1.metadata.json' }],
];
for (const [what, sql, words, details] of broken) {
  test(`${what} is named`, async ({ request }) => {
    const answer = await query(request, sql);
    const body = await answer.json();
    expect(answer.status(), JSON.stringify(body)).toBeGreaterThanOrEqual(400);
    expect(answer.status()).toBeLessThan(500);
    expect(body).toMatchObject({ detail: expect.stringMatching(words), ...details });
    expect(body.detail).not.toContain(lake);
    expect(await rows(request, 'SELECT 1')).toEqual([[1]]);
  });
}

test('names with spaces, quotes, percent signs and letters of any script are just names', async ({ request }) => {
  expect(await rows(request, `SELECT sum(id), string_agg(name, '+' ORDER BY id) FROM "odd:odd names/it's 100% ""größe""/a b.csv"`)).toEqual([[3, 'one+two']]);
});

test('versions before the fault of a damaged table can still be read', async ({ request }) => {
  const [[count]] = await rows(request, 'SELECT count(*) FROM "odd:broken-log" FOR SYSTEM_VERSION AS OF 13') as [[number]];
  expect(count).toBe(8689);
});

test('a crawl over all of it finds what is good and says what is not', async ({ page, request }) => {
  await page.goto('/storage/odd');
  await page.getByRole('button', { name: 'Crawl this folder' }).click();
  await expect(page.getByRole('heading', { name: 'What the crawl found' })).toBeVisible();
  const row = (name: string) => page.getByRole('row').filter({ has: page.getByRole('button', { name, exact: true }) });
  await expect(row('odd.cut')).toContainText('not readable', { timeout: 20_000 });
  await row('odd.cut').getByRole('button', { name: 'odd.cut' }).click();
  await expect(page.getByRole('region', { name: 'Evidence of the chosen finding' })).toContainText('cut/short.parquet');
  await expect(row('odd.gap')).toContainText('00000000000000000004.json is missing');
  await expect(row('odd.no_json')).toContainText('it is no JSON');
  await expect(row('odd.mixed_a')).toContainText('new');
  await expect(row('odd.mixed_b')).toContainText('new');
  await expect(row('open.flights')).toContainText('3,000,000');
  expect((await request.get('/api/health')).status()).toBe(200);
});

test('open data sets, crawled and registered, give the totals that an independent computation gives', async ({ request }) => {
  const { runId } = await (await request.post('/api/crawls', { data: { storage: 'odd', folder: 'open' } })).json();
  await expect.poll(async () => (await (await request.get(`/api/crawl-runs/${runId}`)).json()).finishedAt, { timeout: 20_000 }).not.toBeNull();
  const { registered, failed } = await (await request.post(`/api/crawl-runs/${runId}/register`, { data: {} })).json();
  expect([registered.sort(), failed]).toEqual([['open.flights', 'open.movies', 'open.stocks', 'open.unemployment', 'open.weather'], []]);

  const lines = (file: string, separator: string) => readFileSync(path.join(vega, file), 'utf8').trim().split(/\r?\n/).slice(1).map((line) => line.split(separator));
  const sum = (values: (number | null)[]) => values.reduce<number>((total, value) => total + (value ?? 0), 0);
  const weather = lines('seattle-weather.csv', ',');
  const [[days, rain]] = await rows(request, 'SELECT count(*), sum(precipitation) FROM open.weather') as [[number, number]];
  expect([days, rain.toFixed(6)]).toEqual([weather.length, sum(weather.map((each) => Number(each[1]))).toFixed(6)]);

  const unemployment = lines('unemployment.tsv', '\t');
  const [[counties, rate]] = await rows(request, 'SELECT count(*), sum(rate) FROM open.unemployment') as [[number, number]];
  expect([counties, rate.toFixed(6)]).toEqual([unemployment.length, sum(unemployment.map((each) => Number(each[1]))).toFixed(6)]);

  const movies = JSON.parse(readFileSync(path.join(vega, 'movies.json'), 'utf8')) as { 'US Gross': number | null; 'IMDB Rating': number | null }[];
  const [[films, gross, rated]] = await rows(request, 'SELECT count(*), sum("US Gross"), count("IMDB Rating") FROM open.movies') as [[number, number, number]];
  expect([films, Number(gross), rated]).toEqual([movies.length, sum(movies.map((each) => each['US Gross'])), movies.filter((each) => each['IMDB Rating'] !== null).length]);

  const bytes = readFileSync(path.join(vega, 'flights-3m.parquet'));
  const flights = (await parquetReadObjects({ file: bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.byteLength), columns: ['delay'], compressors })) as { delay: number | bigint }[];
  expect(await rows(request, 'SELECT count(*), sum(delay), max(delay) FROM open.flights')).toEqual([[flights.length, sum(flights.map((each) => Number(each.delay))), flights.reduce((most, each) => Math.max(most, Number(each.delay)), -Infinity)]]);
});
