/** An outside program comes in with a token and works on the same tables; people see it at once, and keep the table in order. */
import { expect, test } from '@playwright/test';

test.describe.configure({ mode: 'serial' });

/** Other tests count what is in the catalog. */
test.afterAll(async ({ request }) => {
  await request.delete('/api/namespaces/tides?files=remove&confirm=tides');
});

const SCHEMA = { type: 'struct', fields: [{ id: 1, name: 'id', required: false, type: 'long' }, { id: 2, name: 'site', required: false, type: 'string' }] };

test('a token is issued, tried, used by a program, and revoked', async ({ page, request }) => {
  await page.goto('/access');
  await page.getByLabel('For which program').fill('tide engine');
  await page.getByLabel('It may').selectOption('do everything with');
  await page.getByLabel('a namespace, a table, or * for all').fill('tides');
  await page.getByRole('button', { name: 'Issue it' }).click();
  const text = (await page.getByRole('status').filter({ hasText: 'Copy it now' }).getByRole('button').textContent())!;
  expect(text).toMatch(/^kh_[0-9a-f]{16}_/);
  await expect(page.getByLabel('Properties to set')).toContainText(`token=${text}`);
  await page.getByLabel('It comes in with').selectOption('client credentials');
  await expect(page.getByLabel('Properties to set')).toContainText(/credential=[0-9a-f]{16}:/);
  const as = { headers: { authorization: `Bearer ${text}` } };
  const post = async (at: string, data: unknown) => (await request.post(`/iceberg/v1${at}`, { ...as, data })).status();
  expect(await post('/namespaces', { namespace: ['tides'] })).toBe(200);
  expect(await post('/namespaces/tides/tables', { name: 'heights', schema: SCHEMA })).toBe(200);
  expect(await post('/namespaces/refined/tables', { name: 'heights', schema: SCHEMA })).toBe(404);
  await page.getByRole('button', { name: 'Try it' }).click();
  await expect(page.getByLabel('What came of it')).toContainText('Load tides.heights');
  await expect(page.getByLabel('Tokens')).toContainText('manages tides');
  await page.reload();
  await expect(page.locator('body')).not.toContainText(text);

  // What the program does shows on the table's page while it is open.
  await page.goto('/tables/tides/heights?section=history');
  await expect(page.getByLabel('History')).toContainText('create table');
  expect(await post('/namespaces/tides/tables/heights', { requirements: [], updates: [{ action: 'set-properties', updates: { 'write.delete.mode': 'merge-on-read' } }] })).toBe(200);
  await expect(page.getByLabel('History')).toContainText('set properties');
  await page.goto('/access');
  await page.getByRole('row', { name: /tide engine/ }).getByRole('button', { name: 'Revoke…' }).click();
  await page.getByRole('button', { name: 'Revoke tide engine' }).click();
  await expect(page.getByRole('row', { name: /tide engine.*revoked/ })).toBeVisible();
  expect((await request.get('/iceberg/v1/namespaces', as)).status()).toBe(401);
});

test('rows are written, marked as deleted, named, written to a branch, and put in order', async ({ page, request }) => {
  const sql = async (text: string) => (await (await request.post('/api/query', { data: { sql: text, maxRows: 100 } })).json()) as { rows: unknown[][] };
  for (const id of [1, 2, 3]) await sql(`INSERT INTO tides.heights VALUES (${id}, 'quay'), (${id + 10}, 'sound')`);
  await page.goto('/tables/tides/heights?section=branches');
  await page.getByLabel('Name', { exact: true }).fill('checked');
  await page.getByRole('button', { name: 'Name it' }).click();
  await expect(page.getByRole('status').filter({ hasText: 'Tag checked is at version 3' })).toBeVisible();
  await page.getByLabel('As a').selectOption('branch');
  await page.getByLabel('Name', { exact: true }).fill('trial');
  await page.getByRole('button', { name: 'Name it' }).click();
  await expect(page.getByRole('row', { name: /^trial branch/ })).toBeVisible();
  await sql(`DELETE FROM tides.heights BRANCH 'trial' WHERE site = 'sound'`);
  await expect(page.getByRole('row', { name: /trial branch, apart from main/ })).toBeVisible();
  expect((await sql('SELECT count(*) FROM tides.heights')).rows).toEqual([[6]]);
  await page.getByRole('button', { name: 'Move main here' }).click();
  await expect(page.getByRole('status').filter({ hasText: 'main is now where trial is' })).toBeVisible();
  expect((await sql('SELECT count(*) FROM tides.heights')).rows).toEqual([[3]]);
  expect((await sql(`SELECT count(*) FROM tides.heights FOR SYSTEM_VERSION AS OF 'checked'`)).rows).toEqual([[6]]);

  await page.getByRole('button', { name: 'Upkeep' }).click();
  await expect(page.getByLabel('Upkeep')).toContainText('hold rows that are only marked as deleted');
  await page.getByRole('button', { name: 'Write them anew' }).click();
  await expect(page.getByRole('status').filter({ hasText: /Version 5: 3 files became/ })).toBeVisible();
  await page.getByLabel('Older than days').fill('0');
  await page.getByRole('button', { name: /^Expire \d snapshots?$/ }).click();
  await expect(page.getByRole('status').filter({ hasText: /expired, \d+ files? removed/ })).toBeVisible();
  expect((await sql('SELECT id FROM tides.heights ORDER BY id')).rows).toEqual([[1], [2], [3]]);
  // A tag keeps what it names.
  expect((await sql(`SELECT count(*) FROM tides.heights FOR SYSTEM_VERSION AS OF 'checked'`)).rows).toEqual([[6]]);
  await page.getByRole('button', { name: 'Properties' }).click();
  await page.getByRole('button', { name: 'Upgrade to version 3…' }).click();
  await page.getByRole('button', { name: 'Upgrade', exact: true }).click();
  await expect(page.getByRole('heading', { name: 'Format version 3' })).toBeVisible();
  await page.getByRole('row', { name: /write.update.mode/ }).getByRole('button', { name: 'Set…' }).click();
  await page.getByLabel('write.update.mode').selectOption('merge-on-read');
  await page.getByRole('button', { name: 'Set it in a new version' }).click();
  await expect(page.getByRole('row', { name: /write.update.mode merge-on-read/ })).toBeVisible();
  await sql(`UPDATE tides.heights SET site = 'pier' WHERE id = 2`);
  expect((await sql('SELECT site FROM tides.heights ORDER BY id')).rows).toEqual([['quay'], ['pier'], ['quay']]);

  // The same files become a Delta table, and what stays behind is told first.
  await page.getByRole('button', { name: 'See what it would take…' }).click();
  await expect(page.getByRole('region', { name: 'As a Delta table' })).toContainText('the branches and tags checked, trial');
  await page.getByRole('button', { name: 'Make it a Delta table' }).click();
  await expect(page.getByLabel('Protocol')).toContainText('Reader version 3');
  expect((await sql('SELECT site FROM tides.heights ORDER BY id')).rows).toEqual([['quay'], ['pier'], ['quay']]);
  await sql(`INSERT INTO tides.heights VALUES (4, 'mole')`);
  await page.getByRole('button', { name: 'See what it would take…' }).click();
  await page.getByRole('button', { name: 'Make it an Iceberg table' }).click();
  await expect(page.getByRole('heading', { name: 'Format version 3' })).toBeVisible();
  expect((await sql('SELECT site FROM tides.heights ORDER BY id')).rows).toEqual([['quay'], ['pier'], ['quay'], ['mole']]);
});
