/** Files as tables, by hand: the path ruler, how files are read, uploads, acts on files, and an object store. */
import { expect, test } from '@playwright/test';

const query = async (request: import('@playwright/test').APIRequestContext, sql: string) => (await request.post('/api/query', { data: { sql } })).json();

test('the path ruler makes columns of steps, joins them into a date, and defines a table that one day of opens one folder', async ({ page, request }) => {
  await page.goto('/storage/tern-bay/landing/buoy-logs');
  const ruler = page.getByRole('region', { name: 'Read as one table' });
  await expect(ruler).toContainText('4,320 of 4,320 files match');
  await ruler.getByRole('radiogroup', { name: /Step 3/ }).getByRole('radio', { name: 'column' }).click();
  await ruler.getByRole('radiogroup', { name: /Step 6/ }).getByRole('radio', { name: 'column' }).click();
  await expect(ruler).toContainText('48 values');
  await ruler.getByLabel('Column name of step 6').fill('buoy');
  await ruler.getByLabel('Column name of step 6').press('Enter');
  await ruler.getByRole('button', { name: 'join year, month, day into one date column' }).click();
  await expect(ruler).toContainText('90 days, none missing');
  await expect(page).toHaveURL(/pattern=/);
  await ruler.getByRole('button', { name: 'Define a table' }).click();
  const define = page.getByRole('region', { name: 'Define a table' });
  await define.getByLabel('Table').fill('logs_by_hand');
  await define.getByLabel('Name of column 3').fill('event');
  await define.getByLabel('Type of field_6').selectOption('integer');
  await define.getByRole('button', { name: 'Register landing.logs_by_hand' }).click();
  await expect(define.getByRole('status')).toContainText('Registered landing.logs_by_hand');
  const answer = await query(request, "SELECT event, count(*) > 0 FROM landing.logs_by_hand WHERE date = DATE '2026-03-14' AND buoy = 'TB-17' GROUP BY ALL ORDER BY event");
  expect(answer.detail).toBeUndefined();
  expect(answer.rows).toEqual(['FIX', 'SEND', 'SLEEP', 'WAKE'].map((event) => [event, true]));
  expect(answer.receipt.tables[0].files).toMatchObject({ total: 4320, read: 1, skippedByPartition: 4319 });
});

test('what stands for a missing value is seen where the rest is numbers, and can be said; saved options are taken by tables and queries', async ({ page, request }) => {
  await page.goto('/storage/tern-bay/landing/tide-table?file=2025-08.txt');
  const look = page.getByRole('region', { name: 'The chosen file' });
  await look.getByRole('button', { name: 'How it is read' }).click();
  await expect(look.getByRole('columnheader', { name: /height_m double/ })).toBeVisible();
  await look.getByLabel('Texts for missing').fill('n/a');
  await expect(look.getByRole('columnheader', { name: /height_m double/ })).toBeVisible();
  await expect(look).toContainText(/0 of .* lines do not fit/);
  await look.getByLabel('Save as').fill('tide sheets');
  await look.getByRole('button', { name: 'Save', exact: true }).click();
  const { runId } = await (await request.post('/api/crawls', { data: { storage: 'tern-bay', folder: 'landing/tide-table' } })).json();
  await page.goto(`/crawls/${runId}`);
  const evidence = page.getByRole('region', { name: 'Evidence of the chosen finding' });
  await expect(evidence).toContainText('In height_m 80 texts read as missing: “n/a”.');
  await evidence.getByRole('button', { name: 'correct it' }).click();
  await evidence.getByLabel('Read with').selectOption('tide sheets');
  await evidence.getByRole('button', { name: 'Correct it', exact: true }).click();
  await expect(evidence.getByRole('form', { name: 'Correct it' })).toBeHidden();
  await expect(evidence.getByRole('region', { name: 'Statement' })).toContainText('height_m double');
  await page.getByRole('button', { name: 'Register 1' }).click();
  await expect(page.getByText('Registered landing.tide_table.')).toBeVisible();
  const followed = await query(request, 'SELECT count(*), count(height_m) FROM landing.tide_table');
  const named = await query(request, "SELECT count(*), count(height_m) FROM files('tern-bay:landing/tide-table/*.txt', read_as => 'tide sheets')");
  expect(named.rows).toEqual(followed.rows);
  expect(followed.rows[0][0] - followed.rows[0][1]).toBe(80);
  const saved = (await (await request.get('/api/read-options')).json()).find((each: { name: string }) => each.name === 'tide sheets');
  expect(saved.tables).toEqual(['landing.tide_table']);
  expect((await (await request.get('/api/catalog/landing/tide_table/misfits')).json()).count).toBe(0);
});

test('every kind of file in the lake and the neighbour\'s store is a table that answers', async ({ request }) => {
  const first = async (sql: string) => (await query(request, sql)).rows[0];
  expect(await first('SELECT count(*) > 60, min(issued)::DATE >= DATE \'2025-10-01\', count(DISTINCT place.text) FROM "tern-bay:landing/notices"')).toEqual([true, true, 8]);
  expect(await first('SELECT count(*), count(DISTINCT gauge), sum(level_m) > 0 FROM "river-watch:gauges" WHERE month = 2')).toEqual([2016, 3, true]);
  expect(await first('SELECT count(*), round(sum(rain_mm)) > 0 FROM "river-watch:rainfall"')).toEqual([90, true]);
  expect(await first('SELECT count(DISTINCT event) FROM (SELECT field_3 AS event FROM "tern-bay:landing/buoy-logs/2026/03/14/*.log.gz")')).toEqual([4]);
  const joined = await query(request, 'SELECT count(*) FROM "river-watch:rainfall" r JOIN (SELECT taken_at::DATE AS day, avg(turbidity_ntu) AS t FROM refined.soundings GROUP BY 1) s USING (day)');
  expect(joined.rows).toEqual([[90]]);
});

test('files are uploaded, seen at once, moved and removed; what a table uses is not removed by mistake', async ({ page, request }) => {
  await page.goto('/storage/river-watch');
  await page.getByRole('button', { name: 'New folder' }).click();
  await page.getByLabel('Name of the folder').fill('visits');
  await page.getByRole('button', { name: 'Make it' }).click();
  await page.getByRole('button', { name: 'visits/' }).click();
  await expect(page).toHaveURL(/river-watch\/visits/);
  const csv = (day: string) => ({ name: `${day}.csv`, mimeType: 'text/csv', buffer: Buffer.from(`day,buoy,note\n${day},TB-01,cleaned\n${day},TB-02,lamp\n`) });
  await page.getByLabel('Files to upload').setInputFiles([csv('2026-03-01'), csv('2026-03-02')]);
  await expect(page.getByRole('region', { name: 'Uploads' })).toContainText('2 of 2 files uploaded');
  const list = page.getByRole('list', { name: 'Folders and files' });
  await expect(list.getByRole('button', { name: /2026-03-02\.csv/ })).toBeVisible();
  expect((await query(request, 'SELECT count(*), max(day) FROM "river-watch:visits"')).rows).toEqual([[4, '2026-03-02']]);
  expect(await (await request.post('/api/catalog', { data: { storage: 'river-watch', pattern: 'visits/{file_day}.csv', namespace: 'river', name: 'visits' } })).json()).toMatchObject({ table: 'river.visits' });
  await list.getByLabel('Mark 2026-03-02.csv').check();
  await page.getByRole('button', { name: 'remove', exact: true }).click();
  const remove = page.getByRole('form', { name: 'Remove' });
  await expect(remove).toContainText('river.visits reads 1 of its 2 files there');
  await expect(remove.getByRole('button', { name: 'Remove for good' })).toBeDisabled();
  expect((await request.post('/api/storages/river-watch/remove', { data: { paths: ['visits/2026-03-02.csv'] } })).status()).toBe(409);
  await remove.getByLabel(/Type river.visits/).fill('river.visits');
  await remove.getByRole('button', { name: 'Remove for good' }).click();
  await expect(list.getByRole('button', { name: /2026-03-02\.csv/ })).toBeHidden();
  expect((await query(request, 'SELECT count(*) FROM river.visits')).rows).toEqual([[2]]);
  expect((await request.delete('/api/catalog/river/visits')).status()).toBe(200);
  expect(await (await request.post('/api/storages/river-watch/move', { data: { from: 'visits', to: 'old/visits' } })).json()).toEqual({ moved: 1 });
  await page.goto('/storage/river-watch/old/visits');
  await expect(page.getByRole('button', { name: /2026-03-01\.csv/ })).toBeVisible();
});

test('an upload that broke off goes on where it was, and shows only when it is whole', async ({ request }) => {
  const bytes = Buffer.from('a,b\n1,2\n'.repeat(1000));
  const begin = async () => (await request.post('/api/storages/tern-bay/uploads', { data: { path: 'landing/late/big.csv', bytes: bytes.length, mark: 'x' } })).json();
  const { id } = await begin();
  const put = (from: number, to: number) => request.put(`/api/uploads/${id}?offset=${from}`, { data: bytes.subarray(from, to), headers: { 'content-type': 'application/octet-stream' } });
  await put(0, 3000);
  expect((await request.post(`/api/uploads/${id}/finish`, { data: {} })).status()).toBe(409);
  expect((await request.get('/api/storages/tern-bay/list?path=landing/late')).status()).toBe(404);
  expect(await begin()).toMatchObject({ id, received: 3000 });
  expect((await put(100, 200)).status()).toBe(409);
  await put(3000, bytes.length);
  expect((await request.post(`/api/uploads/${id}/finish`, { data: {} })).status()).toBe(200);
  expect((await (await request.get('/api/storages/tern-bay/list?path=landing/late')).json()).files).toMatchObject([{ path: 'landing/late/big.csv', bytes: bytes.length }]);
  expect((await request.post('/api/storages/tern-bay/remove', { data: { paths: ['landing/late'] } })).status()).toBe(200);
});

test('a bucket is checked and connected by a person; its keys are never told', async ({ page, request }) => {
  const { settings } = (await (await request.get('/api/storages')).json()).find((each: { name: string }) => each.name === 'river-watch');
  await page.goto('/storage');
  await page.getByLabel('an S3-compatible bucket').check();
  const form = page.getByRole('form', { name: 'Connect a bucket' });
  for (const [label, text] of [['Name here', 'gauges-only'], ['Address of the store', settings.endpoint], ['Bucket', 'river-watch'], ['Folder in the bucket', 'gauges'], ['Access key', 'tern-bay-visitor'], ['Secret key', 'wrong']] as const) await form.getByLabel(label, { exact: label === 'Bucket' }).fill(text);
  await form.getByRole('button', { name: 'Check it first' }).click();
  await expect(form.getByRole('table', { name: 'What works' })).toContainText('does not accept the keys (SignatureDoesNotMatch)');
  await form.getByLabel('Secret key').fill('mind-the-ducks');
  await form.getByRole('button', { name: 'Check it first' }).click();
  await expect(form.getByRole('table', { name: 'What works' })).toContainText('a second writer was refused, so commits are safe');
  await form.getByRole('button', { name: 'Connect the bucket' }).click();
  await expect(page.getByRole('button', { name: '2026/' })).toBeVisible();
  expect(await (await request.get('/api/storages')).text()).not.toContain('mind-the-ducks');
  await page.goto('/storage');
  await page.getByRole('listitem').filter({ hasText: 'gauges-only' }).getByRole('button', { name: 'disconnect' }).click();
  await expect(page.getByRole('link', { name: 'gauges-only' })).toBeHidden();
});

test('a partition is hidden, or read from a folder of another place; the rest comes by the pattern', async ({ request }) => {
  const place = { storage: 'tern-bay', pattern: 'landing/soundings/day={day}/*.parquet' };
  expect((await request.post('/api/catalog', { data: { ...place, namespace: 'parted', name: 'soundings' } })).status()).toBe(200);
  const days = async () => (await query(request, "SELECT day::VARCHAR, count(*) FROM parted.soundings WHERE day BETWEEN DATE '2026-03-13' AND DATE '2026-03-15' GROUP BY 1 ORDER BY 1")).rows as [string, number][];
  const all = await days();
  expect(all.map(([day]) => day)).toEqual(['2026-03-13', '2026-03-14', '2026-03-15']);
  const ofFirst = async () => (await query(request, "SELECT count(*) FROM parted.soundings WHERE day = DATE '2026-01-01'")).rows[0][0] as number;
  const rowsOfFirst = await ofFirst();
  expect(rowsOfFirst).toBeGreaterThan(6000);
  const set = (exceptions: object[]) => request.put('/api/catalog/parted/soundings/partitions', { data: { exceptions } });
  expect((await set([{ values: { day: '2026-03-14' }, folder: null }, { values: { day: '2026-03-15' }, folder: 'landing/soundings/day=2026-01-01' }])).status()).toBe(200);
  expect(await days()).toEqual([all[0], ['2026-03-15', rowsOfFirst]]);
  expect(await ofFirst()).toBe(0);
  expect((await (await set([{ values: { month: '3' }, folder: null }])).json()).detail).toContain('"month" is no column of the path of parted.soundings.');
  expect((await (await set([{ values: { day: '2026-03-14' }, folder: 'landing/nowhere' }])).json()).detail).toContain('There is no folder landing/nowhere in tern-bay.');
  expect((await set([])).status()).toBe(200);
  expect(await days()).toEqual(all);
  await request.delete('/api/catalog/parted/soundings');
});
