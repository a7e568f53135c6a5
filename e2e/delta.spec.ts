/** Delta tables in the product: a folder by its path, registered with all its versions, changed by SQL, looked after, dropped and registered again. */
import { cpSync, mkdirSync, readdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { expect, test, type APIRequestContext, type Page } from '@playwright/test';

test.describe.configure({ mode: 'serial' });

const folder = path.resolve('.cache/e2e-delta');
const rows = async (request: APIRequestContext, sql: string) => {
  const answer = await request.post('/api/query', { data: { sql } });
  const body = await answer.json();
  return answer.ok() ? body.rows : body.detail;
};
const run = (page: Page) => page.getByRole('button', { name: /^Run / });
async function type(page: Page, sql: string): Promise<void> {
  await page.goto('/query');
  await page.getByRole('textbox', { name: 'Query text' }).click();
  await page.keyboard.press('ControlOrMeta+a');
  await page.keyboard.insertText(sql);
}

test.beforeAll(async ({ request }) => {
  rmSync(folder, { recursive: true, force: true });
  mkdirSync(folder, { recursive: true });
  // Made by an independent library; its rows stand beside it.
  cpSync('fixtures/delta/feed', path.join(folder, 'shop/prices'), { recursive: true });
  expect((await request.post('/api/storages', { data: { name: 'corner', location: folder } })).ok()).toBe(true);
});

async function register(request: APIRequestContext): Promise<void> {
  const { runId } = await (await request.post('/api/crawls', { data: { storage: 'corner', folder: 'shop' } })).json();
  const found = async () => (await (await request.get(`/api/crawl-runs/${runId}`)).json()) as { finishedAt: string | null; findings: { id: number }[] };
  await expect.poll(async () => (await found()).finishedAt).not.toBeNull();
  for (const finding of (await found()).findings) await request.patch(`/api/findings/${finding.id}`, { data: { decision: 'register' } });
  expect(await (await request.post(`/api/crawl-runs/${runId}/register`, { data: {} })).json()).toMatchObject({ registered: ['shop.prices'] });
}

test('a folder with a log is read, and changed, by its path before anything is registered', async ({ page, request }) => {
  await page.goto('/storage/corner/shop/prices');
  const about = page.getByRole('region', { name: 'About this folder' });
  await expect(about).toContainText('This folder is a table, not registered yet');
  await expect(about).toContainText('Delta, version 5');
  // Its files alone would give rows that were removed.
  await expect(page.getByText('Read as one table')).toBeHidden();
  await expect(about.getByRole('row').filter({ hasText: 'MERGE' })).toContainText('t.id = s.id');
  expect(await rows(request, 'SELECT price FROM "corner:shop/prices" FOR SYSTEM_VERSION AS OF 1 WHERE id = 1')).toEqual([[3059]]);
  const answer = await request.post('/api/query', { data: { sql: 'INSERT INTO "corner:shop/prices" VALUES (1, 3399), (2, 10)' } });
  expect(await answer.json()).toMatchObject({ written: { table: 'corner:shop/prices', version: 6, rowsInserted: 2 } });
});

test('a commit in the log is shown as what it did, with links to its files', async ({ page }) => {
  await page.goto('/storage/corner/shop/prices/_delta_log?file=00000000000000000006.json');
  const look = page.getByRole('region', { name: 'The chosen file' });
  await expect(look).toContainText('Delta commit, version 6');
  await look.getByRole('link', { name: /part-.*parquet/ }).click();
  await expect(look).toContainText('Row groups');
});

test('registered, it has its columns and versions from the log, and SQL in the editor makes versions', async ({ page, request }) => {
  await register(request);
  await type(page, 'UPDATE shop.prices SET price = price * 9 // 10 WHERE id = 1');
  await expect(page.getByRole('region', { name: 'What this reads' })).toContainText('1 file of 1 to read');
  await run(page).click();
  const result = page.getByRole('region', { name: 'Result', exact: true });
  await expect(result).toContainText('Written: version 7 of shop.prices');
  await result.getByRole('button', { name: 'receipt' }).click();
  await expect(page.getByRole('region', { name: 'Receipt', exact: true })).toContainText('Wrote version 7 of shop.prices: 1 row updated.');
  await result.getByRole('link', { name: 'shop.prices' }).click();
  await page.getByRole('button', { name: 'History' }).click();
  const first = page.getByRole('region', { name: 'History' }).getByRole('row').nth(1);
  await expect(first).toContainText('UPDATE');
  await expect(first).toContainText('1 updated, 1 copied along');
  await expect(first).toContainText('id = 1');
  await expect(first).toContainText('Ada Tern');
  expect(await rows(request, 'SELECT id, price FROM shop.prices ORDER BY id')).toEqual([[1, 3059], [2, 10]]);
  expect(await rows(request, 'SELECT id, price FROM shop.prices FOR SYSTEM_VERSION AS OF 6 ORDER BY id')).toEqual([[1, 3399], [2, 10]]);
  expect(await rows(request, "SELECT price, _change_type FROM changes_of('shop.prices', since => 7) ORDER BY price")).toEqual([[3059, 'update_postimage'], [3399, 'update_preimage']]);
});

test('a statement that cannot be carried out is marked where it is wrong, and changes nothing', async ({ page, request }) => {
  await type(page, 'DELETE FROM shop.prices WHERE colour = 1');
  await expect(page.getByRole('region', { name: 'What this reads' })).toContainText('colour');
  expect(await rows(request, 'DELETE FROM shop.prices WHERE price / 0 > 1 AND missing(price)')).toContain('missing');
  expect(await rows(request, "MERGE INTO shop.prices t USING (VALUES (1), (1)) s(id) ON t.id = s.id WHEN MATCHED THEN UPDATE SET price = 0")).toContain('match more than one row');
  expect(await rows(request, 'SELECT count(*) FROM shop.prices')).toEqual([[2]]);
  expect(await rows(request, 'DELETE FROM "tern-bay:landing/bottle-sheets"')).toContain('rows can be changed in Delta and Iceberg tables');
});

test('properties are set with their meaning, and the protocol follows', async ({ page, request }) => {
  await page.goto('/tables/shop/prices?section=properties');
  const row = page.getByRole('row').filter({ hasText: 'delta.enableDeletionVectors' });
  await row.getByRole('button', { name: 'Set…' }).click();
  await page.getByLabel('delta.enableDeletionVectors').selectOption('true');
  await page.getByRole('button', { name: 'Set it in a new version' }).click();
  await expect(page.getByRole('complementary', { name: 'Protocol' })).toContainText('deletionVectors');
  expect(await rows(request, 'DELETE FROM shop.prices WHERE id = 2')).toEqual([[9, 0, 0, 1, 0, 0, 0, 0]]);
  expect(await rows(request, 'SELECT id FROM shop.prices')).toEqual([[1]]);
});

test('upkeep says what it would do, and what breaks, before it does it', async ({ page, request }) => {
  await page.goto('/tables/shop/prices?section=upkeep');
  const upkeep = page.getByRole('region', { name: 'Upkeep' });
  await upkeep.getByRole('button', { name: 'Put together' }).click();
  await expect(upkeep.getByRole('status')).toContainText('1 file became 1');
  await upkeep.getByLabel('Keep versions of the last days').fill('0');
  await expect(upkeep).toContainText(/Versions \d+ to \d+ can be read now and could not be any more/);
  const remove = upkeep.getByRole('button', { name: /^Remove \d+ files/ });
  await expect(remove).toBeDisabled();
  await upkeep.getByRole('button', { name: 'Sum up now' }).click();
  await expect(upkeep.getByRole('status')).toContainText('summed up to version 10');
  expect(await rows(request, 'SELECT id, price FROM shop.prices')).toEqual([[1, 3059]]);
});

test('dropped, an external table keeps its files; registered again, it has all its versions', async ({ request }) => {
  const data = () => readdirSync(path.join(folder, 'shop/prices')).filter((name) => name.endsWith('.parquet')).length;
  const before = data();
  expect(before).toBeGreaterThan(1);
  expect((await request.delete('/api/catalog/shop/prices')).ok()).toBe(true);
  expect(data()).toBe(before);
  await register(request);
  const { entries } = await (await request.get('/api/catalog/shop/prices/history')).json();
  expect(entries.map((entry: { version: number }) => entry.version)).toEqual([0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10]);
  expect(await rows(request, 'SELECT id, price FROM shop.prices FOR SYSTEM_VERSION AS OF 0 ORDER BY id')).toEqual([[1, 3399], [2, 10], [3, 20], [4, 30]]);
  // Asked for, the files go too.
  expect((await request.delete('/api/catalog/shop/prices?files=remove&confirm=shop.prices')).ok()).toBe(true);
  expect(readdirSync(path.join(folder, 'shop'))).toEqual([]);
  await request.delete('/api/storages/corner');
});
