/** Rows are loaded: held against the columns first, never twice, with the latest of each key, and counted at both ends. */
import { mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { expect, test, type APIRequestContext } from '@playwright/test';
import { home } from './served';

const folder = path.resolve(`${home}/lake/tern-bay/made/loads`);
const put = (name: string, text: string) => {
  mkdirSync(path.dirname(path.join(folder, name)), { recursive: true });
  writeFileSync(path.join(folder, name), text);
};
test.afterAll(async ({ request }) => {
  await request.delete('/api/namespaces/depot?files=remove&confirm=depot');
  rmSync(folder, { recursive: true, force: true });
});

async function sql(request: APIRequestContext, text: string): Promise<unknown[][]> {
  const response = await request.post('/api/query', { data: { sql: text } });
  const body = (await response.json()) as { rows: unknown[][]; detail?: string };
  expect(response.status(), `${text}\n${body.detail}`).toBe(200);
  return body.rows;
}
async function load(request: APIRequestContext, table: string, body: object, what = '') {
  const response = await request.post(`/api/catalog/depot/${table}/load${what}`, { data: body });
  return { status: response.status(), ...((await response.json()) as { detail?: string; misfits?: { rows: unknown[][] } }) };
}

for (const format of ['iceberg', 'delta']) {
  test.describe(format, () => {
    const table = `parts_${format}`;
    const from = (name: string) => ({ from: { files: `tern-bay:made/loads/${name}` } });

    test('a batch that does not fit is refused by name, before anything is written', async ({ request }) => {
      await sql(request, 'CREATE NAMESPACE IF NOT EXISTS depot');
      await sql(request, `CREATE TABLE depot.${table} (id bigint NOT NULL, name varchar, price double, day date, PRIMARY KEY (id)) WITH (format = '${format}')`);
      put('first.csv', 'ID,name,price,day\n1,bolt,0.5,2026-03-01\n2,nut,0.25,2026-03-02\n3,washer,0.1,2026-03-03\n');
      put('wrong.csv', 'id,name,price,colour\n4,hook,cheap,red\n,ring,1.5,blue\n');
      const refused = await load(request, table, from('wrong.csv'));
      expect(refused).toMatchObject({ status: 403, detail: expect.stringMatching(/column id is required and 1 rows? .*column price is double and what is loaded has varchar, of which 1 values have no place in it; the table has no column colour \(varchar\)/) });
      const plan = await load(request, table, { ...from('wrong.csv'), cast: true, takeNewColumns: true }, '/plan');
      expect(plan).toMatchObject({ problems: [], rows: 2, misfitRows: 2, extra: [{ name: 'colour', type: 'varchar' }] });
      expect(plan.misfits!.rows).toEqual([[4, 'hook', 'cheap', 'red'], [null, 'ring', '1.5', 'blue']]);
      expect(await sql(request, `SELECT count(*) FROM depot.${table}`)).toEqual([[0]]);
    });

    test('a load that runs twice does not load twice; other files do', async ({ request }) => {
      expect(await load(request, table, from('first.csv'))).toMatchObject({ status: 200, rowsAtSource: 3, rowsInserted: 3, rowsBefore: 0, rowsAfter: 3, difference: 0, loadedIn: null });
      const again = await load(request, table, from('first.csv'));
      expect(again).toMatchObject({ version: null, rowsInserted: 0, rowsAfter: 3, loadedIn: 1 });
      put('second.csv', 'id,name,price,day\n4,hook,0.75,2026-03-04\n5,ring,1,2026-03-05\n6,pin,0.2,2026-03-06\n');
      expect(await load(request, table, from('second.csv'))).toMatchObject({ rowsAfter: 6, difference: 0 });
      expect(await load(request, table, { ...from('first.csv'), again: true })).toMatchObject({ rowsInserted: 3, rowsAfter: 9 });
      await sql(request, `DELETE FROM depot.${table} WHERE id <= 3`);
      expect(await load(request, table, { from: { query: `SELECT 1 + range AS id, 'old' AS name, 1.0::DOUBLE AS price, DATE '2026-03-01' AS "day" FROM range(3)` } })).toMatchObject({ rowsAfter: 6, difference: 0 });
    });

    test('new columns come along when they are let in: older rows read null, rows and columns are counted apart', async ({ request }) => {
      put('wider.csv', 'id,name,price,day,colour,made_in\n7,clip,0.3,2026-03-07,red,Hull\n8,band,0.4,2026-03-08,blue,Cork\n9,cord,0.6,2026-03-09,red,Hull\n');
      expect(await load(request, table, { ...from('wider.csv'), takeNewColumns: true })).toMatchObject({ rowsInserted: 3, rowsAfter: 9, columnsAdded: ['colour', 'made_in'], difference: 0 });
      expect(await sql(request, `SELECT id, colour, made_in FROM depot.${table} WHERE id IN (6, 7) ORDER BY id`)).toEqual([[6, null, null], [7, 'red', 'Hull']]);
    });

    test('corrections are merged by key: the latest wins, doubles in the batch too, and what is older changes nothing', async ({ request }) => {
      const batch = `SELECT * FROM (VALUES (7, 'clip', 0.9::DOUBLE, DATE '2026-04-02'), (7, 'clip', 0.8::DOUBLE, DATE '2026-04-01'), (8, 'band', 9.9::DOUBLE, DATE '2025-01-01'), (10, 'nail', 0.05::DOUBLE, DATE '2026-04-01')) AS v(id, name, price, "day")`;
      const unsure = await load(request, table, { from: { query: batch }, mode: 'merge' });
      expect(unsure.detail).toContain('1 rows have a key (id) that another row has too');
      expect(await load(request, table, { from: { query: batch }, mode: 'merge', latestBy: 'day' })).toMatchObject({ status: 200, rowsInserted: 1, rowsUpdated: 1, rowsAfter: 10, difference: 0 });
      expect(await sql(request, `SELECT id, price, colour FROM depot.${table} WHERE id IN (7, 8, 10) ORDER BY id`)).toEqual([[7, 0.9, 'red'], [8, 0.4, 'blue'], [10, 0.05, null]]);
      expect(await load(request, table, { from: { query: batch }, mode: 'merge', latestBy: 'day' })).toMatchObject({ version: null, loadedIn: expect.any(Number) });
    });

    test('rows are overwritten, columns are mapped, and misfits are left out when that is agreed to', async ({ request }) => {
      put('other.csv', 'number,label,cost\n1,a,x\n2,b,2\n');
      const request1 = { ...from('other.csv'), mode: 'overwrite', map: { id: 'number', name: 'label', price: 'cost' }, cast: true };
      expect(await load(request, table, request1)).toMatchObject({ status: 200, rowsAtSource: 2, rowsLeftOut: 1, rowsAfter: 1, difference: 0 });
      expect(await sql(request, `SELECT id, name, price, colour FROM depot.${table}`)).toEqual([[2, 'b', 2, null]]);
    });
  });
}

test('in the table page: how they fit, the counts at both ends, and undone as one act', async ({ page, request }) => {
  await sql(request, 'CREATE NAMESPACE IF NOT EXISTS depot');
  await sql(request, 'CREATE TABLE depot.counts (site varchar, seen integer)');
  put('counts.csv', 'site,seen,who\nquay,3,Ada\nsound,4,Ben\n');
  await page.goto('/tables/depot/counts?section=load');
  await page.getByLabel('File, folder or pattern').fill('tern-bay:made/loads/counts.csv');
  await page.getByRole('button', { name: 'See how they fit' }).click();
  await expect(page.getByRole('list', { name: 'Why it cannot be loaded' })).toContainText('the table has no column who (varchar)');
  await expect(page.getByRole('row', { name: /^seen integer/ })).toContainText('every value fits');
  await expect(page.getByRole('button', { name: 'Load them' })).toBeDisabled();
  await page.getByLabel('Take new columns').check();
  await expect(page.getByRole('row', { name: /^who/ })).toContainText('new column');
  await page.getByRole('button', { name: 'Load them' }).click();
  await expect(page.getByRole('heading', { name: 'Loaded in version 1' })).toBeVisible();
  await expect(page.getByRole('region', { name: 'How they fit' })).toContainText('Rows at the source, written and in the table agree.');
  expect(await sql(request, 'SELECT * FROM depot.counts ORDER BY seen')).toEqual([['quay', 3, 'Ada'], ['sound', 4, 'Ben']]);
  await page.getByRole('button', { name: 'See how they fit' }).click();
  await expect(page.getByText('were loaded in version 1; they are not loaded twice')).toBeVisible();
  await page.getByRole('button', { name: 'Load them' }).click();
  await expect(page.getByRole('heading', { name: 'Nothing was loaded: the same came in version 1' })).toBeVisible();
  put('counts.csv', 'site,seen,who\nmole,5,Cy\n');
  await page.getByRole('button', { name: 'See how they fit' }).click();
  await page.getByRole('button', { name: 'Load them' }).click();
  await page.getByRole('button', { name: 'Undo it: restore version 1' }).click();
  await expect.poll(() => sql(request, 'SELECT count(*) FROM depot.counts')).toEqual([[2]]);
});

test('columns that only case tells apart are each read, numbered, and loaded', async ({ request }) => {
  put('case/a.csv', 'id,ID,n\n1,a,1.5\n');
  put('case/a.jsonl', '{"id": 1, "ID": "a", "n": 1.5}\n{"n": 2.5, "ID": "b", "id": 2}\n');
  await sql(request, "WRITE TO 'tern-bay:made/loads/case/parquet' WITH (files = 'one') AS SELECT 1 AS id, 'a' AS xx, 1.5::DOUBLE AS n");
  const parquet = path.join(folder, 'case/parquet/rows.parquet');
  // No engine writes such a file by itself; other tools do.
  writeFileSync(parquet, Buffer.from(readFileSync(parquet).toString('latin1').replaceAll('xx', 'ID'), 'latin1'));
  const read = (name: string) => sql(request, `SELECT id, "ID_1", n FROM "tern-bay:made/loads/case/${name}" ORDER BY id`);
  expect(await read('a.csv')).toEqual([[1, 'a', 1.5]]);
  expect(await read('a.jsonl')).toEqual([[1, 'a', 1.5], [2, 'b', 2.5]]);
  expect(await read('parquet')).toEqual([[1, 'a', 1.5]]);
  await sql(request, 'CREATE TABLE depot.cases AS SELECT * FROM "tern-bay:made/loads/case/parquet"');
  expect(await load(request, 'cases', { from: { files: 'tern-bay:made/loads/case/a.jsonl' } })).toMatchObject({ status: 200, rowsAfter: 3, difference: 0 });
  expect(await sql(request, 'SELECT "ID_1", count(*) FROM depot.cases GROUP BY ALL ORDER BY 1')).toEqual([['a', 2], ['b', 1]]);
});
