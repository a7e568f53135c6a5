/** Every route of the API and every kind of statement, asked by tokens of every right: by rule, and none without a decision. */
import { expect, test, type APIRequestContext } from '@playwright/test';

const RIGHTS = ['see', 'read', 'write', 'manage'] as const;
type Right = (typeof RIGHTS)[number];

/** What each route asks for: a right, or `inside` where it depends on what is in the request. A route that is not here has no decision, and fails. */
const DECISIONS: Record<string, Right | 'inside'> = {
  ...routes('read', `GET /access/connect, GET /access/tokens, GET /catalog-document, GET /catalog/{namespace}/{table}/delta, GET /catalog/{namespace}/{table}/delta/log-check, GET /catalog/{namespace}/{table}/delta/upkeep,
    GET /catalog/{namespace}/{table}/iceberg, GET /catalog/{namespace}/{table}/iceberg/upkeep, GET /catalog/{namespace}/{table}/misfits, GET /catalog/{namespace}/{table}/conversion, GET /catalog/{namespace}/{table}/profile, POST /catalog/{namespace}/{table}/profile, GET /crawl-runs/{run},
    GET /crawls, GET /crawls/{crawl}, GET /drift, GET /events, GET /findings/{finding}, GET /find, GET /jobs, GET /jobs/{id}, GET /load, GET /read-options, GET /receipts, GET /receipts/{id}, GET /revisions, GET /revisions/compare, GET /saved-queries, GET /storages,
    GET /storages/{storage}/list, GET /storages/{storage}/look, GET /storages/{storage}/objects, GET /storages/{storage}/ruler, GET /storages/{storage}/summary, GET /storages/{storage}/table, POST /storages/{storage}/landing/plan`),
  ...routes('see', `GET /catalog/{namespace}/{table}, GET /catalog/{namespace}/{table}/history, GET /catalog/{namespace}/{table}/readers, GET /catalog/{namespace}/{table}/teardown, GET /namespaces/{namespace}/teardown`),
  ...routes('write', `PATCH /catalog/{namespace}/{table}, POST /catalog/{namespace}/{table}/restore, POST /catalog/{namespace}/{table}/delta/upkeep, POST /catalog/{namespace}/{table}/iceberg/upkeep, POST /catalog/{namespace}/{table}/iceberg/refs,
    PUT /catalog/{namespace}/{table}/iceberg/refs, POST /catalog/{namespace}/{table}/load, POST /catalog/{namespace}/{table}/load/plan, PUT /saved-queries/{name}, DELETE /saved-queries/{name}`),
  ...routes('manage', `POST /access/tokens, DELETE /access/tokens/{id}, POST /catalog, POST /catalog-document, DELETE /catalog/{namespace}/{table}, POST /catalog/{namespace}/{table}/delta/columns, POST /catalog/{namespace}/{table}/delta/copy,
    PUT /catalog/{namespace}/{table}/delta/properties, POST /catalog/{namespace}/{table}/flat-view, POST /catalog/{namespace}/{table}/conversion, POST /catalog/{namespace}/{table}/iceberg/columns, POST /catalog/{namespace}/{table}/iceberg/partitioning, PUT /catalog/{namespace}/{table}/iceberg/properties,
    POST /catalog/{namespace}/{table}/iceberg/sort-order, POST /catalog/{namespace}/{table}/iceberg/upgrade, PUT /catalog/{namespace}/{table}/partitions, POST /crawl-runs/{run}/register, POST /crawls, POST /crawls/define, POST /crawls/schedule-words,
    DELETE /crawls/{crawl}, PUT /crawls/{crawl}, POST /crawls/{crawl}/run, POST /dropped/{namespace}/{table}, POST /files/define, PATCH /findings/{finding}, POST /findings/{finding}/check, POST /findings/{finding}/correct, POST /jobs/{id}/cancel, DELETE /namespaces/{namespace},
    PATCH /namespaces/{namespace}, POST /read-options, DELETE /read-options/{name}, PATCH /read-options/{name}, POST /receipts/{id}/run, POST /storages, POST /storages/check, DELETE /storages/{storage}, PATCH /storages/{storage},
    POST /storages/{storage}/account, POST /storages/{storage}/adopt, POST /storages/{storage}/check, POST /storages/{storage}/folders, POST /storages/{storage}/landing, POST /storages/{storage}/look, POST /storages/{storage}/move,
    POST /storages/{storage}/remove, POST /storages/{storage}/uploads, DELETE /uploads/{upload}, PUT /uploads/{upload}, POST /uploads/{upload}/finish`),
  ...routes('inside', `GET /catalog, GET /catalog-document/schema, GET /dropped, POST /namespaces, POST /query, POST /query/plan, POST /query/{id}/cancel, GET /query/{id}/progress, GET /results/{id}/csv, GET /results/{id}/rows, POST /script, GET /session,
    POST /writes, POST /writes/forecast, POST /writes/trial`),
};

function routes(right: Right | 'inside', list: string): Record<string, Right | 'inside'> {
  return Object.fromEntries(list.split(/,\s*/).map((each) => [each.trim(), right]));
}

const rank = (right: Right | 'none') => RIGHTS.indexOf(right as Right);
async function token(request: APIRequestContext, on: string, right: Right): Promise<Record<string, string>> {
  const { text } = await (await request.post('/api/access/tokens', { data: { name: `${right} ${on}`, grants: [{ on, right }] } })).json();
  return { authorization: `Bearer ${text}` };
}

test('every route asks for the right that was decided, and none is without a decision', async ({ request, baseURL }) => {
  test.setTimeout(180_000);
  const { paths } = (await (await request.get('/api/openapi.json')).json()) as { paths: Record<string, Record<string, unknown>> };
  const all = Object.entries(paths).flatMap(([path, methods]) => Object.keys(methods).map((method) => `${method.toUpperCase()} ${path.slice('/api'.length)}`));
  expect(all.filter((route) => DECISIONS[route] === undefined), 'routes without a decision').toEqual([]);
  expect(Object.keys(DECISIONS).filter((route) => !all.includes(route)), 'decisions about no route').toEqual([]);
  const asked = { none: await token(request, 'nowhere', 'manage'), ...Object.fromEntries(await Promise.all(RIGHTS.map(async (right) => [right, await token(request, '*', right)] as const))) } as Record<Right | 'none', Record<string, string>>;
  const wrong: string[] = [];
  for (const route of all) {
    const [method, path] = route.split(' ') as [string, string];
    const place = path.replaceAll('{id}', '00000000-0000-4000-8000-000000000000').replaceAll(/\{(run|crawl|finding)\}/g, '999999').replaceAll('{upload}', '0'.repeat(32)).replaceAll(/\{\w+\}/g, 'not_there');
    for (const [right, headers] of Object.entries(asked) as [Right | 'none', Record<string, string>][]) {
      const abort = AbortSignal.timeout(3000);
      const status = await fetch(`${baseURL}/api${place}`, { method, headers: { ...headers, ...(method === 'GET' ? {} : { 'content-type': 'application/json' }) }, ...(method === 'GET' || method === 'DELETE' ? {} : { body: '{}' }), signal: abort }).then(async (answer) => {
        await answer.body?.cancel();
        return answer.status;
      });
      const decision = DECISIONS[route]!;
      if (status >= 500 || status === 401) wrong.push(`${route} as ${right}: ${status}`);
      if (decision === 'inside') continue;
      const isRefused = status === 403 || (right === 'none' && status === 404 && path.includes('{namespace}'));
      const isAllowed = rank(right) >= rank(decision);
      if (isRefused === isAllowed) wrong.push(`${route} as ${right}: ${status}, where ${decision} is asked for`);
    }
  }
  expect(wrong).toEqual([]);
});

const STATEMENTS: [right: Right, sql: string][] = [
  ['see', 'DESCRIBE matrix.T'], ['see', 'SHOW HISTORY OF matrix.T'], ['read', 'SHOW FILES OF matrix.T'], ['read', 'SELECT * FROM matrix.T'], ['read', 'SELECT * FROM matrix.V'], ['read', 'SHOW CREATE TABLE matrix.V'], ['read', "SELECT * FROM changes_of('matrix.D', 0)"],
  ['write', 'INSERT INTO matrix.T VALUES (2)'], ['write', 'UPDATE matrix.T SET k = k'], ['write', 'DELETE FROM matrix.T WHERE k = 99'], ['write', 'MERGE INTO matrix.T AS t USING (SELECT 5 AS k) AS s ON t.k = s.k WHEN NOT MATCHED THEN INSERT (k) VALUES (s.k)'],
  ['manage', 'CREATE TABLE matrix.new_RIGHT (a INTEGER)'], ['manage', 'CREATE VIEW matrix.seen_RIGHT AS SELECT k FROM matrix.T'], ['manage', 'ALTER TABLE matrix.T ADD COLUMN more_RIGHT INTEGER'],
  ['manage', 'CREATE NAMESPACE matrix.inner_RIGHT'], ['manage', 'DROP VIEW matrix.view_RIGHT'], ['manage', 'DROP TABLE matrix.more_RIGHT'], 
];

test('every kind of statement asks for its right on the table', async ({ request }) => {
  test.setTimeout(120_000);
  const run = (sql: string, headers: Record<string, string> = {}) => request.post('/api/query', { data: { sql }, headers });
  expect((await run('CREATE NAMESPACE matrix')).status()).toBe(200);
  for (const sql of ['CREATE TABLE matrix.T (k BIGINT)', 'INSERT INTO matrix.T VALUES (1)', 'CREATE VIEW matrix.V AS SELECT k FROM matrix.T', "CREATE TABLE matrix.D (k BIGINT) WITH (format = 'delta')", ...['none', ...RIGHTS].flatMap((right) => [`CREATE TABLE matrix.more_${right} (a INTEGER)`, `CREATE VIEW matrix.view_${right} AS SELECT 1 AS a`])]) expect((await run(sql)).status(), sql).toBe(200);
  const wrong: string[] = [];
  for (const right of ['none', ...RIGHTS] as const) {
    const headers = right === 'none' ? await token(request, 'nowhere', 'manage') : await token(request, 'matrix', right);
    for (const [needed, sql] of STATEMENTS) {
      const answer = await run(sql.replaceAll('RIGHT', right), headers);
      const isAllowed = rank(right) >= rank(needed);
      const expected = isAllowed ? [200] : right === 'none' ? [403, 404] : [403];
      if (!expected.includes(answer.status())) wrong.push(`${sql} as ${right}: ${answer.status()} ${(await answer.json()).detail ?? ''}`);
      const plan = await request.post('/api/query/plan', { data: { sql: sql.replaceAll('RIGHT', right) }, headers });
      if (right === 'none' && ![403, 404].includes(plan.status()) && !/^(DESCRIBE|SHOW|CREATE)/.test(sql)) wrong.push(`the plan of ${sql} as none: ${plan.status()}`);
    }
  }
  expect(wrong).toEqual([]);
});
