/** `npm run screenshots`: one current picture of each main view, from a fresh demo lake, into docs/screenshots. */
import { mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { chromium, type Page } from '@playwright/test';
import { projectRoot } from '../server/program-files';
// @ts-expect-error: plain JavaScript, since it runs before anything is installed
import { chromiumPath } from './lib/chromium.mjs';

const PORT = 4794;
const home = path.join(projectRoot, '.cache/screenshots-home');
const folder = path.join(projectRoot, 'docs/screenshots');
rmSync(home, { recursive: true, force: true });
mkdirSync(folder, { recursive: true });
Object.assign(process.env, { KIND_HARBOR_HOME: home, KIND_HARBOR_PORT: String(PORT), KIND_HARBOR_PERSON: 'M. Reed' });
const { main } = (await import(path.join(projectRoot, 'dist/server/main.js'))) as { main: (args: string[]) => Promise<void> };
await main([]);

const browser = await chromium.launch({
  executablePath: chromiumPath(),
  args: [...(process.getuid?.() === 0 ? ['--no-sandbox'] : []), '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking', '--disable-component-update', '--disable-sync'],
});
const base = `http://127.0.0.1:${PORT}`;

async function shoot(name: string, url: string, ready: string, steps: (page: Page) => Promise<void> = async () => undefined, theme: 'light' | 'dark' = 'light'): Promise<void> {
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 }, locale: 'en-GB', timezoneId: 'UTC', colorScheme: theme });
  await page.goto(base + url);
  await page.getByText(ready, { exact: false }).first().waitFor();
  await steps(page);
  await page.waitForTimeout(500);
  await page.screenshot({ path: path.join(folder, `${name}.png`) });
  await page.close();
}

const pastQuery = `SELECT s.buoy_id, round(avg(s.oxygen_mg_l), 2) AS oxygen, count(DISTINCT b.bottle_id) AS bottles
FROM refined.soundings FOR SYSTEM_TIME AS OF TIMESTAMP '2026-03-14 06:00' AS s
JOIN refined.bottles AS b ON b.sampled_at::DATE = s.taken_at::DATE
WHERE s.taken_at >= '2026-03-10' AND s.buoy_id < 'TB-09'
GROUP BY s.buoy_id ORDER BY oxygen LIMIT 50`;

await shoot('storage', `/storage/tern-bay/landing/buoy-logs/2026/03/14?file=TB-17.log.gz&pattern=${encodeURIComponent('landing/buoy-logs/{date:year}/{date:month}/{date:day}/{buoy}.log.gz')}`, 'As it stands in the file');
await shoot('reading', '/storage/tern-bay/landing/tide-table?file=2025-08.txt', 'As it stands in the file', async (page) => {
  await page.getByRole('button', { name: 'How it is read' }).click();
  await page.getByLabel('Texts for missing').fill('n/a');
  await page.getByText(/^0 of .* lines do not fit/).waitFor();
});
const crawl = await fetch(`${base}/api/crawls`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ storage: 'tern-bay', folder: 'landing' }) });
const { runId } = (await crawl.json()) as { runId: number };
await shoot('crawl', `/crawls/${runId}`, 'landing.scratch_crew', async (page) => page.getByRole('button', { name: 'landing.soundings' }).click());
await shoot('crawl-rules', '/crawls', 'tern-bay/landing', async (page) => {
  await page.getByRole('button', { name: 'Define a crawl' }).click();
  await page.getByLabel('Folder 1').fill('landing');
  await page.getByLabel('Files to leave 1').fill('*.tmp');
  await page.getByLabel('Files to leave 1').press('Tab');
  await page.getByLabel('What to do with findings').selectOption('additions');
  await page.getByLabel('When it runs').selectOption('every night at 2');
  await page.getByText('At 02:00, UTC').waitFor();
});
await fetch(`${base}/api/catalog/refined/soundings`, { method: 'PATCH', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ owner: 'M. Reed', tags: ['buoys', 'public'], vouched: { why: 'Checked against the bottle sheets every month', until: '2027-06-30T00:00:00Z' } }) });
await shoot('catalog', '/catalog/refined/soundings', 'Rows by day');
await shoot('profile', '/tables/refined/soundings?section=profile', 'From metadata', async (page) => {
  await page.getByRole('button', { name: 'Profile a sample' }).click();
  await page.getByText('rows were drawn at random').waitFor();
});
await shoot('table', '/tables/refined/bottles', '8,689 rows');
await shoot('table-past', '/tables/refined/bottles?version=10', 'The past.', async (page) => page.locator('[data-version="9"]').hover());
await shoot('query', `/query?sql=${encodeURIComponent(pastQuery)}`, 'to read', async (page) => {
  await page.getByRole('button', { name: /^Run / }).click();
  await page.getByText('From the past:').waitFor();
  await page.getByRole('region', { name: 'Result', exact: true }).getByRole('button', { name: 'receipt' }).click();
});
await fetch(`${base}/api/query`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ sql: "UPDATE refined.bottles SET coliform_cfu = NULL, method = NULL WHERE site = 'Holm Quay' AND sampled_at >= TIMESTAMPTZ '2026-03-20 00:00:00+00'" }) });
await shoot('table-history', '/tables/refined/bottles?section=history', 'copied along');
await shoot('table-upkeep', '/tables/refined/bottles?section=upkeep', 'would go');
const asked = (at: string, method: string, body: unknown) => fetch(base + at, { method, headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) });
const soundings = (await (await fetch(`${base}/api/catalog/refined/soundings/history`)).json()) as { entries: { version?: number; snapshotId?: string }[] };
const snapshotOf = (version: number) => soundings.entries.find((each) => each.version === version)!.snapshotId!;
await asked('/api/catalog/refined/soundings/iceberg/refs', 'PUT', { name: 'winter-report', type: 'tag', snapshotId: snapshotOf(12) });
await asked('/api/catalog/refined/soundings/iceberg/refs', 'PUT', { name: 'recalibrated', type: 'branch', minSnapshotsToKeep: 5 });
await asked('/api/query', 'POST', { sql: "DELETE FROM refined.soundings BRANCH 'recalibrated' WHERE oxygen_mg_l IS NULL" });
await shoot('table-branches', '/tables/refined/soundings?section=branches', 'apart from main');
await shoot('define', '/define?namespace=refined', 'Where it lies', async (page) => {
  await page.getByLabel('Name', { exact: true }).fill('bottles_by_month');
  await page.getByLabel('Start from').selectOption('another table');
  await page.getByLabel('Which table').selectOption('refined.bottles');
  await page.getByRole('button', { name: 'Take its columns' }).click();
  await page.getByLabel('Name of column 9').waitFor();
  await page.getByRole('button', { name: 'nothing; divide them' }).click();
  await page.getByLabel('Transform 1').selectOption('month');
  await page.getByRole('combobox', { name: 'Divided by column 1' }).fill('sampled_at');
  await page.getByRole('button', { name: 'nothing; sort them' }).click();
  await page.getByRole('combobox', { name: 'Sorted by column 1' }).fill('site');
  await page.getByLabel('Column 1 is part of the key').check();
});
await shoot('write', `/write?query=${encodeURIComponent("SELECT *, year(sampled_at) AS year FROM refined.bottles WHERE site <> 'Pell Island'")}`, 'Columns:', async (page) => {
  const form = page.getByRole('form', { name: 'The write' });
  await form.getByLabel('Folder', { exact: true }).fill('outbox/bottles');
  await form.getByLabel(/^As/).selectOption('csv');
  await form.getByLabel('The goal').selectOption('at-most');
  await form.getByLabel('Files', { exact: true }).fill('4');
  await form.getByLabel('Rows go by').fill('analyst');
  await form.getByLabel('Folders by value').fill('year={year}/{site}');
  await form.getByLabel('Columns left out').fill('year');
  await page.getByRole('button', { name: 'See what it makes' }).click();
  await page.getByRole('heading', { name: /files in/ }).waitFor();
  await page.getByRole('button', { name: 'year=2025/Low Scar' }).click();
  await form.evaluate((element) => element.scrollTo(0, 0));
});
await shoot('load', '/tables/refined/bottles?section=load', 'Rows from', async (page) => {
  await page.getByLabel('File, folder or pattern').fill('tern-bay:landing/bottle-sheets');
  await page.getByRole('combobox', { name: /^They/ }).selectOption('are merged by key');
  await page.getByLabel('Told apart by').fill('bottle_id');
  await page.getByLabel('Of rows of one key the latest by').fill('sampled_at');
  await page.getByRole('button', { name: 'See how they fit' }).click();
  await page.getByText('rows at the source').waitFor();
});
await asked('/api/access/tokens', 'POST', { name: 'tide model', grants: [{ on: 'refined.soundings', right: 'read' }], expiresAt: '2027-06-30T00:00:00Z' });
await shoot('access', '/access', 'tide model', async (page) => {
  await page.getByLabel('For which program').fill('nightly engine');
  await page.getByLabel('It may').selectOption('read and write');
  await page.getByLabel('a namespace, a table, or * for all').fill('refined');
  await page.getByRole('button', { name: 'Issue it' }).click();
  await page.getByText('Copy it now').waitFor();
  await page.getByRole('button', { name: 'Try it' }).click();
  await page.getByText('Load refined.').waitFor();
});
await shoot('table-dark', '/tables/refined/soundings?section=columns&version=10', 'The past.', undefined, 'dark');
await browser.close();
process.kill(process.pid, 'SIGTERM');
