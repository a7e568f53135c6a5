/** Last of all: a managed table goes with its files, when it is confirmed by name. */
import { existsSync, readdirSync } from 'node:fs';
import path from 'node:path';
import { expect, test } from '@playwright/test';
import { home } from './served';

const folder = path.resolve(`${home}/lake/tern-bay/refined/water_limits`);
const files = () => (existsSync(folder) ? readdirSync(folder, { recursive: true, encoding: 'utf8', withFileTypes: true }).filter((entry) => entry.isFile()).length : 0);

test('a dropped managed table waits in the trash and comes back from the catalog page, with what was known of it', async ({ page, request }) => {
  const before = files();
  await page.goto('/catalog/refined/water_limits');
  await page.getByRole('button', { name: 'take it out' }).click();
  await page.getByLabel('Write water_limits to confirm').fill('water_limits');
  await page.getByRole('button', { name: 'Drop it' }).click();
  await expect(page).toHaveURL(/\/catalog\/refined$/);
  expect(files()).toBe(0);
  expect((await request.get('/api/catalog/refined/water_limits')).status()).toBe(404);
  await page.goto('/catalog');
  const dropped = page.getByRole('region', { name: 'Dropped tables' });
  await expect(dropped).toContainText('refined.water_limits');
  await dropped.getByRole('button', { name: 'Bring refined.water_limits back' }).click();
  await expect(page.getByRole('status').filter({ hasText: 'refined.water_limits is back' })).toBeVisible();
  expect(files()).toBe(before);
  expect(await (await request.get('/api/catalog/refined/water_limits')).json()).toMatchObject({ managed: true, description: expect.stringContaining('Lowest and highest') });
});

test('dropping a managed Delta table removes its files, and nothing before it is confirmed', async ({ request }) => {
  const before = files();
  expect(before).toBeGreaterThan(2);
  const unsure = await request.delete('/api/catalog/refined/water_limits?files=remove');
  expect([unsure.status(), (await unsure.json()).detail]).toEqual([409, expect.stringContaining('Confirm with its full name')]);
  expect(files()).toBe(before);
  expect(await (await request.delete('/api/catalog/refined/water_limits?files=remove&confirm=refined.water_limits')).json()).toMatchObject({ unregistered: 'refined.water_limits', files: before });
  expect(files()).toBe(0);
});
