/** Names in the catalog: described, and taken out again with an account of what stays. */
import { existsSync } from 'node:fs';
import { expect, test } from '@playwright/test';
import { home } from './served';

const limits = `${home}/lake/tern-bay/landing/limits/water-limits.csv`;

test('an external table is registered, described, and taken out; its file stays and can be registered again', async ({ page, request }) => {
  const crawl = async () => {
    const { runId } = await (await request.post('/api/crawls', { data: { storage: 'tern-bay', folder: 'landing/limits' } })).json();
    await expect.poll(async () => (await (await request.get(`/api/crawl-runs/${runId}`)).json()).finishedAt).not.toBeNull();
    const [finding] = (await (await request.get(`/api/crawl-runs/${runId}`)).json()).findings;
    await request.post(`/api/findings/${finding.id}/correct`, { data: { namespace: 'bay', name: 'limits' } });
    return (await request.post(`/api/crawl-runs/${runId}/register`, { data: {} })).json();
  };
  expect(await crawl()).toEqual({ registered: ['bay.limits'], failed: [] });

  await page.goto('/catalog/bay/limits');
  await page.getByRole('button', { name: 'describe it' }).click();
  await page.getByRole('textbox', { name: 'Description' }).fill('Limits as they came');
  await page.keyboard.press('Enter');
  await expect(page.getByRole('region', { name: 'The chosen table' })).toContainText('Limits as they came');

  await page.getByRole('button', { name: 'take it out of the catalog …' }).click();
  const panel = page.getByRole('form', { name: 'Unregister' });
  await expect(panel).toContainText('tern-bay:landing/limits holds 1 file, 1.06 kB, of 1 version');
  await expect(panel.getByRole('radio', { name: /they stay/ })).toBeChecked();
  await expect(panel).toContainText('No view reads it');
  const go = panel.getByRole('button', { name: 'Take it out of the catalog' });
  await expect(go).toBeDisabled();
  await panel.getByLabel(/to confirm/).fill('limits');
  await go.click();
  await expect(page.getByText('0 in bay')).toBeVisible();
  expect(existsSync(limits)).toBe(true);
  expect((await request.post('/api/query', { data: { sql: 'SELECT 1 FROM bay.limits' } })).status()).toBe(404);
  expect(await crawl()).toEqual({ registered: ['bay.limits'], failed: [] });
  expect((await (await request.post('/api/query', { data: { sql: 'SELECT count(*) FROM bay.LIMITS' } })).json()).rows).toEqual([[22]]);
  await request.delete('/api/catalog/bay/limits');
});

test('who reads a table is told, by way of views too; the files of a managed table do not go unconfirmed', async ({ request }) => {
  expect(await (await request.get('/api/catalog/refined/soundings/readers')).json()).toEqual({ views: ['published.bay_health', 'published.daily_oxygen'] });
  const refused = await request.delete('/api/catalog/refined/soundings?files=remove');
  expect([refused.status(), (await refused.json()).detail]).toEqual([409, expect.stringContaining('nothing was changed')]);
  const [latest] = (await (await request.get('/api/revisions?limit=1&subject=bay.limits')).json()) as { action: string; subject: string }[];
  expect(latest).toMatchObject({ action: 'unregister table', subject: 'bay.limits' });
});
