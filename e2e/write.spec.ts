/** Rows are written to files by a plan: foreseen, tried, written just so, in each format, and only where they may. */
import { existsSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import path from 'node:path';
import { gunzipSync } from 'node:zlib';
import { expect, test, type APIRequestContext } from '@playwright/test';
import { home } from './served';

const lake = path.resolve(`${home}/lake/tern-bay`);
const folder = path.join(lake, 'made/written');
test.beforeAll(() => rmSync(folder, { recursive: true, force: true }));
test.afterAll(async ({ request }) => {
  await request.delete('/api/namespaces/press?files=remove&confirm=press');
  for (const each of [folder, path.join(lake, 'trial-writes')]) rmSync(each, { recursive: true, force: true });
});

interface Answer {
  status: number;
  rows: unknown[][];
  done?: string;
  detail?: string;
  hint?: string;
  position?: number;
  wrote: { files: { path: string; rows: number; bytes: number }[]; rows: number; cleared: { files: number } | null; foreseen: { rows: number; files: number; bytes: number } | null };
}
async function post(request: APIRequestContext, at: string, body: object): Promise<Answer> {
  const response = await request.post(`/api/${at}`, { data: body });
  return { status: response.status(), ...((await response.json()) as object) } as Answer;
}
const run = (request: APIRequestContext, sql: string) => post(request, 'query', { sql, maxRows: 10_000 });
const rows = async (request: APIRequestContext, sql: string) => {
  const answer = await run(request, sql);
  expect(answer.status, `${sql}\n${answer.detail}`).toBe(200);
  return answer.rows;
};
const write = (to: string, options: string, query: string) => `WRITE TO 'tern-bay:made/written/${to}' WITH (${options}) AS ${query}`;
const SOURCE = "SELECT range AS id, 'site ' || (range % 7) AS site, 2020 + range % 3 AS year, range / 2 AS depth FROM range(1000)";

test('a key with duplicates hashed into 5 gives files numbered from 1 to 5, whose rows sum to the source, and no key in two', async ({ request }) => {
  const { wrote } = await run(request, write('hashed', "files = 'at most 5', by = 'name', names = 'file-{number}'", "SELECT 'name ' || (range % 300) AS name, range AS n FROM range(3000)"));
  expect(wrote.files.map((file) => file.path)).toEqual([1, 2, 3, 4, 5].map((number) => `file-${number}.parquet`));
  expect(wrote.rows).toBe(3000);
  const names = await Promise.all(wrote.files.map((file) => rows(request, `SELECT DISTINCT name FROM "tern-bay:made/written/hashed/${file.path}"`)));
  expect(new Set(names.flat(2)).size).toBe(300);
  expect(names.flat(2)).toHaveLength(300);
});

test('a folder for each key, a file of its own in it, in order, without the columns that the folders tell', async ({ request }) => {
  const { wrote } = await run(request, write('folders', "format = 'csv', delimiter = '|', files = 'one', folders = 'year={year}/{site}', leave_out = 'year', sort = 'id desc', names = '{site}-{date}'", SOURCE));
  expect(wrote.files).toHaveLength(21);
  const [first] = wrote.files;
  expect(first!.path).toMatch(/^year=2020\/site 0\/site 0-\d{4}-\d\d-\d\d\.csv$/);
  const lines = readFileSync(path.join(folder, 'folders', first!.path), 'utf8').trim().split('\n');
  expect(lines.slice(0, 2)).toEqual(['id|site|depth', '987|site 0|493.5']);
  const ids = lines.slice(1).map((line) => Number(line.split('|')[0]));
  expect(ids).toEqual([...ids].sort((a, b) => b - a));
  expect(ids.every((id) => id % 21 === 0)).toBe(true);
});

test('ranges of a column do not overlap, and each file is in order', async ({ request }) => {
  const { wrote } = await run(request, write('ranges', "files = 'at most 4', by = 'depth', mechanism = 'range', sort = 'depth'", `SELECT * FROM (${SOURCE}) UNION ALL SELECT 2000, 'nowhere', 2020, NULL`));
  expect(wrote.files.map((file) => file.rows).reduce((sum, each) => sum + each, 0)).toBe(1001);
  let before = -1;
  for (const file of wrote.files) {
    const depths = (await rows(request, `SELECT depth FROM "tern-bay:made/written/ranges/${file.path}"`)).flat() as (number | null)[];
    const known = depths.filter((each) => each !== null);
    expect(known).toEqual([...known].sort((a, b) => a - b));
    expect(known[0]!).toBeGreaterThan(before);
    before = known.at(-1)!;
    // Rows without a value are in the last file, after the others.
    expect(depths.indexOf(null)).toBe(file === wrote.files.at(-1) ? depths.length - 1 : -1);
  }
});

const VALUES = `SELECT 9007199254740993::BIGINT AS long, 7 AS small, -1.50::DECIMAL(9,2) AS price, -12345678901234567890123456.789::DECIMAL(38,3) AS wide, '\\x00\\xAB'::BLOB AS bytes, TIMESTAMP '2026-03-14 01:02:03.5' AS local_at,
  TIMESTAMPTZ '2026-03-14 01:02:03+02' AS at_utc, DATE '1966-01-01' AS day, TIME '01:02:03.5' AS clock, MAP {'a': 1} AS counts, [1, NULL] AS list, {'x': 1, 'y': NULL::VARCHAR} AS pair, 0.1::DOUBLE AS tenth, true AS yes, NULL::INTEGER AS nothing, 'é "|' AS text`;
for (const [format, more] of [['parquet', "compression = 'snappy'"], ['avro', ''], ['avro', "compression = 'none'"], ['jsonl', ''], ['jsonl', "compression = 'gzip'"], ['csv', "header = false, delimiter = 'tab'"]] as const) {
  test(`every type comes back from ${format} ${more}`, async ({ request }) => {
    const to = `types-${format}-${more.length}`;
    const answer = await run(request, write(to, `format = '${format}', files = 'one'${more ? `, ${more}` : ''}`, VALUES));
    expect(answer.done, answer.detail).toBe(`1 rows were written to 1 file in tern-bay:made/written/${to}.`);
    if (format === 'csv') {
      expect(readFileSync(path.join(folder, to, 'rows.csv'), 'utf8')).toMatch(/^9007199254740993\t7\t-1\.50\t-12345678901234567890123456\.789\t[^\t]*\t2026-03-14 01:02:03\.5\t/);
      return;
    }
    const [back] = await rows(request, `SELECT * FROM "tern-bay:made/written/${to}"`);
    const [given] = await rows(request, VALUES);
    // JSON has no types for numbers with digits, bytes and times of day beyond what a reader guesses.
    if (format !== 'jsonl') expect(back).toEqual(given);
    else {
      const file = readFileSync(path.join(folder, to, readdirSync(path.join(folder, to))[0]!));
      const text = (more ? gunzipSync(file) : file).toString();
      expect(text).toContain('"long":9007199254740993,"small":7,"price":-1.5,');
      expect(JSON.parse(text)).toMatchObject({ day: '1966-01-01', counts: { a: 1 }, list: [1, null], pair: { x: 1, y: null }, tenth: 0.1, yes: true, nothing: null, text: 'é "|' });
    }
  });
}

test('what has no place in a format is refused by name, or left empty', async ({ request }) => {
  expect(await run(request, write('odd', "format = 'avro'", 'SELECT 1 AS "odd name"'))).toMatchObject({ status: 400, detail: expect.stringContaining('Avro has no column named "odd name"') });
  expect(await run(request, write('odd', "format = 'avro'", 'SELECT MAP {1: 2} AS m'))).toMatchObject({ status: 400, detail: expect.stringContaining('Keys of maps are text in Avro') });
  expect(existsSync(path.join(folder, 'odd'))).toBe(false);
  await rows(request, write('odd', "format = 'jsonl'", "SELECT 'nan'::DOUBLE AS a, '-inf'::FLOAT AS b, 1.5 AS c"));
  expect(readFileSync(path.join(folder, 'odd/part-00001.jsonl'), 'utf8')).toBe('{"a":null,"b":null,"c":1.5}\n');
  await rows(request, write('odd-avro', "format = 'avro'", "SELECT 'nan'::DOUBLE AS a, ['inf'::FLOAT] AS b, 1.5::DOUBLE AS c"));
  expect(await rows(request, 'SELECT isnan(a), isinf(b[1]), c FROM "tern-bay:made/written/odd-avro"')).toEqual([[true, true, 1.5]]);
  // A number that is none, in a plan over a table.
  expect(await rows(request, `SELECT count(*) FROM "tern-bay:made/written/odd-avro" WHERE a = 'nan'::DOUBLE`)).toEqual([[1]]);
});

for (const [goal, options] of [['size', "files = 'about 5 kB', sort = 'site, id'"], ['hash', "files = 'at most 3', by = 'site', folders = '{year}'"], ['range', "files = 'about 4 kB', by = 'id', mechanism = 'range'"], ['key', "files = 'per key', by = 'site', format = 'jsonl'"]] as const) {
  test(`a write comes out as it was foreseen (${goal})`, async ({ request }) => {
    const statement = write(`foreseen-${goal}`, options, SOURCE.replace('range(1000)', 'range(3000)'));
    const forecast = (await post(request, 'writes/forecast', { sql: statement })) as unknown as { rows: number; files: number; bytes: number; basis: object; folders: { path: string; files: { name: string; rows: number }[] }[]; says: string[] };
    expect(forecast).toMatchObject({ basis: { kind: 'all' }, rows: 3000 });
    expect(existsSync(path.join(folder, `foreseen-${goal}`))).toBe(false);
    const { wrote } = await run(request, statement);
    expect(wrote.files.map((file) => [file.path, file.rows])).toEqual(forecast.folders.flatMap((each) => each.files.map((file) => [path.posix.join(each.path, file.name), file.rows])));
    expect(wrote.foreseen).toMatchObject({ rows: 3000, files: forecast.files });
    const bytes = wrote.files.reduce((sum, file) => sum + file.bytes, 0);
    expect(Math.abs(forecast.bytes - bytes) / bytes).toBeLessThan(0.35);
  });
}

test('a forecast of a sample says so, and stands for all rows', async ({ request }) => {
  const forecast = await post(request, 'writes/forecast', { sql: write('sampled', "files = 'at most 4', by = 'id'", SOURCE.replace('range(1000)', 'range(20000)')), sampleRows: 2000 });
  expect(forecast).toMatchObject({ basis: { kind: 'sample', rows: 2000 }, rows: 20_000, files: 4 });
});

test('a trial writes some rows for real to a folder of its own', async ({ request }) => {
  const trial = (await post(request, 'writes/trial', { sql: write('never', "files = 'per key', by = 'site'", SOURCE), rows: 100, sampled: true })) as unknown as { storage: string; folder: string; rows: number; files: { path: string }[] };
  expect(trial).toMatchObject({ storage: 'tern-bay', rows: 100 });
  expect(readdirSync(path.join(lake, trial.folder)).sort()).toEqual(trial.files.map((file) => file.path).sort());
  expect(existsSync(path.join(folder, 'never'))).toBe(false);
  await rows(request, 'CREATE NAMESPACE press');
  for (const format of ['iceberg', 'delta']) {
    const tried = (await post(request, 'writes/trial', { sql: `CREATE TABLE press.never PARTITION BY (year) WITH (format = '${format}') AS ${SOURCE}`, rows: 100 })) as unknown as { folder: string };
    expect(await rows(request, `SELECT count(*), count(DISTINCT year) FROM "tern-bay:${tried.folder}"`)).toEqual([[100, 3]]);
  }
  expect(await rows(request, 'SHOW TABLES IN press')).toEqual([]);
});

for (const format of ['iceberg', 'delta', 'parquet']) {
  test(`a table is filled by a plan, within its partitions, as foreseen (${format})`, async ({ request }) => {
    const statement = `CREATE TABLE press.planned_${format} PARTITION BY (year) WITH (format = '${format}', files = 'at most 3', by = 'site', sort = 'id desc') AS ${SOURCE}`;
    const forecast = (await post(request, 'writes/forecast', { sql: statement })) as unknown as { files: number; folders: { path: string; files: { rows: number }[] }[] };
    await rows(request, statement);
    const files = await rows(request, `SHOW FILES OF press.planned_${format}`);
    expect(files).toHaveLength(forecast.files);
    expect(files.map((each) => each[3])).toEqual(forecast.folders.flatMap((each) => each.files.map(() => each.path)));
    for (const [file] of files) {
      const found = await rows(request, `SELECT id, site FROM "tern-bay:${String(file)}"`);
      const ids = found.map(([id]) => id as number);
      expect(ids).toEqual([...ids].sort((a, b) => b - a));
    }
    const pairs = await Promise.all(files.map(([file, , , partition]) => rows(request, `SELECT DISTINCT '${String(partition)}', site FROM "tern-bay:${String(file)}"`)));
    expect(new Set(pairs.flat().map((pair) => pair.join())).size).toBe(21);
    expect(pairs.flat()).toHaveLength(21);
    expect(await rows(request, `SELECT count(*), sum(id) FROM press.planned_${format}`)).toEqual([[1000, 499_500]]);
  });
}

test('a load goes into files by a plan of its own', async ({ request }) => {
  await rows(request, `CREATE TABLE press.loaded AS SELECT * FROM (${SOURCE}) LIMIT 0`);
  const answer = await post(request, 'catalog/press/loaded/load', { from: { query: SOURCE }, files: { files: 'per key', by: 'site' } });
  expect(answer, answer.detail).toMatchObject({ status: 200, rowsAfter: 1000, difference: 0 });
  expect(await rows(request, 'SHOW FILES OF press.loaded')).toHaveLength(7);
});

test('a change that runs tells how far it is', async ({ request }) => {
  await rows(request, 'CREATE TABLE press.watched (n bigint, text varchar)');
  await rows(request, 'CREATE TABLE press.watching AS SELECT range AS n, range::VARCHAR AS text FROM range(4000000)');
  const id = '7f1b7bd4-6a8f-4d0c-9f7c-0d6a2d8f4f10';
  const progress = async () => (await (await request.get(`/api/query/${id}/progress`)).json()) as { rows: number; of: number; bytes: number } | null;
  expect(await progress()).toBeNull();
  const running = post(request, 'query', { sql: "INSERT INTO press.watched SELECT n, md5(text) FROM press.watching", id });
  let seen: Awaited<ReturnType<typeof progress>> = null;
  await expect.poll(async () => ((seen = await progress()), seen?.bytes ?? 0), { intervals: [50], timeout: 30_000 }).toBeGreaterThan(0);
  expect(seen).toMatchObject({ rows: expect.any(Number), of: expect.any(Number) });
  expect((await running).status).toBe(200);
  await expect.poll(progress).toBeNull();
});

test('files that stand there are in the way, are added to, or are cleared first', async ({ request }) => {
  const one = (existing: string, n: number) => run(request, write('there', `files = 'one', format = 'csv'${existing}`, `SELECT ${n} AS n, 'x' AS x`));
  await one('', 1);
  expect(await one('', 2)).toMatchObject({ status: 409, detail: expect.stringContaining('1 files stand in tern-bay:made/written/there already'), hint: expect.stringContaining("existing = 'add'") });
  await one(", existing = 'add'", 3);
  expect(await rows(request, 'SELECT n FROM "tern-bay:made/written/there" ORDER BY n')).toEqual([[1], [3]]);
  expect(await one(", existing = 'clear'", 4)).toMatchObject({ wrote: { cleared: { files: 2 } }, done: '1 rows were written to 1 file in tern-bay:made/written/there. 2 older files were removed then.' });
  expect(await rows(request, 'SELECT n FROM "tern-bay:made/written/there"')).toEqual([[4]]);
  // What fails leaves them where they are.
  expect(await run(request, write('there', "existing = 'clear'", "SELECT CAST(CASE WHEN range = 99 THEN 'x' ELSE '1' END AS integer) AS n FROM range(100)"))).toMatchObject({ status: 400, detail: expect.stringContaining("Could not convert string 'x'") });
  expect(await rows(request, 'SELECT n FROM "tern-bay:made/written/there"')).toEqual([[4]]);
});

test('no file is written into a table, out of the storage, or by who may not', async ({ request }) => {
  const refused = async (to: string, more = '') => run(request, `WRITE TO '${to}' WITH (format = 'csv'${more}) AS SELECT 1 AS n`);
  await rows(request, 'CREATE TABLE press.kept AS SELECT 1 AS n');
  expect(await refused('tern-bay:warehouse/press/kept/data')).toMatchObject({ status: 409, detail: expect.stringMatching(/table of the lake lies in|press\.kept lies at/) });
  expect(await refused('tern-bay:warehouse/press', ", existing = 'clear'")).toMatchObject({ status: 409 });
  expect(await rows(request, 'SELECT * FROM press.kept')).toEqual([[1]]);
  expect(await refused('tern-bay:../outside')).toMatchObject({ status: 400, detail: expect.stringContaining('leaves its storage') });
  expect(await refused('tern-bay:')).toMatchObject({ status: 400, detail: expect.stringContaining('not to the root') });
  expect(await refused('nowhere:x')).toMatchObject({ status: 404 });
  expect(await refused('nothing')).toMatchObject({ status: 400, detail: expect.stringContaining('names no storage'), position: 9 });
  expect(await run(request, "WRITE TO 'tern-bay:made/written/x' AS SELECT nothing FROM press.kept")).toMatchObject({ status: 400, position: 45 });
  expect(await run(request, "WRITE TO 'tern-bay:made/written/x' AS SELECT 1 AS a, 2 AS A")).toMatchObject({ status: 400, detail: expect.stringContaining('two columns "A"') });
  expect(await run(request, "WRITE TO 'tern-bay:made/written/x' AS SELECT * FROM read_csv('/etc/passwd')")).toMatchObject({ status: 403 });
});

test('rows go back into a table of a database, all or none, found by name and counted at both ends', async ({ request }) => {
  const to = (options: string, query: string) => run(request, `WRITE TO 'fleet-office:stores.readings'${options} AS ${query}`);
  const query = "SELECT range AS id, [range, NULL] AS list, {'deep': 'é'} AS pair, '\\xAB'::BLOB AS bytes, CASE WHEN range = 1 THEN 'nan'::DOUBLE ELSE 0.1 END AS depth, 1.50::DECIMAL(9,2) AS price, TIMESTAMPTZ '2026-03-14 01:02:03.5+02' AS at_utc, DATE '1966-01-01' AS day FROM range(12000)";
  expect(await to('', query)).toMatchObject({ status: 200, done: '12000 rows were written to the table stores.readings of fleet-office, which was made; it holds 12000.', rows: [[12_000, 0, 12_000, 0]] });
  const back = 'SELECT id, list, pair, bytes, depth, price, at_utc, "day" FROM "fleet-office:stores/readings" WHERE id < 2 ORDER BY id';
  expect(await rows(request, back)).toEqual([[0, [0, null], '{"deep": "é"}', 'qw==', 0.1, '1.50', '2026-03-13T23:02:03.500000Z', '1966-01-01'], [1, [1, null], '{"deep": "é"}', 'qw==', 'NaN', '1.50', '2026-03-13T23:02:03.500000Z', '1966-01-01']]);
  expect(await to('', query)).toMatchObject({ status: 409, detail: expect.stringContaining('holds 12000 rows already') });
  expect(await to(" WITH (existing = 'add')", 'SELECT -1 AS ID')).toMatchObject({ rows: [[1, 12_000, 12_001, 0]] });
  expect(await to(" WITH (existing = 'add')", 'SELECT 1 AS colour')).toMatchObject({ status: 400, detail: expect.stringContaining('stores.readings has no column colour'), position: 9 });
  // The second batch breaks a rule, and the first goes with it; so does the removal of what was there.
  expect(await run(request, "WRITE TO 'fleet-office:stores.parts' WITH (existing = 'clear') AS SELECT CASE WHEN range = 7000 THEN 'part 0' ELSE 'part ' || range END AS part FROM range(8000)")).toMatchObject({ status: 400, detail: expect.stringContaining('duplicate key') });
  expect(await rows(request, 'SELECT count(*) FROM "fleet-office:stores/parts"')).toEqual([[3]]);
  expect(await to(" WITH (existing = 'clear')", 'SELECT 5 AS id')).toMatchObject({ rows: [[1, 12_001, 1, 0]] });
  expect(await to(" WITH (format = 'csv')", 'SELECT 5 AS id')).toMatchObject({ status: 400, detail: expect.stringContaining('"format" says how files are written') });
  expect(await run(request, "WRITE TO 'fleet-office:fleet.last_visits' AS SELECT 1 AS n")).toMatchObject({ status: 400, detail: expect.stringContaining('is a view') });
});

test('whom a change concerns is told before: views, saved queries, and who read lately', async ({ request }) => {
  await rows(request, 'CREATE TABLE press.told AS SELECT 1 AS n');
  await rows(request, 'CREATE VIEW press.over AS SELECT n FROM press.told');
  for (const [name, sql] of [['Told by view', 'SELECT n FROM press.over'], ['Other', 'SELECT 1']] as const) expect((await request.put(`/api/saved-queries/${name}`, { data: { sql } })).status()).toBe(200);
  await rows(request, 'SELECT * FROM press.told');
  const told = async (sql: string) => ((await post(request, 'query/plan', { sql })) as unknown as { does: string[] }).does;
  await expect.poll(() => told('ALTER TABLE press.told RENAME COLUMN n TO m')).toEqual(['press.told: column n is called m.', 'It is read by press.over.', 'The saved query "Told by view" reads it.', 'One query of one person or token read it in the last 30 days.']);
  expect((await told('DROP TABLE press.told')).slice(1)).toEqual(['press.over reads it, and can no longer be read.', 'The saved query "Told by view" reads it.', 'One query of one person or token read it in the last 30 days.']);
  const { hits } = (await (await request.get('/api/find?q=told by')).json()) as { hits: { kind: string; name: string }[] };
  expect(hits[0]).toMatchObject({ kind: 'saved query', name: 'Told by view' });
  for (const name of ['TOLD BY VIEW', 'Other']) expect((await request.delete(`/api/saved-queries/${name}`)).status()).toBe(200);
  expect(await (await request.get('/api/saved-queries')).json()).toEqual([]);
});

test('a query is saved under a name, taken up again, and forgotten', async ({ page }) => {
  await page.goto('/query?sql=SELECT 42 AS answer');
  await page.getByRole('button', { name: 'Save as …' }).click();
  await page.getByLabel('Name of the query').fill('The answer');
  await page.getByLabel('Name of the query').press('Enter');
  const saved = page.getByRole('complementary', { name: 'At hand' }).getByRole('button', { name: 'The answer', exact: true });
  await expect(saved).toBeVisible();
  await page.locator('.cm-content').fill('SELECT 1');
  await saved.click();
  await expect(page.locator('.cm-content')).toContainText('SELECT 42 AS answer');
  await page.getByRole('button', { name: 'Forget The answer' }).focus();
  await page.keyboard.press('Enter');
  await expect(saved).toHaveCount(0);
});

test('the form writes as its SQL says, shows what it makes before, and what came of it after', async ({ page }) => {
  await page.goto(`/write?query=${encodeURIComponent(SOURCE)}`);
  const form = page.getByRole('form', { name: 'The write' });
  await form.getByLabel('Folder', { exact: true }).fill('made/written/by-form');
  await form.getByLabel(/^As/).selectOption('csv');
  await form.getByLabel('The goal').selectOption('per-key');
  await form.getByLabel('The key').fill('site');
  await form.getByLabel('Folders by value').fill('{year}');
  await expect(page.getByLabel('The write as SQL')).toContainText("WRITE TO 'tern-bay:made/written/by-form' WITH (  format = 'csv',  files = 'per key',  by = 'site',  folders = '{year}')AS SELECT");
  await page.getByRole('button', { name: 'See what it makes' }).click();
  const forecast = page.getByRole('region', { name: 'Forecast' });
  await expect(forecast.getByRole('heading')).toHaveText(/21 files in 3 folders, about .* 1,000 rows/);
  await forecast.getByRole('button', { name: '2021' }).click();
  await expect(forecast.getByRole('cell', { name: 'site 3.csv' })).toBeVisible();
  await page.getByRole('button', { name: 'Try it' }).click();
  await expect(page.getByText(/The trial wrote .* files/)).toBeVisible();
  await page.getByRole('button', { name: 'Write the files' }).click();
  const outcome = page.getByRole('status', { name: 'What came of it' });
  await expect(outcome.getByRole('heading')).toHaveText('1000 rows were written to 21 files in tern-bay:made/written/by-form.');
  await expect(outcome.getByRole('row', { name: 'Files' })).toContainText('2121');
  await outcome.getByRole('link', { name: 'Look at them' }).click();
  await expect(page.getByRole('main')).toContainText('2021');
});

test('what is typed in the text stays as it was typed, and the form shows it', async ({ page }) => {
  await page.goto('/write');
  const text = page.getByLabel('The write as SQL');
  const typed = "WRITE TO 'tern-bay:made/typed' WITH (format = 'csv', compression = 'gzip', existing = 'add') AS SELECT 1 AS n";
  await text.fill(typed);
  const form = page.getByRole('form', { name: 'The write' });
  await expect(form.getByLabel('Compressed with')).toHaveValue('gzip');
  await expect(form.getByLabel('Folder', { exact: true })).toHaveValue('made/typed');
  await expect(text).toHaveText(typed);
  // Another format has compressions of its own.
  await form.getByLabel(/^As/).selectOption('avro');
  await expect(text).not.toContainText('compression');
});
