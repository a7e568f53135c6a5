/** Every statement of docs/sql.md runs, in its order, and answers as it says there. */
import { readFileSync } from 'node:fs';
import { expect, test } from '@playwright/test';

interface Example {
  sql: string;
  answer?: unknown[][];
}

/** A block of SQL, and the block of JSON right below it. */
const examples = [...readFileSync(new URL('../docs/sql.md', import.meta.url), 'utf8').matchAll(/```sql\n([\s\S]*?)\n```(?:\n```json\n([\s\S]*?)\n```)?/g)].map(([, sql, json]): Example => ({ sql: sql!, ...(json === undefined ? {} : { answer: JSON.parse(json) as unknown[][] }) }));

/** "text" and "number" stand for what differs from run to run. */
function masked(rows: unknown[][], like: readonly unknown[][]): unknown[][] {
  return rows.map((row, at) => row.map((value, index) => {
    const wanted = like[at]?.[index];
    return (wanted === 'text' || wanted === 'number') && typeof value === (wanted === 'text' ? 'string' : 'number') ? wanted : value;
  }));
}

test('every statement of the documentation runs and answers as it says', async ({ request }) => {
  expect(examples.length).toBeGreaterThan(40);
  for (const { sql, answer } of examples) {
    const response = await request.post('/api/query', { data: { sql } });
    const body = (await response.json()) as { rows: unknown[][]; detail?: string };
    expect(response.status(), `${sql}\n${body.detail}`).toBe(200);
    if (answer) expect(masked(body.rows, answer), sql).toEqual(answer);
  }
});

test('a script stops at the first failure, says what was done, and what was done stays', async ({ page, request }) => {
  await page.goto('/query');
  await page.locator('.cm-content').fill("CREATE NAMESPACE steps;\nCREATE TABLE steps.one AS SELECT 1 AS n;\nSELECT m FROM steps.one;\nDROP TABLE steps.one");
  await expect(page.getByRole('region', { name: 'What this reads' })).toContainText('4 statements are run one after the other');
  await page.getByRole('button', { name: /^Run/ }).click();
  const steps = page.getByLabel('Statements that were run');
  await expect(steps.getByRole('alert')).toContainText('Referenced column "m" not found');
  await expect(steps).toContainText('1 statement after it was not run.');
  await steps.getByRole('button', { name: /CREATE TABLE steps.one/ }).click();
  await expect(page.getByRole('region', { name: 'Result' })).toContainText('steps.one was made at');
  // What a statement does, and whom it concerns, is told before it runs.
  await request.post('/api/query', { data: { sql: 'CREATE VIEW steps.view AS SELECT * FROM steps.one' } });
  await page.locator('.cm-content').fill('DROP TABLE steps.one');
  await expect(page.getByRole('region', { name: 'What this reads' })).toContainText('wait in the trash for 7 days.');
  await expect(page.getByRole('region', { name: 'What this reads' })).toContainText('steps.view reads it, and can no longer be read.');
  await request.post('/api/query', { data: { sql: 'DROP NAMESPACE steps CASCADE' } });
});

test('statements that cannot be carried out leave nothing behind', async ({ request }) => {
  const run = async (sql: string) => {
    const response = await request.post('/api/query', { data: { sql } });
    return { status: response.status(), ...((await response.json()) as { detail?: string; position?: number; rows?: unknown[][] }) };
  };
  await run('CREATE NAMESPACE tries');
  const made = await run('SHOW DROPPED TABLES');
  expect(await run('CREATE TABLE tries.a AS SELECT CAST(t AS integer) AS n FROM (VALUES (\'1\'), (\'x\')) AS v(t)')).toMatchObject({ status: 400, detail: expect.stringContaining("Could not convert string 'x'") });
  expect(await run('CREATE TABLE tries.a (day date) PARTITION BY (month(day)) WITH (format = \'delta\')')).toMatchObject({ status: 400, detail: expect.stringContaining('Delta tables are partitioned by columns as they are') });
  expect(await run('CREATE TABLE tries.a (a integer, A varchar)')).toMatchObject({ status: 400, detail: expect.stringContaining('two columns "A"') });
  expect(await run('CREATE TABLE tries.a (a integer, PRIMARY KEY (a))')).toMatchObject({ status: 400, detail: expect.stringContaining('may be null, so it cannot be part of the key') });
  expect(await run('CREATE TABLE tries.a AS SELECT x FROM nowhere.t')).toMatchObject({ status: 404, position: 38 });
  expect(await run('CREATE TABLE tries.a (a integer) WITH (location = \'tern-bay:../outside\')')).toMatchObject({ status: 400 });
  expect((await run('SHOW TABLES IN tries')).rows).toEqual([]);
  expect((await run('SHOW DROPPED TABLES')).rows).toEqual(made.rows);
  expect(await run('CREATE TABLE tries.a (a integer)')).toMatchObject({ status: 200, rows: [['tries.a was made at tern-bay:warehouse/tries/a, managed, as an Iceberg table.']] });
  await run('DROP NAMESPACE tries CASCADE');
});

test('a Delta table is altered without rewriting files, once it maps columns and widens types', async ({ request }) => {
  const run = async (sql: string) => {
    const response = await request.post('/api/query', { data: { sql } });
    const body = (await response.json()) as { detail?: string; hint?: string; rows: unknown[][] };
    expect(response.status(), `${sql}\n${body.detail}`).toBe(200);
    return body.rows;
  };
  await run('CREATE NAMESPACE shapes');
  await run("CREATE TABLE shapes.d (n integer NOT NULL, old varchar, gone double) WITH (format = 'delta')");
  await run("INSERT INTO shapes.d VALUES (1, 'a', 0.5)");
  const files = await run('SHOW FILES OF shapes.d');
  expect((await (await request.post('/api/query', { data: { sql: 'ALTER TABLE shapes.d RENAME COLUMN old TO new' } })).json()).hint).toContain('delta.columnMapping.mode');
  await run("ALTER TABLE shapes.d SET PROPERTIES (delta.columnMapping.mode = 'name', delta.enableTypeWidening = true)");
  for (const change of ['RENAME COLUMN old TO new', 'DROP COLUMN gone', 'ALTER n TYPE bigint']) await run(`ALTER TABLE shapes.d ${change}`);
  for (const change of ['ALTER n DROP NOT NULL', "ALTER n COMMENT 'counts on'", 'ALTER new FIRST', 'ADD COLUMN later date AFTER new']) await run(`ALTER TABLE shapes.d ${change}`);
  expect(await run('SHOW FILES OF shapes.d')).toEqual(files);
  expect(await run('SELECT * FROM shapes.d FOR SYSTEM_VERSION AS OF 1')).toEqual([[1, 'a', 0.5]]);
  await run("INSERT INTO shapes.d VALUES ('b', DATE '2026-03-14', 5000000000), ('c', NULL, NULL)");
  expect(await run('SELECT * FROM shapes.d ORDER BY new')).toEqual([['a', null, 1], ['b', '2026-03-14', 5000000000], ['c', null, null]]);
  expect(await run('SHOW COLUMNS OF shapes.d')).toEqual([['new', 'varchar', false, false, null], ['later', 'date', false, false, null], ['n', 'bigint', false, false, 'counts on']]);
  // Inside structs too, where older files lack what came later.
  await run("CREATE TABLE shapes.nested (n integer, place struct(lat integer, lon double)) WITH (format = 'delta', delta.columnMapping.mode = 'name', delta.enableTypeWidening = true)");
  await run("INSERT INTO shapes.nested VALUES (1, {'lat': 5, 'lon': 0.5})");
  for (const change of ['ADD COLUMN place.harbour varchar FIRST', 'ALTER COLUMN place.lat TYPE bigint', 'RENAME COLUMN place.lon TO east', "ALTER COLUMN place.east COMMENT 'from Greenwich'"]) await run(`ALTER TABLE shapes.nested ${change}`);
  await run("INSERT INTO shapes.nested VALUES (2, {'harbour': 'Holm Quay', 'lat': 5000000000, 'east': 1.5})");
  expect(await run('SELECT place FROM shapes.nested ORDER BY n')).toEqual([[{ harbour: null, lat: 5, east: 0.5 }], [{ harbour: 'Holm Quay', lat: 5000000000, east: 1.5 }]]);
  await run('ALTER TABLE shapes.nested DROP COLUMN place.lat');
  expect(await run('SELECT place FROM shapes.nested ORDER BY n')).toEqual([[{ harbour: null, east: 0.5 }], [{ harbour: 'Holm Quay', east: 1.5 }]]);
  expect(await (await request.post('/api/query', { data: { sql: 'ALTER TABLE shapes.nested ADD COLUMN n.deep integer' } })).json()).toMatchObject({ detail: expect.stringContaining('is no struct') });
  expect(await (await request.post('/api/query', { data: { sql: 'ALTER TABLE shapes.nested DROP COLUMN place.nothing' } })).json()).toMatchObject({ detail: expect.stringContaining('has no column "nothing"') });
  await run('DROP NAMESPACE shapes CASCADE');
});

test('the definition is changed beside its columns: as SQL, with whom it concerns, before it is done', async ({ page, request }) => {
  const post = (sql: string) => request.post('/api/query', { data: { sql } });
  await post('CREATE NAMESPACE forms');
  await post("CREATE TABLE forms.t AS SELECT 1 AS id, 'x' AS site");
  await post('CREATE VIEW forms.v AS SELECT site FROM forms.t');
  await page.goto('/tables/forms/t?section=columns');
  const form = page.getByRole('form', { name: 'Change the table' });
  await form.getByLabel('What', { exact: false }).first().selectOption('add');
  await form.getByLabel('Its name').fill('depth');
  await form.getByRole('textbox', { name: 'Type' }).fill('double');
  await form.getByLabel('Place').selectOption('after id');
  await expect(form.getByLabel('The change as SQL')).toHaveText('ALTER TABLE forms.t ADD COLUMN depth double AFTER id');
  await form.getByRole('button', { name: 'Do it' }).click();
  await expect(form.getByRole('status')).toContainText('Done');
  await expect(page.getByRole('region', { name: 'Columns' }).locator('tbody tr td:first-child')).toContainText(['id', 'depth', 'site']);
  await page.getByRole('button', { name: 'Change site' }).focus();
  await page.keyboard.press('Enter');
  await form.getByLabel('Its new name').fill('place');
  await expect(form.getByLabel('What it does')).toContainText('It is read by forms.v.');
  await form.getByRole('button', { name: 'Do it' }).click();
  await expect(page.getByRole('region', { name: 'Columns' })).toContainText('place');
  await post('DROP NAMESPACE forms CASCADE');
});
