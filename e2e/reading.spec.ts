/** A folder of somebody's own downloads: what is sure is registered with one click, what is not is asked, and nothing fails afterwards. */
import { mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { expect, test, type Page } from '@playwright/test';

const lake = path.resolve('.cache/e2e-reading');
const write = (file: string, content: string | Buffer) => {
  mkdirSync(path.dirname(path.join(lake, file)), { recursive: true });
  writeFileSync(path.join(lake, file), content);
};
const rows = async (page: Page, sql: string) => ((await (await page.request.post('/api/query', { data: { sql } })).json()) as { rows: unknown[][] }).rows;

test.beforeAll(async ({ request }) => {
  rmSync(lake, { recursive: true, force: true });
  write('catches/catches.csv', 'Catch by harbor\n\nplace,landed,tons\nHolm Quay,03/04/2026,"1,234.5"\nLow Scar,05/06/2026,12.25\nWhinny Sands,01/02/2026,NA\nTotal,,1246.75\n');
  write('prices/prices.csv', '"","price"\n"1","$1,234.50"\n"2","$7.25"\n');
  write('tides/tides.tsv', Buffer.from('when\tlevel\n5. Januar 2026\t1,5\n17. M\xe4rz 2026\t2,5\n', 'latin1'));
  write('uneven/uneven.csv', 'a,b\n1,2\n3,4,5\n6,7\n');
  for (let n = 0; n < 120; n++) write(`many/m-${n}.csv`, `n\n${n === 77 ? '1.5' : n}\n`);
  write('later/more.csv', 'place,landed,tons\nHolm Quay,04/05/2026,1\nLow Scar,06/07/2026,2\n');
  write('books/book.ods', readFileSync('fixtures/kinds/book.ods'));
  write('books/half.zip', 'PK\u0003\u0004 and no more');
  write('north/crew.csv/crew.csv', 'name,boat\nA,Knot\n');
  write('south/crew.csv/crew.csv', 'name,boat\nB,Eel\n');
  await request.post('/api/storages', { data: { name: 'downloads', location: lake } });
});

test('what is uncertain is asked, a line that does not fit has a way out, and all that is registered can be read', async ({ page }) => {
  const { id } = (await (await page.request.post('/api/crawls/define', { data: { name: 'downloads', folders: [{ storage: 'downloads', folder: '', exclude: ['later/**', 'books/**', 'many/**'] }], namespace: 'own' } })).json()) as { id: number };
  const { runId } = (await (await page.request.post(`/api/crawls/${id}/run`, { data: {} })).json()) as { runId: number };
  await page.goto(`/crawls/${runId}`);
  await page.getByText('own.catches').click();
  const evidence = page.getByRole('region', { name: 'Evidence of the chosen finding' });
  await expect(evidence).toContainText('All 3 rows were read like this. In tons 1 text read as missing: “NA”.');
  await expect(evidence).toContainText('2 lines above the table are passed over.');
  await expect(evidence).toContainText('3 of 3 values are days written as month/day/year, or as day/month/year: both fit all of them.');
  await evidence.getByRole('button', { name: 'date as day/month/year' }).click();
  await expect(page.getByText('1 undecided')).toBeVisible();
  await page.getByText('own.uneven').click();
  await expect(evidence).toContainText('uneven.csv, line 3: expected 2 fields with comma between, found 3.');
  const refused = await page.request.patch(`/api/findings/${((await (await page.request.get(`/api/crawl-runs/${runId}`)).json()) as { findings: { id: number; name: string }[] }).findings.find((each) => each.name === 'uneven')!.id}`, { data: { decision: 'register' } });
  expect(refused.status()).toBe(409);
  await evidence.getByRole('button', { name: 'set lines that do not fit aside' }).click();
  await page.getByRole('button', { name: 'Register 6' }).click();
  await expect.poll(() => rows(page, 'SELECT * FROM own.catches ORDER BY place')).toEqual([['Holm Quay', '2026-04-03', 1234.5], ['Low Scar', '2026-06-05', 12.25], ['Whinny Sands', '2026-02-01', null]]);
  expect(await rows(page, 'SELECT * FROM own.prices')).toEqual([[1, '1234.50'], [2, '7.25']]);
  expect(await rows(page, 'SELECT * FROM own.tides')).toEqual([['2026-01-05', 1.5], ['2026-03-17', 2.5]]);
  expect(await rows(page, 'SELECT * FROM own.uneven')).toEqual([[1, 2], [6, 7]]);
  // Two folders that would take one name have it after the folders above them.
  expect([await rows(page, 'SELECT * FROM own.north_crew'), await rows(page, 'SELECT * FROM own.south_crew')]).toEqual([[['A', 'Knot']], [['B', 'Eel']]]);
});

test('what somebody corrected counts for files that look alike', async ({ request }) => {
  const { id } = (await (await request.post('/api/crawls/define', { data: { name: 'later downloads', folders: [{ storage: 'downloads', folder: 'later' }], namespace: 'own' } })).json()) as { id: number };
  const { runId } = (await (await request.post(`/api/crawls/${id}/run`, { data: {} })).json()) as { runId: number };
  const run = async () => (await (await request.get(`/api/crawl-runs/${runId}`)).json()) as { finishedAt: string | null; findings: { decision: string; evidence: { notes: string[] } }[] };
  await expect.poll(async () => (await run()).finishedAt).not.toBeNull();
  expect((await run()).findings).toMatchObject([{ decision: 'register', evidence: { notes: ['landed is read as it was corrected for own.catches'] } }]);
  await request.post(`/api/crawl-runs/${runId}/register`, { data: {} });
  const { rows: found } = (await (await request.post('/api/query', { data: { sql: 'SELECT landed FROM own.later ORDER BY 1' } })).json()) as { rows: unknown[][] };
  expect(found).toEqual([['2026-05-04'], ['2026-07-06']]);
});

test('a spreadsheet is a folder of its sheets, and a broken archive says so', async ({ page }) => {
  await page.goto('/storage/downloads/books?file=book.ods');
  await page.getByRole('table', { name: 'What is in it' }).getByRole('link', { name: 'Quays.csv' }).click();
  await expect(page).toHaveURL(/books\/book\.ods\?file=Quays\.csv/);
  await expect(page.getByRole('region', { name: 'The chosen file' })).toContainText('Holm "Quay"');
  await expect(page.getByRole('button', { name: 'Upload' })).toHaveCount(0);
  await page.getByRole('region', { name: 'The chosen file' }).getByRole('link', { name: 'book.ods' }).click();
  await expect(page.getByRole('table', { name: 'What is in it' })).toBeVisible();
  expect(await rows(page, 'SELECT * FROM "downloads:books/book.ods/Boats.csv" ORDER BY 1')).toEqual([['B1', 5.5], ['B2', 6.25], ['B3', 7]]);
  await page.goto('/storage/downloads/books?file=half.zip');
  await expect(page.getByRole('region', { name: 'The chosen file' })).toContainText('downloads:books/half.zip cannot be read as a zip archive');
});

test('of many files some are read first, and all of them when somebody asks', async ({ page }) => {
  const { id } = (await (await page.request.post('/api/crawls/define', { data: { name: 'many', folders: [{ storage: 'downloads', folder: 'many' }], namespace: 'own' } })).json()) as { id: number };
  const { runId } = (await (await page.request.post(`/api/crawls/${id}/run`, { data: {} })).json()) as { runId: number };
  await page.goto(`/crawls/${runId}`);
  const evidence = page.getByRole('region', { name: 'Evidence of the chosen finding' });
  await expect(evidence).toContainText('of 120 files were read like this');
  await evidence.getByRole('button', { name: 'Read all of it' }).click();
  await expect(evidence).toContainText('All 120 rows were read like this.');
  await expect(evidence).toContainText('n double');
  await page.getByRole('button', { name: 'Register 1' }).click();
  await expect.poll(() => rows(page, 'SELECT count(*), max(n), count(*) FILTER (WHERE n = 1.5) FROM own.many')).toEqual([[120, 119, 1]]);
});
