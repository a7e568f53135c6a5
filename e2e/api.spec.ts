/** The HTTP API as other tools see it: its fixed shapes, its problem documents, its guard. */
import { randomUUID } from 'node:crypto';
import { readdirSync, readFileSync } from 'node:fs';
import { request as httpRequest } from 'node:http';
import path from 'node:path';
import { expect, test, type APIRequestContext } from '@playwright/test';
import { parquetMetadataAsync } from 'hyparquet';
import { home } from './served';

const query = (request: APIRequestContext, sql: string, more: Record<string, unknown> = {}) => request.post('/api/query', { data: { sql, ...more } });

test('health tells the version once the demo is whole', async ({ request }) => {
  const answer = await request.get('/api/health');
  expect([answer.status(), await answer.json()]).toEqual([200, { status: 'ok', version: expect.stringMatching(/^\d+\.\d+\.\d+$/) }]);
});

test('a query answers with columns, rows and a receipt of the fixed shape', async ({ request }) => {
  const answer = await query(request, "SELECT buoy_id, count(*) AS readings FROM refined.soundings WHERE taken_at >= '2026-03-14' AND taken_at < '2026-03-15' AND buoy_id = 'TB-03' GROUP BY buoy_id");
  expect(await answer.json()).toMatchObject({
    columns: [{ name: 'buoy_id', type: 'varchar' }, { name: 'readings', type: 'bigint' }], rows: [['TB-03', 144]], rowCount: 1, truncated: false,
    receipt: {
      tables: [{ name: 'refined.soundings', format: 'iceberg', version: 36, snapshotId: expect.stringMatching(/^\d+$/), files: { total: 180, skippedByPartition: 178, skippedByBounds: 1, read: 1 }, bytes: { total: expect.any(Number), read: expect.any(Number) } }],
      planMs: expect.any(Number), engineMs: expect.any(Number), totalMs: expect.any(Number),
    },
  });
});

test('rows are limited to 1,000 unless asked otherwise', async ({ request }) => {
  expect(await (await query(request, 'SELECT * FROM refined.bottles')).json()).toMatchObject({ rowCount: 1000, truncated: true });
  expect(await (await query(request, 'SELECT * FROM refined.bottles', { maxRows: 5 })).json()).toMatchObject({ rowCount: 5, truncated: true });
});

test('the same question of the same versions gives the same answer, also after the table moved on', async ({ request }) => {
  const sql = 'SELECT count(*) AS n, count(DISTINCT measure) AS measures FROM refined.water_limits';
  const first = await (await query(request, sql)).json();
  const { version } = await (await request.post('/api/catalog/refined/water_limits/restore', { data: { version: '0' } })).json();
  expect((await (await query(request, sql)).json()).rows).toEqual([[0, 0]]);
  const again = await (await request.post(`/api/receipts/${first.receipt.id}/run`, { data: {} })).json();
  expect(again.rows).toEqual(first.rows);
  expect(again.receipt.tables[0]).toMatchObject({ version: first.receipt.tables[0].version, past: true });
  await request.post('/api/catalog/refined/water_limits/restore', { data: { version: String(first.receipt.tables[0].version) } });
  const [write] = await (await request.get('/api/receipts?kind=write&limit=1')).json();
  expect(write).toMatchObject({ kind: 'write', outcome: 'done', who: 'Ada Tern', written: { table: 'refined.water_limits', version: version + 1 } });
});

test('versions, snapshot ids and times all name a state', async ({ request }) => {
  const history = (await (await request.get('/api/catalog/refined/soundings/history')).json()).entries as { version?: number; snapshotId?: string; at: number }[];
  const tenth = history.find((entry) => entry.version === 10)!;
  const counts = await Promise.all([`FOR SYSTEM_VERSION AS OF 10`, `FOR SYSTEM_VERSION AS OF ${tenth.snapshotId}`, `FOR SYSTEM_TIME AS OF TIMESTAMP '${new Date(tenth.at).toISOString()}'`, `AT (VERSION => 10)`]
    .map(async (clause) => (await (await query(request, `SELECT count(*) FROM refined.soundings ${clause}`)).json()).rows[0][0]));
  expect(new Set(counts)).toEqual(new Set([442080]));
  expect(history.filter((entry) => entry.version !== undefined).length).toBeGreaterThanOrEqual(20);
});

test('files can be asked where they lie, without registering them', async ({ request }) => {
  const landed = await (await query(request, `SELECT count(*), count(chlorophyll_ug_l) > 0 FROM "tern-bay:landing/soundings" WHERE day = '2026-03-14'`)).json();
  const day = `${home}/lake/tern-bay/landing/soundings/day=2026-03-14`;
  const counts = await Promise.all(readdirSync(day).map(async (name) => Number((await parquetMetadataAsync(new Uint8Array(readFileSync(path.join(day, name))).buffer)).num_rows)));
  expect(landed.rows).toEqual([[counts.reduce((sum, count) => sum + count, 0), true]]);
  expect(landed.receipt.tables[0].files).toEqual({ total: 720, skippedByPartition: 712, skippedByBounds: 0, read: 8 });
});

test.describe('what goes wrong is a problem document', () => {
  const cases: [what: string, path: string, data: unknown, status: number, detail: RegExp, more?: Record<string, unknown>][] = [
    ['an unknown table', '/api/query', { sql: 'SELECT * FROM refined.bottle' }, 404, /There is no table refined\.bottle/, { position: 14, hint: expect.stringContaining('refined.bottles') }],
    ['a statement that is none of ours', '/api/query', { sql: 'VACUUM refined.bottles' }, 403, /starts with VACUUM/],
    ['two statements', '/api/query', { sql: 'SELECT 1; SELECT 2' }, 400, /found 2 statements/],
    ['a column that is not there', '/api/query', { sql: 'SELECT x FROM refined.bottles' }, 400, /"x" not found/, { position: 7 }],
    ['a value that does not fit', '/api/query', { sql: "SELECT 'abc'::INTEGER" }, 400, /Could not convert/],
    ['a misspelt field', '/api/query', { sql: 'SELECT 1', maxrows: 3 }, 400, /"maxrows" is not allowed/],
    ['a path that leaves its storage', '/api/query', { sql: 'SELECT * FROM "tern-bay:../../x"' }, 400, /"\.\." are not allowed/],
    ['an unknown storage', '/api/query', { sql: 'SELECT * FROM "nowhere:x"' }, 404, /There is no storage "nowhere"/],
    ['a folder that is not there', '/api/crawls', { storage: 'tern-bay', folder: '../etc' }, 400, /leaves its storage/],
    ['a relative folder', '/api/storages', { name: 'x', location: 'etc' }, 400, /not a full path/],
    ['a storage that exists', '/api/storages', { name: 'TERN-bay', location: '/tmp' }, 409, /already/],
  ];
  for (const [what, path, data, status, detail, more] of cases) {
    test(what, async ({ request }) => {
      const answer = await request.post(path, { data });
      expect(answer.status()).toBe(status);
      expect(answer.headers()['content-type']).toContain('application/problem+json');
      expect(await answer.json()).toMatchObject({ type: 'about:blank', status, detail: expect.stringMatching(detail), ...more });
    });
  }

  test('a body that is not JSON, an address that is not there', async ({ request }) => {
    expect((await request.post('/api/query', { headers: { 'content-type': 'application/json' }, data: Buffer.from('{') })).status()).toBe(400);
    expect(await (await request.get('/api/nothing')).json()).toMatchObject({ status: 404, detail: expect.stringContaining('/api/docs') });
  });
});

test('a statement has an id of its own, and nobody else stops it or learns of it', async ({ request }) => {
  const id = randomUUID();
  const run = (sql: string, key: string) => request.post('/api/query', { data: { sql, id: key } });
  expect((await run('SELECT 1', id)).status()).toBe(200);
  expect(await (await run('SELECT 2', id)).json()).toMatchObject({ status: 409, detail: expect.stringContaining('run under this id before') });
  expect((await (await request.get(`/api/receipts/${id}`)).json()).sql).toBe('SELECT 1');
  const { text: token } = await (await request.post('/api/access/tokens', { data: { name: 'stranger', grants: [{ on: '*', right: 'manage' }] } })).json();
  const long = randomUUID();
  const going = run('SELECT count(*) FROM range(100000000000)', long);
  await expect.poll(async () => (await run('SELECT 1', long)).status()).toBe(409);
  const stranger = { headers: { authorization: `Bearer ${token}` } };
  expect(await (await request.post(`/api/query/${long}/cancel`, stranger)).json()).toEqual({ cancelled: false });
  expect(await (await request.get(`/api/query/${long}/progress`, stranger)).json()).toBeNull();
  expect(await (await request.post(`/api/query/${long}/cancel`)).json()).toEqual({ cancelled: true });
  expect((await going).status()).toBe(409);
});

test('a foreign page, or a foreign name for this server, is turned away', async ({ request, baseURL }) => {
  expect((await request.post('/api/query', { data: { sql: 'SELECT 1' }, headers: { origin: 'http://evil.example' } })).status()).toBe(403);
  for (const site of ['cross-site', 'same-site']) expect((await request.get('/api/catalog', { headers: { 'sec-fetch-site': site } })).status()).toBe(403);
  const status = await new Promise<number | undefined>((resolve, reject) => {
    httpRequest(`${baseURL}/api/catalog`, { headers: { host: 'evil.example' } }, (response) => resolve(response.statusCode)).on('error', reject).end();
  });
  expect(status).toBe(421);
});

test('the API describes itself, and every described GET without parameters answers', async ({ request }) => {
  const document = await (await request.get('/api/openapi.json')).json();
  expect(document).toMatchObject({ openapi: '3.1.0', paths: { '/api/query': { post: { requestBody: { content: { 'application/json': { schema: { properties: { sql: { type: 'string' } }, required: ['sql'] } } } } } } } });
  const plain = Object.entries(document.paths as Record<string, { get?: { parameters?: { required: boolean }[] } }>).filter(([path, { get }]) => get && !get.parameters?.some((each) => each.required) && path !== '/api/events').map(([path]) => path);
  expect(plain.length).toBeGreaterThan(4);
  for (const path of plain) expect((await request.get(path)).status(), path).toBe(200);
  expect(await (await request.get('/api/docs/')).text()).toContain('swagger-ui');
});

test('every change of the catalog is a numbered revision', async ({ request }) => {
  const revisions = (await (await request.get('/api/revisions?limit=1000')).json()) as { number: number; action: string; subject: string; who: string }[];
  expect(revisions.map((each) => each.number)).toEqual([...revisions.map((each) => each.number)].sort((a, b) => b - a));
  expect(revisions).toEqual(expect.arrayContaining([expect.objectContaining({ action: 'connect storage', subject: 'tern-bay', who: 'Ada Tern' }), expect.objectContaining({ action: 'register table', subject: 'refined.bottles' })]));
});
