/** One story over a local folder and over an object store that is slow, busy, broken and cut off: it must end alike. */
import { cpSync, mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { expect, test, type APIRequestContext, type Page } from '@playwright/test';
import { ObjectStoreStandIn } from '../server/standins/object-store';
import { home } from './served';

const root = path.resolve('.cache/e2e-both');
const lake = path.resolve(`${home}/lake/tern-bay`);
const keys = { accessKeyId: 'both', secretAccessKey: 'alike', rights: ['list', 'read', 'write', 'delete'] as const };
const standIn = new ObjectStoreStandIn(path.join(root, 'buckets'), [keys]);
const FAULTS = { delayMs: 2, throttleEvery: 11, failEvery: 17, loseAnswerEvery: 23, cutEvery: 7 };
const sheet = (day: string) => ({ name: `${day}.csv`, mimeType: 'text/csv', buffer: Buffer.from(`day,buoy,note\n${day},TB-01,cleaned\n${day},TB-02,lamp\n`) });
const json = async <T>(answer: Promise<{ json(): Promise<unknown> }>) => (await (await answer).json()) as T;
const rowsOf = async (request: APIRequestContext, sql: string) => {
  const answer = await json<{ rows?: unknown[][]; detail?: string }>(request.post('/api/query', { data: { sql } }));
  return answer.rows ?? answer.detail;
};

test.beforeAll(() => {
  rmSync(root, { recursive: true, force: true });
  standIn.addBucket('bay');
});
test.afterAll(async () => standIn.close());

/** A few folders of the demo lake, and files that another library wrote, in folders called after the storage. */
function landAt(folder: string, name: string): void {
  mkdirSync(folder, { recursive: true });
  for (const part of ['landing/limits', 'landing/tide-table', 'landing/notices', 'landing/bottle-sheets', 'landing/scratch', 'landing/soundings', 'refined/bottles', 'refined/sightings']) cpSync(path.join(lake, part), path.join(folder, part.replace('landing', `${name}_raw`).replace('refined', `${name}_lab`)), { recursive: true, filter: (from) => !/day=2026-0[12]/.test(from) });
  cpSync('fixtures/plain/readings-snappy.avro', path.join(folder, `${name}_raw/readings/one.avro`));
}

async function storyOf(name: string, page: Page, request: APIRequestContext): Promise<unknown[]> {
  const told: unknown[] = [];
  const tell = async (sql: string) => told.push(await rowsOf(request, sql));
  await page.goto(`/storage/${name}/${name}_raw`);
  await page.getByRole('button', { name: 'New folder' }).click();
  await page.getByLabel('Name of the folder').fill('visits');
  await page.getByRole('button', { name: 'Make it' }).click();
  await page.getByRole('button', { name: 'visits/' }).click();
  await page.getByLabel('Files to upload').setInputFiles([sheet('2026-03-01'), sheet('2026-03-02')]);
  await expect(page.getByRole('region', { name: 'Uploads' })).toContainText('2 of 2 files uploaded', { timeout: 20_000 });

  await page.goto(`/storage/${name}`);
  await page.getByRole('button', { name: /^Crawl this/ }).click();
  await expect(page.getByText(/^\d+ undecided$/)).toBeVisible({ timeout: 40_000 });
  const runId = Number(/crawls\/(\d+)/.exec(page.url())![1]);
  const found = async (id: number) => (await json<{ findings: { namespace: string; name: string; status: string; format: string; files: number; rows: number }[] }>(request.get(`/api/crawl-runs/${id}`))).findings.map((each) => [each.name, each.status, each.format, each.files, each.rows]).sort();
  told.push(await found(runId));
  await page.getByRole('button', { name: /^Register \d+/ }).click();
  await expect(page.getByRole('status').filter({ hasText: /^Registered / })).toBeVisible({ timeout: 40_000 });
  const tables = (await json<{ relations: { namespace: string; name: string; storage: string }[] }>(request.get('/api/catalog'))).relations.filter((each) => each.storage === name).sort((a, b) => (a.name < b.name ? -1 : 1));
  for (const each of tables) {
    told.push(each.name);
    await tell(`SELECT count(*) FROM "${each.namespace}"."${each.name}"`);
  }
  const of = (table: string) => `"${tables.find((each) => each.name === table)!.namespace}".${table}`;
  await tell(`SELECT id, level, hex(raw) FROM ${of('readings')} ORDER BY id LIMIT 3`);
  await tell(`SELECT buoy_id, count(*), max(depth_m) FROM ${of('soundings')} WHERE day = DATE '2026-03-14' GROUP BY 1 ORDER BY 1 LIMIT 5`);
  await tell(`SELECT count(*) FROM ${of('bottles')} FOR SYSTEM_VERSION AS OF 3`);
  const restored = await json<{ version?: number; detail?: string }>(request.post(`/api/catalog/${name}_lab/bottles/restore`, { data: { version: '3' } }));
  told.push(restored.detail ?? restored.version);
  await tell(`SELECT count(*) FROM ${of('bottles')}`);

  await page.goto(`/storage/${name}/${name}_raw/visits`);
  await page.getByLabel('Files to upload').setInputFiles([sheet('2026-03-03')]);
  await expect(page.getByRole('region', { name: 'Uploads' })).toContainText('1 of 1 file', { timeout: 20_000 });
  await tell(`SELECT count(*), max(day) FROM ${of('visits')}`);
  const again = await json<{ runId: number }>(request.post('/api/crawls', { data: { storage: name, folder: '' } }));
  await expect.poll(async () => (await json<{ finishedAt: string | null }>(request.get(`/api/crawl-runs/${again.runId}`))).finishedAt, { timeout: 40_000 }).not.toBeNull();
  const { opened, problem } = await json<{ opened: number; problem: string | null }>(request.get(`/api/crawl-runs/${again.runId}`));
  told.push(opened, problem, await found(again.runId));
  told.push((await request.post(`/api/storages/${name}/move`, { data: { from: `${name}_raw/limits`, to: `${name}_raw/limits-before`, evenIfUsed: true } })).status());
  await tell(`SELECT count(*) FROM ${of('limits')}`);
  return told;
}

test('a local folder and an object store full of faults tell the same story', async ({ page, request }) => {
  test.setTimeout(180_000);
  landAt(path.join(root, 'local'), 'here');
  landAt(path.join(root, 'buckets/bay/lake'), 'there');
  expect((await request.post('/api/storages', { data: { name: 'here', location: path.join(root, 'local') } })).status()).toBe(200);
  const local = await storyOf('here', page, request);
  const endpoint = await standIn.listen(0);
  expect((await request.post('/api/storages', { data: { name: 'there', kind: 's3', endpoint, region: 'bay-1', bucket: 'bay', prefix: 'lake', keys: { accessKeyId: keys.accessKeyId, secretAccessKey: keys.secretAccessKey } } })).status()).toBe(200);
  standIn.faults = FAULTS;
  const far = await storyOf('there', page, request);
  expect(local).toEqual(expect.arrayContaining([[['9007199254740992', '-12.5000', '0000FF'], ['9007199254740993', '-12.3750', '0100FE'], ['9007199254740994', '-12.2500', '0200FD']], 14, [[5610]], [[6, '2026-03-03']]]));
  expect(far.map((each) => JSON.stringify(each).replaceAll('there', 'here'))).toEqual(local.map((each) => JSON.stringify(each)));
});
