/** From raw files to an answer from an old version, as a new user would go. */
import { AxeBuilder } from '@axe-core/playwright';
import { expect, test, type Page } from '@playwright/test';
import { address } from './served';

test.describe.configure({ mode: 'default' });

async function writeQuery(page: Page, sql: string): Promise<void> {
  const editor = page.getByRole('textbox', { name: 'Query text' });
  await editor.click();
  await page.keyboard.press('ControlOrMeta+a');
  await page.keyboard.insertText(sql);
}
const run = (page: Page) => page.getByRole('button', { name: /^Run / });
const result = (page: Page) => page.getByRole('region', { name: 'Result', exact: true });

test('browse the lake and look into a file', async ({ page }) => {
  await page.goto('/');
  await page.getByRole('link', { name: 'tern-bay' }).click();
  await page.getByRole('button', { name: 'landing/' }).click();
  await page.getByRole('button', { name: 'bottle-sheets/' }).click();
  await page.getByRole('button', { name: /2025-02\.csv/ }).click();
  const look = page.getByRole('region', { name: 'The chosen file' });
  await expect(look).toContainText('pipe between fields, header');
  await expect(look.getByRole('columnheader', { name: /oxygen_mg_l/ })).toBeVisible();
  await expect(look.locator('pre')).toContainText('bottle_id|site|sampled_at');
  await expect(page).toHaveURL(/\/storage\/tern-bay\/landing\/bottle-sheets\?file=2025-02\.csv/);
  await page.getByRole('searchbox', { name: 'Filter this folder by name' }).fill('2026');
  await expect(page.getByRole('list', { name: 'Folders and files' }).getByRole('button')).toHaveCount(3);
});

test('crawl the landing folder, judge what was found, register it', async ({ page }) => {
  await page.goto('/storage/tern-bay/landing');
  await page.getByRole('button', { name: 'Crawl this folder' }).click();
  await expect(page.getByRole('heading', { name: 'What the crawl found' })).toBeVisible();
  await expect(page.getByText(/^[01] undecided$/)).toBeVisible({ timeout: 20_000 });
  const row = (name: string) => page.getByRole('row').filter({ has: page.getByRole('button', { name, exact: true }) });
  // A folder with several kinds of file makes several tables; pictures are none.
  await expect(row('landing.scratch_probe_trial')).toContainText('new');
  await row('landing.scratch_crew').getByRole('radio', { name: 'leave out' }).click();
  await row('landing.soundings').getByRole('button', { name: 'landing.soundings' }).click();
  const evidence = page.getByRole('region', { name: 'Evidence of the chosen finding' });
  await expect(evidence).toContainText('chlorophyll_ug_l is in 248 of 720 files');
  await expect(evidence).toContainText('day date, 90 values, 2026-01-01 to 2026-03-31');
  await row('landing.limits').getByRole('radio', { name: 'leave out' }).click();
  await expect(page.getByText('2 left out')).toBeVisible();
  await page.getByRole('button', { name: /^Register \d$/ }).click();
  await expect(page.getByRole('status').filter({ hasText: 'Registered landing.bottle_sheets' })).toBeVisible();
  await page.getByRole('link', { name: 'Open the catalog' }).click();
  await page.getByRole('button', { name: /^landing \d+ tables/ }).click();
  await page.getByRole('button', { name: /^soundings Parquet/ }).click();
  await expect(page.getByRole('region', { name: 'The chosen table' })).toContainText('720 files');
});

test('a second crawl opens nothing that is unchanged', async ({ page }) => {
  await page.goto('/crawls');
  await page.getByRole('row').filter({ has: page.getByRole('link', { name: 'tern-bay/landing', exact: true }) }).getByRole('button', { name: 'Crawl again' }).click();
  await expect(page.getByText(/5,168 files in .* s, 0 opened/)).toBeVisible({ timeout: 20_000 });
  await expect(page.getByText('changed', { exact: true })).toBeHidden();
  await expect(page.getByRole('button', { name: /\d unchanged/ })).toBeVisible();
});

test('open a table and go back three versions: the past looks different', async ({ page }) => {
  await page.goto('/catalog/refined/bottles');
  await page.getByRole('button', { name: 'Open table' }).click();
  const handle = page.getByRole('slider', { name: 'Version viewed' });
  await expect(handle).toHaveAttribute('aria-valuetext', 'version 13, now');
  await handle.focus();
  for (const version of [12, 11, 10]) {
    await page.keyboard.press('ArrowLeft');
    await expect(handle).toHaveAttribute('aria-valuetext', `version ${version}, in the past`);
  }
  await expect(page.getByRole('region', { name: 'The past' })).toContainText('Version 10 of bottles, RESTORE, 16 Mar 2026 11:45 by R. Holt, 8,079 rows');
  await expect(page.getByRole('region', { name: 'Rows' })).toContainText('8,079 rows, from 6 files');
  await expect(page).toHaveURL(/version=10/);
  await page.getByRole('button', { name: 'Columns' }).click();
  await expect(page.getByRole('row', { name: /^method varchar/ })).toBeVisible();
  await page.goto('/tables/refined/bottles?version=3&section=columns');
  await expect(page.getByRole('row', { name: /^method varchar came later/ })).toBeVisible();
  await page.getByRole('button', { name: 'Return to now, version 13' }).click();
  await expect(page.getByRole('region', { name: 'The past' })).toBeHidden();
});

test('an answer from the past, with its receipt, and once more from the receipt', async ({ page }) => {
  await page.goto('/query');
  await writeQuery(page, `SELECT s.buoy_id, count(DISTINCT b.bottle_id) AS bottles, round(avg(s.oxygen_mg_l), 2) AS oxygen
FROM refined.soundings FOR SYSTEM_TIME AS OF TIMESTAMP '2026-03-14 06:00' AS s
JOIN refined.bottles AS b ON b.sampled_at::DATE = s.taken_at::DATE
WHERE s.taken_at >= '2026-03-10' AND s.buoy_id < 'TB-09' GROUP BY s.buoy_id ORDER BY s.buoy_id`);
  const reads = page.getByRole('region', { name: 'What this reads' });
  await expect(reads).toContainText('version 18');
  await expect(reads).toContainText('4 files of 144 to read');
  await expect(reads).toContainText('136 skipped by partition of taken_at');
  await expect(reads).toContainText('4 skipped by bounds of buoy_id');
  await run(page).click();
  await expect(result(page)).toContainText('From the past: refined.soundings as of 14 Mar 2026 05:50, version 18');
  await expect(result(page)).toContainText('8 rows');
  const oxygen = await result(page).getByRole('row', { name: /TB-03/ }).textContent();
  await result(page).getByRole('button', { name: 'receipt' }).click();
  const receipt = page.getByRole('region', { name: 'Receipt', exact: true });
  await expect(receipt).toContainText('4 of 144 files');
  await expect(receipt).toContainText('Ada Tern, done');
  await receipt.getByRole('button', { name: 'Run again, same versions' }).click();
  await expect(result(page)).toContainText('run again from its receipt');
  expect(await result(page).getByRole('row', { name: /TB-03/ }).textContent()).toBe(oxygen);
  const [download] = await Promise.all([page.waitForEvent('download'), result(page).getByRole('link', { name: 'Download CSV' }).click()]);
  expect(download.suggestedFilename()).toBe('from-the-past-refined.soundings-version-18.csv');
});

test('a hundred thousand rows scroll to their end', async ({ page }) => {
  await page.goto('/query');
  await writeQuery(page, 'SELECT taken_at, buoy_id, depth_m FROM refined.soundings ORDER BY taken_at, buoy_id LIMIT 100000');
  await page.keyboard.press('ControlOrMeta+Enter');
  await expect(result(page)).toContainText('100,000 rows');
  const grid = result(page).getByRole('table', { name: 'Result rows' });
  await grid.evaluate((element) => (element.scrollTop = element.scrollHeight));
  await expect(grid.getByRole('rowheader', { name: '100,000' })).toBeVisible();
  await expect(grid.getByRole('row').filter({ has: page.getByRole('rowheader', { name: '100,000' }) })).toContainText('TB-');
  expect(await grid.getByRole('row').count()).toBeLessThan(80);
});

test('a query that runs on and on is cancelled; the page goes on', async ({ page }) => {
  await page.goto('/query');
  await writeQuery(page, 'SELECT count(*) FROM refined.soundings a, refined.soundings b, refined.soundings c WHERE a.depth_m + b.depth_m > c.depth_m');
  await run(page).click();
  await page.getByRole('button', { name: 'Cancel' }).click();
  await expect(page.getByRole('alert')).toContainText('The query was cancelled');
  await writeQuery(page, 'SELECT 40 + 2 AS answer');
  await run(page).click();
  await expect(result(page)).toContainText('42');
});

test('a mistake is marked where it stands', async ({ page }) => {
  await page.goto('/query');
  await writeQuery(page, 'SELECT site, oxigen_mg_l FROM refined.bottles');
  await expect(page.getByRole('region', { name: 'What this reads' })).toContainText('"oxigen_mg_l" not found');
  await expect(page.locator('.cm-lintRange-error')).toHaveText('oxigen_mg_l');
});

test('pages follow what changes on the server', async ({ page, request }) => {
  const { latestVersion: was } = await (await request.get('/api/catalog/refined/water_limits')).json();
  await page.goto('/tables/refined/water_limits');
  const handle = page.getByRole('slider', { name: 'Version viewed' });
  await expect(handle).toHaveAttribute('aria-valuetext', `version ${was}, now`);
  const restored = await request.post('/api/catalog/refined/water_limits/restore', { data: { version: '0' } });
  expect(await restored.json()).toMatchObject({ version: was + 1 });
  await expect(handle).toHaveAttribute('aria-valuetext', `version ${was + 1}, now`);
  await handle.press('ArrowLeft');
  await page.getByRole('button', { name: 'Restore it…' }).click();
  await expect(page.getByRole('region', { name: 'Restore' })).toContainText(`A new version ${was + 2} will be committed that reads as version ${was} does: 22 rows`);
  await page.getByRole('button', { name: `Restore version ${was}` }).click();
  await expect(handle).toHaveAttribute('aria-valuetext', `version ${was + 2}, now`);
});

test('places and finding by keyboard', async ({ page }) => {
  await page.goto('/storage');
  await page.keyboard.press('g');
  await page.keyboard.press('q');
  await expect(page).toHaveURL(/\/query/);
  await page.goto('/catalog');
  await page.keyboard.press('/');
  await page.keyboard.type('chloro');
  await expect(page.getByRole('option', { name: /chlorophyll_ug_l column in refined\.soundings/ })).toBeVisible();
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/\/tables\/.*section=columns/);
});

for (const scheme of ['light', 'dark'] as const) {
  test(`no accessibility fault on any page, ${scheme}`, async ({ browser, request }) => {
    test.setTimeout(120_000);
    const context = await browser.newContext({ colorScheme: scheme, baseURL: address, viewport: { width: 1280, height: 800 } });
    const page = await context.newPage();
    const { runId } = await (await request.post('/api/crawls', { data: { storage: 'tern-bay', folder: 'landing' } })).json();
    const pages: [url: string, ready: string][] = [
      ['/storage', 'tern-bay'], ['/storage/tern-bay/landing/bottle-sheets?file=2025-02.csv', 'As it stands in the file'], ['/crawls', 'tern-bay/landing'], [`/crawls/${runId}`, 'landing.scratch_crew'],
      ['/catalog/refined/soundings', 'Rows by day'], ['/tables/refined/bottles', '8,689'], ['/tables/refined/bottles?version=10&section=columns', 'The past.'],
      [`/query?sql=${encodeURIComponent("SELECT site FROM refined.bottles FOR SYSTEM_VERSION AS OF 8 WHERE site = 'Low Scar'")}`, 'to read'], ['/access', 'Issue a token'], ['/tables/refined/soundings?section=branches', 'Name version'], ['/tables/refined/soundings?section=properties', 'Format version 2'], ['/tables/refined/soundings?section=upkeep', 'Let old snapshots expire'], ['/nowhere', 'There is nothing at this address'],
    ];
    for (const [url, ready] of pages) {
      await page.goto(url);
      await expect(page.locator('main')).toContainText(ready);
      if (url.startsWith('/query')) {
        await run(page).click();
        await expect(result(page)).toContainText('Low Scar');
      }
      const { violations } = await new AxeBuilder({ page }).analyze();
      expect(violations.map(({ id, nodes }) => `${id}: ${nodes.map((node) => node.target.join(' ')).join(' | ')}`), `${scheme} ${url}`).toEqual([]);
    }
    await context.close();
  });
}

test('everything has room at 1024 px', async ({ page }) => {
  await page.setViewportSize({ width: 1024, height: 720 });
  for (const url of ['/storage/tern-bay/landing', '/crawls/1', '/catalog/refined/soundings', '/tables/refined/bottles', '/query']) {
    await page.goto(url);
    await page.waitForLoadState('networkidle').catch(() => undefined);
    expect(await page.evaluate(() => document.documentElement.scrollWidth), url).toBeLessThanOrEqual(1024);
  }
});
