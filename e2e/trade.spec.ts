/** What people of the trade count on, common practice: how rows come to lie in files, what stays when a table goes, keys by row number. */
import { mkdirSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { expect, test, type APIRequestContext } from '@playwright/test';
import { home } from './served';

const dated = path.resolve(`${home}/lake/tern-bay/made/dated`);
test.afterAll(async ({ request }) => {
  rmSync(dated, { recursive: true, force: true });
  await request.delete('/api/namespaces/guild?files=remove&confirm=guild');
});

async function sql(request: APIRequestContext, text: string): Promise<unknown[][]> {
  const response = await request.post('/api/query', { data: { sql: text, maxRows: 10_000 } });
  const body = (await response.json()) as { rows: unknown[][]; detail?: string };
  expect(response.status(), `${text}\n${body.detail}`).toBe(200);
  return body.rows;
}

test('a key with duplicates hashed into 5 lies in five files at most, and no key in two of them', async ({ request }) => {
  await sql(request, 'CREATE NAMESPACE guild');
  await sql(request, "CREATE TABLE guild.hashed PARTITION BY (bucket(5, name)) AS SELECT 'name ' || (range % 300) AS name, range AS n FROM range(3000)");
  const files = await sql(request, 'SHOW FILES OF guild.hashed');
  expect(files).toHaveLength(5);
  expect(files.reduce((sum, each) => sum + (each[1] as number), 0)).toBe(3000);
  const names = await Promise.all(files.map(([file]) => sql(request, `SELECT DISTINCT name FROM "tern-bay:${String(file)}"`)));
  expect(new Set(names.flat(2)).size).toBe(names.flat(2).length);
});

test('a file per year holds only its year, sorted by id', async ({ request }) => {
  await sql(request, "CREATE TABLE guild.yearly PARTITION BY (year(day)) ORDER BY (id) AS SELECT (range * 7919) % 1000 AS id, DATE '2023-06-01' + (range % 900)::INTEGER AS day FROM range(1000)");
  const files = await sql(request, 'SHOW FILES OF guild.yearly');
  expect(files.map((each) => each[3]).sort()).toEqual(['day_year=2023', 'day_year=2024', 'day_year=2025']);
  for (const [file, , , partition] of files) {
    const rows = await sql(request, `SELECT id, year(day) FROM "tern-bay:${String(file)}"`);
    expect(new Set(rows.map(([, year]) => year))).toEqual(new Set([Number(String(partition).slice(-4))]));
    expect(rows.map(([id]) => id)).toEqual(rows.map(([id]) => id as number).sort((a, b) => a - b));
  }
});

for (const format of ['iceberg', 'delta']) {
  test(`a dropped external table's files remain and register again with every version (${format})`, async ({ request }) => {
    await sql(request, `CREATE TABLE guild.outside (n integer) WITH (format = '${format}', location = 'tern-bay:made/guild-${format}')`);
    for (const n of [1, 2, 3]) await sql(request, `INSERT INTO guild.outside VALUES (${n})`);
    await sql(request, 'DROP TABLE guild.outside');
    expect(await sql(request, `SELECT count(*) FROM "tern-bay:made/guild-${format}"`)).toEqual([[3]]);
    await sql(request, `CREATE TABLE guild.outside WITH (location = 'tern-bay:made/guild-${format}')`);
    expect(await sql(request, 'SELECT n FROM guild.outside ORDER BY n')).toEqual([[1], [2], [3]]);
    expect(await sql(request, 'SELECT count(*) FROM guild.outside FOR SYSTEM_VERSION AS OF 2')).toEqual([[2]]);
    await sql(request, 'INSERT INTO guild.outside VALUES (4)');
    expect((await request.delete('/api/catalog/guild/outside?files=remove&confirm=guild.outside')).status()).toBe(200);
  });
}

test('a table that the catalog owns is one table, by its name and by its folder', async ({ request }) => {
  await sql(request, 'CREATE TABLE guild.owned (n integer)');
  await sql(request, 'INSERT INTO guild.owned VALUES (1)');
  await sql(request, 'INSERT INTO "tern-bay:warehouse/guild/owned" VALUES (2)');
  await sql(request, 'INSERT INTO guild.owned VALUES (3)');
  for (const from of ['guild.owned', '"tern-bay:warehouse/guild/owned"']) expect(await sql(request, `SELECT n FROM ${from} ORDER BY n`)).toEqual([[1], [2], [3]]);
  const refused = async (text: string) => (await (await request.post('/api/query', { data: { sql: text } })).json()).detail as string;
  expect(await refused("CREATE TABLE guild.second WITH (location = 'tern-bay:warehouse/guild/owned')")).toContain('in the catalog as guild.owned already');
  expect(await refused("CREATE TABLE guild.inner (n integer) WITH (location = 'tern-bay:warehouse/guild/owned/data/inner')")).toContain('guild.owned lies there or in it');
});

test('a dimension is built from three joined tables, with a key by row number', async ({ request }) => {
  // The office opens a moment after the server.
  await expect.poll(async () => (await request.get('/api/storages/fleet-office/objects')).status(), { timeout: 20_000 }).toBe(200);
  await sql(request, `CREATE TABLE guild.dim_crew AS
    SELECT row_number() OVER (ORDER BY person, buoy_id) AS crew_key, * FROM (SELECT c.person, b.moored_at, v.buoy_id, count(*) AS visits
    FROM "fleet-office:fleet.crews" AS c JOIN "fleet-office:fleet.boats" AS b ON b.boat = c.boat JOIN "fleet-office:fleet.visits" AS v ON v.boat = b.boat GROUP BY c.person, b.moored_at, v.buoy_id) AS visited`);
  const [[keys, most, rows]] = (await sql(request, 'SELECT count(DISTINCT crew_key), max(crew_key), count(*) FROM guild.dim_crew')) as [[number, number, number]];
  expect([keys, most]).toEqual([rows, rows]);
  expect(rows).toBeGreaterThan(10);
});

test('a dated folder that is added under a root appears in the view over the root', async ({ request }) => {
  const put = (day: string) => {
    mkdirSync(path.join(dated, day), { recursive: true });
    writeFileSync(path.join(dated, day, 'counts.csv'), `site,seen\nquay,1${day.slice(-2)}\n`);
  };
  put('2026-03-01');
  await sql(request, 'CREATE VIEW guild.dated AS SELECT * FROM "tern-bay:made/dated"');
  expect(await sql(request, 'SELECT seen FROM guild.dated')).toEqual([[101]]);
  put('2026-03-02');
  expect(await sql(request, 'SELECT seen FROM guild.dated ORDER BY seen')).toEqual([[101], [102]]);
});
