/** Crawls with rules: several folders, names, schedules, drift, tables that are gone, and what a crawl may not do. */
import { mkdirSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { expect, test, type APIRequestContext } from '@playwright/test';

const lake = path.resolve('.cache/e2e-rules');
const write = (file: string, text: string) => {
  mkdirSync(path.dirname(path.join(lake, file)), { recursive: true });
  writeFileSync(path.join(lake, file), text);
};
const json = async (answer: Promise<{ json(): Promise<unknown> }>) => (await (await answer).json()) as never;
async function finished(request: APIRequestContext, runId: number): Promise<{ problem: string | null; added: number; findings: Record<string, never>[] }> {
  await expect.poll(async () => (await json(request.get(`/api/crawl-runs/${runId}`)) as { finishedAt: string | null }).finishedAt).not.toBeNull();
  return json(request.get(`/api/crawl-runs/${runId}`));
}
const define = async (request: APIRequestContext, name: string, rules: Record<string, unknown>) => (await json(request.post('/api/crawls/define', { data: { name, folders: [{ storage: 'rules', folder: '' }], ...rules } })) as { id: number }).id;
const run = async (request: APIRequestContext, id: number) => finished(request, (await json(request.post(`/api/crawls/${id}/run`, { data: {} })) as { runId: number }).runId);
const named = (findings: Record<string, never>[]) => findings.map((each) => `${each.namespace}.${each.name} ${each.status}`).sort();

test.beforeAll(async ({ request }) => {
  rmSync(lake, { recursive: true, force: true });
  write('north/orders-2026-01.csv', 'order,at,amount\n1,2026-01-02,3.5\n');
  write('north/orders-2026-02.csv', 'order,at,amount\n2,2026-02-02,4.5\n');
  write('north/crew.csv', 'name,boat\nA,Knot\n');
  write('south/deep/readings.csv', 'id,level\n1,2.5\n');
  write('south/deep/half.tmp', 'id,level\n1,2');
  await request.post('/api/storages', { data: { name: 'rules', location: lake } });
});

test('rules are written as sentences; the schedule is told in words, and a wrong one is refused', async ({ page }) => {
  await page.goto('/crawls');
  await page.getByRole('button', { name: 'Define a crawl' }).click();
  const form = page.getByRole('form', { name: 'Rules of the crawl' });
  await form.getByLabel('Name of the crawl').fill('every night');
  await form.getByLabel('Storage 1').selectOption('rules');
  await form.getByLabel('Folder 1').fill('south');
  await form.getByLabel('Files to leave 1').fill('*.tmp');
  await form.getByLabel('Files to leave 1').press('Tab');
  await form.getByLabel('Prefix of table names').fill('raw_');
  await form.getByLabel('When it runs').selectOption('at times of its own');
  await form.getByLabel('Schedule in cron fields').fill('70 2 * * *');
  await expect(form.getByRole('status')).toContainText('is no schedule');
  await form.getByLabel('Schedule in cron fields').fill('30 2 * * 1-5');
  await expect(form.getByRole('status')).toContainText('At 02:30, Monday through Friday, UTC');
  await form.getByRole('button', { name: 'Keep this crawl' }).click();
  const row = page.getByRole('row', { name: /every night/ });
  await expect(row).toContainText('rules/south, without *.tmp; tables called raw_ and after their folder');
  await row.getByRole('button', { name: 'Crawl now' }).click();
  await expect(page.getByRole('button', { name: 'south.raw_deep' })).toBeVisible();
  await page.getByRole('link', { name: 'every night' }).click();
  await expect(page.getByRole('region', { name: 'Runs' })).toContainText('Ada Tern');
});

test('one folder with several tables is told apart; additions register by themselves; the rest asks', async ({ request }) => {
  const id = await define(request, 'additions', { namespace: 'rules_lake', prefix: 'r_', naming: 'path', findings: 'additions', folders: [{ storage: 'rules', folder: '', exclude: ['*.tmp'] }] });
  const first = await run(request, id);
  expect(named(first.findings)).toEqual(['rules_lake.r_north_crew new', 'rules_lake.r_north_orders new', 'rules_lake.r_south_deep new']);
  expect(first.added).toBe(3);
  const rows = (await json(request.post('/api/query', { data: { sql: 'SELECT sum("order"), sum(amount) FROM rules_lake.r_north_orders' } })) as { rows: unknown[][] }).rows;
  expect(rows).toEqual([[3, 8]]);

  write('south/deep/readings-2.csv', 'id,level,checked\n2,3.5,true\n');
  const second = await run(request, id);
  expect([named(second.findings), second.added]).toEqual([['rules_lake.r_north_crew unchanged', 'rules_lake.r_north_orders unchanged', 'rules_lake.r_south_deep changed'], 1]);

  // A column under another name and another type waits for somebody, with who reads the table.
  await request.post('/api/catalog/rules_lake/r_south_deep/flat-view', { data: {} });
  write('south/deep/readings.csv', 'id,water_level\n1,2.5\n');
  write('south/deep/readings-2.csv', 'id,water_level\nx,3.5\n');
  const third = await run(request, id);
  const changed = third.findings.find((each) => (each as unknown as { name: string }).name === 'r_south_deep') as unknown as { id: number; status: string; decision: string; summary: string };
  expect(changed).toMatchObject({ status: 'clash', decision: 'undecided' });
  const drift = await json(request.get('/api/drift?table=rules_lake.r_south_deep')) as { kind: string; column: string; done: string; files: string[] }[];
  expect(drift.map((each) => `${each.column} ${each.kind} ${each.done}`).sort()).toEqual(['checked column came taken over', 'checked column went open', 'id type changed open', 'level column went open', 'water_level column came open']);
  await request.patch(`/api/findings/${changed.id}`, { data: { decision: 'leave-out' } });
  expect((await json(request.get('/api/drift?table=rules_lake.r_south_deep')) as { done: string }[]).map((each) => each.done).sort()).toEqual(['left as it was', 'left as it was', 'left as it was', 'left as it was', 'taken over']);
});

test('a table whose files are gone is told, and taken out when asked', async ({ page, request }) => {
  rmSync(path.join(lake, 'north/crew.csv'));
  const { id } = (await json(request.get('/api/crawls')) as { id: number; name: string }[]).find((each) => each.name === 'additions')!;
  const { runId } = await json(request.post(`/api/crawls/${id}/run`, { data: {} })) as { runId: number };
  await page.goto(`/crawls/${runId}`);
  const row = page.getByRole('row').filter({ has: page.getByRole('button', { name: 'rules_lake.r_north_crew' }) });
  await expect(row).toContainText('gone');
  await row.getByRole('radio', { name: 'take out' }).click();
  await page.getByRole('button', { name: /^Register 1/ }).click();
  await expect(row).toContainText('taken out');
  expect((await request.get('/api/catalog/rules_lake/r_north_crew')).status()).toBe(404);
});

test('a crawl whose keys may not list fails at once and says which right is missing', async ({ request }) => {
  const { settings } = (await json(request.get('/api/storages')) as { name: string; settings: Record<string, string> }[]).find((each) => each.name === 'river-watch')!;
  const { endpoint, region, bucket } = settings;
  await request.post('/api/storages', { data: { name: 'no-keys', kind: 's3', endpoint, region, bucket, keys: { accessKeyId: 'nobody', secretAccessKey: 'none' } } });
  const id = await define(request, 'no keys', { folders: [{ storage: 'no-keys', folder: '' }] });
  expect((await run(request, id)).problem).toContain('does not accept the keys (InvalidAccessKeyId)');
});

test('tables of a database are found, registered, and read where they are together with the lake', async ({ request }) => {
  await expect.poll(async () => (await json(request.get('/api/storages')) as { name: string }[]).some((each) => each.name === 'fleet-office'), { timeout: 30_000 }).toBe(true);
  const id = await define(request, 'fleet', { namespace: 'fleet', folders: [{ storage: 'fleet-office', folder: 'fleet', kinds: ['table'] }] });
  const found = await run(request, id);
  expect(named(found.findings)).toEqual(['fleet.fleet_boats new', 'fleet.fleet_buoys new', 'fleet.fleet_crews new', 'fleet.fleet_visits new']);
  const { runId } = found.findings[0] as unknown as { runId: number };
  await request.post(`/api/crawl-runs/${runId}/register`, { data: {} });
  const answer = await json(request.post('/api/query', { data: { sql: "SELECT b.place, count(DISTINCT v.visit_id) FROM fleet.fleet_visits v JOIN fleet.fleet_buoys b USING (buoy_id) JOIN refined.soundings s ON s.buoy_id = v.buoy_id AND s.taken_at::DATE = v.visited_at::DATE WHERE v.work = 'lamp' AND v.visited_at >= '2026-03-20' AND s.taken_at >= '2026-03-20' GROUP BY 1 ORDER BY 1" } })) as { rows: unknown[][]; receipt: { tables: { name: string; asked?: string }[] } };
  expect(answer.rows.length).toBeGreaterThan(0);
  const asked = answer.receipt.tables.find((table) => table.name === 'fleet.fleet_visits')!.asked;
  expect(asked).toContain(`"work"::text = 'lamp'::text`);
  expect(asked).not.toContain('details');
  expect((await json(request.post('/api/query', { data: { sql: 'SELECT * FROM fleet.fleet_crews FOR SYSTEM_VERSION AS OF 3' } })) as { detail: string }).detail).toContain('keeps no versions');
});
