/** A whole database is copied to the lake, many tables at a time; both sides are counted, and one failure leaves the others. */
import { mkdirSync, readdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { expect, test } from '@playwright/test';
import { home } from './served';

const folder = path.resolve(`${home}/lake/tern-bay/made/office`);
test.afterAll(() => rmSync(folder, { recursive: true, force: true }));

test('the fleet office is landed from its page, and read in the lake as it is there', async ({ page, request }) => {
  await expect.poll(async () => (await request.get('/api/storages/fleet-office/objects')).status(), { timeout: 20_000 }).toBe(200);
  await page.goto('/storage/fleet-office');
  await page.getByRole('button', { name: 'Land it…' }).click();
  const panel = page.getByRole('region', { name: 'Land this database' });
  await panel.getByLabel('Below folder').fill('made/office');
  await expect(panel.getByRole('row', { name: /^fleet.boats/ })).toContainText('made/office/postgres/fleet/boats/rows.parquet');
  await panel.getByRole('button', { name: 'Land 5 tables' }).click();
  await expect(panel).toContainText('rows at the source and in the lake agree in all of them.', { timeout: 20_000 });
  await expect(panel.getByRole('row', { name: /^fleet.visits 5,000 5,000 0/ })).toContainText('new');
  const rows = async (sql: string) => (await (await request.post('/api/query', { data: { sql } })).json()).rows as unknown[][];
  expect(await rows('SELECT * FROM "tern-bay:made/office/postgres/fleet/boats" ORDER BY ALL')).toEqual(await rows('SELECT * FROM "fleet-office:fleet.boats" ORDER BY ALL'));
  expect(await rows('SELECT count(*), count(DISTINCT v) FROM (SELECT v FROM "tern-bay:made/office/postgres/fleet/visits" AS v)')).toEqual(await rows('SELECT count(*), count(DISTINCT v) FROM (SELECT v FROM "fleet-office:fleet.visits" AS v)'));
});

test('landed again, one table that fails leaves the others; a choice of tables is taken by pattern', async ({ request }) => {
  rmSync(path.join(folder, 'postgres/fleet/boats'), { recursive: true });
  mkdirSync(path.join(folder, 'postgres/fleet/boats/rows.parquet/in-the-way'), { recursive: true });
  const ask = { to: { storage: 'tern-bay', folder: 'made/office' }, tables: ['fleet.*'], atOnce: 1 };
  const { jobId } = await (await request.post('/api/storages/fleet-office/landing', { data: ask })).json();
  const job = async () => (await (await request.get(`/api/jobs/${jobId}`)).json()) as { state: string; result: { failed: number; tables: { table: string; problem: string | null; difference: number | null; isNew: boolean; newColumns: string[] }[] } };
  await expect.poll(async () => (await job()).state, { timeout: 20_000 }).toBe('done');
  const { tables, failed } = (await job()).result;
  expect(failed).toBe(1);
  expect(tables.map((each) => each.table)).toEqual(['fleet.boats', 'fleet.buoys', 'fleet.crews', 'fleet.visits']);
  expect(tables[0]!.problem).not.toBeNull();
  expect(tables.slice(1)).toEqual(tables.slice(1).map((each) => ({ ...each, problem: null, difference: 0, isNew: false, newColumns: [] })));
  expect(readdirSync(path.join(folder, 'postgres/fleet/visits'))).toEqual(['rows.parquet']);
  expect((await request.post('/api/storages/fleet-office/landing', { data: { ...ask, tables: ['nothing.*'] } })).status()).toBe(404);
  const planned = async (more: object) => (await (await request.post('/api/storages/fleet-office/landing/plan', { data: { to: ask.to, ...more } })).json()) as { tables: { table: string; path: string }[]; detail?: string };
  expect((await planned({ query: "SELECT 'fleet', name FROM (VALUES ('visits'), ('boats')) AS t(name)" })).tables.map((each) => each.table)).toEqual(['fleet.visits', 'fleet.boats']);
  expect((await planned({ query: "SELECT 'fleet.Boats'" })).detail).toContain('has no table fleet.Boats, which the query names');
  expect((await planned({ query: 'SELECT 1, 2, 3' })).detail).toContain('gives 3 columns');
  expect((await planned({ database: 'annex', tables: ['fleet.boats'] })).tables.map((each) => each.path)).toEqual(['made/office/annex/fleet/boats/rows.parquet']);
  expect((await request.post('/api/storages/tern-bay/landing', { data: ask })).status()).toBe(400);
  expect((await request.post('/api/storages/fleet-office/landing', { data: { ...ask, to: { storage: 'tern-bay', folder: '../out' } } })).status()).toBe(400);
});
