/** What people know of tables: trust, tags, columns, profiles, finding, namespaces, and the catalog as a document. */
import { expect, test } from '@playwright/test';

test('somebody vouches for a table, owns and tags it, and describes a column; all of it is found', async ({ page, request }) => {
  await page.goto('/catalog/refined/sightings');
  const summary = page.getByRole('region', { name: 'The chosen table' });
  await summary.getByRole('button', { name: 'vouch for it', exact: true }).click();
  await summary.getByLabel('Why it can be relied on').fill('Counted twice by two people');
  await summary.getByRole('button', { name: 'Vouch for it', exact: true }).click();
  await expect(summary).toContainText('by Ada Tern until');
  await summary.getByRole('button', { name: 'tag it' }).click();
  await summary.getByLabel(/Tags/).fill('wildlife, public');
  await summary.getByRole('button', { name: 'Keep' }).click();
  await expect(summary).toContainText('wildlife');
  await page.goto('/tables/refined/sightings?section=columns');
  await page.getByRole('button', { name: 'Describe how_many' }).click();
  await page.getByLabel('Description of how_many').fill('Animals, not groups');
  await page.getByLabel('Description of how_many').press('Enter');
  await expect(page.getByRole('row', { name: /how_many/ })).toContainText('Animals, not groups');
  const hits = async (q: string) => (await (await request.get(`/api/find?${q}`)).json()).hits.map((hit: { name: string }) => hit.name);
  expect(await hits('q=wildlife')).toEqual(['refined.sightings']);
  expect(await hits('q=not+groups&kind=column')).toEqual(['how_many']);
  await page.goto('/catalog');
  await page.keyboard.press('/');
  await page.keyboard.type('kind:column in:refined animals');
  await expect(page.getByRole('option', { name: /how_many/ })).toBeVisible();
});

test('a profile comes from metadata at once, and from the rows when asked', async ({ page }) => {
  await page.goto('/tables/refined/bottles?section=profile');
  const profile = page.getByRole('region', { name: 'Profile', exact: true });
  await expect(profile).toContainText('From metadata: told by the files themselves; no row was read');
  await expect(profile.getByRole('row', { name: /^nitrate_umol_l double 3%/ })).toBeVisible();
  await profile.getByRole('button', { name: 'Profile all rows' }).click();
  await expect(profile).toContainText('From all 8,689 rows');
  await expect(profile.getByRole('row', { name: /^bottle_id/ })).toContainText('8,689');
  await expect(profile.getByRole('row', { name: /^site/ })).toContainText('Otter Ness');
  await expect(profile.getByRole('img', { name: /oxygen_mg_l: from/ })).toBeVisible();
  await page.reload();
  await expect(profile).toContainText('From all 8,689 rows');
});

test('lines that do not fit are shown with their number and the reason', async ({ page, request }) => {
  await request.post('/api/catalog', { data: { storage: 'tern-bay', pattern: 'landing/tide-table/2025-08.txt', options: { format: 'fixed', columns: 'place 1-16, at 17-35, height_m 42-49', header: true, misfits: 'set-aside', forms: { height_m: { missing: [] } } }, namespace: 'tides', name: 'august', columns: [{ name: 'place', type: 'varchar' }, { name: 'at', type: 'timestamptz' }, { name: 'height_m', type: 'double' }] } });
  await page.goto('/tables/tides/august?section=misfits');
  const lines = page.getByRole('region', { name: 'Lines that do not fit' });
  await expect(lines).toContainText('40 of 960 lines do not fit');
  await expect(lines.getByRole('row').nth(1)).toContainText('"n/a" in height_m is not a double');
});

test('a namespace is nested, belongs to a folder, and goes with all in it after an account', async ({ request }) => {
  expect((await request.post('/api/namespaces', { data: { name: 'bay.north', description: 'The north shore', place: { storage: 'tern-bay', folder: 'landing/limits' } } })).status()).toBe(200);
  const { runId } = await (await request.post('/api/crawls', { data: { storage: 'tern-bay', folder: 'landing/limits' } })).json();
  await expect.poll(async () => (await (await request.get(`/api/crawl-runs/${runId}`)).json()).finishedAt).not.toBeNull();
  await request.post('/api/catalog', { data: { storage: 'tern-bay', pattern: 'landing/limits/*.csv', namespace: 'bay.north', name: 'shore_limits' } });
  expect((await (await request.post('/api/query', { data: { sql: 'SELECT count(bay.north.shore_limits.measure) FROM bay.north.shore_limits' } })).json()).rows).toEqual([[22]]);
  const account = await (await request.get('/api/namespaces/bay.north/teardown')).json();
  expect(account.relations).toMatchObject([{ name: 'bay.north.shore_limits', files: 1, managed: false }]);
  expect((await request.delete('/api/namespaces/bay.north')).status()).toBe(409);
  expect(await (await request.delete('/api/namespaces/bay.north?confirm=bay.north')).json()).toEqual({ namespace: 'bay.north', relations: ['bay.north.shore_limits'], files: 0 });
  expect((await (await request.get('/api/storages/tern-bay/list?path=landing/limits')).json()).fileCount).toBe(1);
});

test('the catalog goes out as a document and comes back; two revisions are compared', async ({ request }) => {
  const before = (await (await request.get('/api/revisions?limit=1')).json())[0].number;
  await request.post('/api/catalog', { data: { storage: 'tern-bay', pattern: 'landing/limits/*.csv', namespace: 'exported', name: 'limits', columns: [{ name: 'measure', type: 'varchar' }, { name: 'lowest', type: 'double' }] } });
  await request.patch('/api/catalog/exported/limits', { data: { description: 'Two columns of the limits', tags: ['small'], notes: { lowest: { description: 'Not under this', tags: [] } } } });
  const document = await (await request.get('/api/catalog-document')).json();
  const after = (await (await request.get('/api/revisions?limit=1')).json())[0].number;
  expect((await request.delete('/api/catalog/exported/limits')).status()).toBe(200);
  const gone = (await (await request.get('/api/revisions?limit=1')).json())[0].number;
  const compare = async (from: number, to: number) => (await (await request.get(`/api/revisions/compare?from=${from}&to=${to}`)).json()).tables.filter((each: { name: string }) => each.name === 'exported.limits');
  expect(await compare(before, after)).toEqual([{ name: 'exported.limits', change: 'added' }]);
  expect(await compare(after, gone)).toEqual([{ name: 'exported.limits', change: 'gone' }]);
  const imported = await (await request.post('/api/catalog-document', { data: document })).json();
  expect(imported).toMatchObject({ created: ['exported.limits'], left: [] });
  const again = await (await request.get('/api/catalog/exported/limits')).json();
  expect(again).toMatchObject({ description: 'Two columns of the limits', tags: ['small'], notes: { lowest: { description: 'Not under this' } } });
  expect(again.columns.map((column: { name: string }) => column.name)).toEqual(['measure', 'lowest']);
  const schema = await (await request.get('/api/catalog-document/schema')).json();
  expect(Object.keys(schema.properties)).toEqual(expect.arrayContaining(['namespaces', 'relations', 'readOptions', 'crawls']));
  expect((await request.post('/api/catalog-document', { data: { document: 'catalog', version: 9 } })).status()).toBe(400);
  expect((await request.delete('/api/catalog/exported/limits')).status()).toBe(200);
});
