/** The open REST catalog protocol (Apache Iceberg, "REST Catalog OpenAPI"): every endpoint, its status codes and errors. */
import { mkdirSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { newDataFile } from '../../core/iceberg/data-files';
import { addColumns, append } from '../../core/iceberg/operations';
import { writeManifestList } from '../../core/iceberg/manifest-list';
import { commitSnapshot } from '../../core/iceberg/snapshot-commit';
import { field } from '../../core/schema/types';
import { CountingIds, testPorts, writtenFile } from '../../core/testing/ports';
import { CatalogPointer, memoryCell } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import { createRelation, findRelation, getRelation } from '../catalog/relations';
import { randomIds, systemClock } from '../lake/lake';
import { RestBench } from '../testing/rest-bench';
import { ENDPOINTS } from './router';

let bench: RestBench;
let all: string;
const schema = { type: 'struct', 'schema-id': 0, fields: [{ id: 7, name: 'id', required: true, type: 'long' }, { id: 9, name: 'at', required: false, type: 'timestamptz' }, { id: 12, name: 'place', required: false, type: { type: 'struct', fields: [{ id: 20, name: 'lat', required: false, type: 'double' }] } }] };
beforeAll(async () => {
  bench = await RestBench.start();
  all = await bench.token({ on: '*', right: 'manage' });
});
afterAll(() => bench.stop());
const ask: RestBench['ask'] = (method, at, options = {}) => bench.ask(method, at, { token: all, ...options });
const create = (namespace: string, name: string, more: Record<string, unknown> = {}) => ask('POST', `/v1/namespaces/${namespace}/tables`, { body: { name, schema, ...more } });
const commit = (namespace: string, name: string, body: unknown, more: Parameters<typeof ask>[2] = {}) => ask('POST', `/v1/namespaces/${namespace}/tables/${name}`, { body, ...more });
const tableOf = async (namespace: string, name: string) => bench.services.lake.table(await getRelation(bench.services.database, namespace, name)) as IcebergTable;

describe('access to the catalog', () => {
  it('needs a token that is good', async () => {
    expect((await bench.ask('GET', '/v1/config')).body).toMatchObject({ error: { type: 'NotAuthorizedException', code: 401 } });
    expect((await bench.ask('GET', '/v1/namespaces', { token: 'kh_0123456789abcdef_nothingofthekindatall' })).status).toBe(401);
    const { token, text } = await bench.services.tokens.issue({ name: 'short', grants: [{ on: '*', right: 'see' }], expiresAt: new Date(Date.now() + 60_000).toISOString() }, 'tester');
    expect((await bench.ask('GET', '/v1/config', { token: text })).status).toBe(200);
    const [row] = await bench.services.database.query<{ secret_hash: string }>('SELECT secret_hash FROM token WHERE id = $1', [token.id]);
    expect(text).not.toContain(row!.secret_hash);
    await bench.services.tokens.revoke(token.id, 'tester');
    expect((await bench.ask('GET', '/v1/config', { token: text })).status).toBe(401);
    const gone = await bench.services.tokens.issue({ name: 'old', grants: [{ on: '*', right: 'see' }], expiresAt: new Date(Date.now() - 1).toISOString() }, 'tester');
    expect((await bench.ask('GET', '/v1/config', { token: gone.text })).status).toBe(401);
  });

  it('gives a token for an hour for client credentials, and another for that one', async () => {
    const form = (fields: Record<string, string>) => bench.ask('POST', '/v1/oauth/tokens', { body: new URLSearchParams(fields).toString(), headers: { 'content-type': 'application/x-www-form-urlencoded' } });
    const [, id, secret] = /^kh_([^_]+)_(.+)$/.exec(all)!;
    const first = await form({ grant_type: 'client_credentials', client_id: id!, client_secret: secret!, scope: 'catalog' });
    expect(first.body).toMatchObject({ token_type: 'bearer', expires_in: 3600, issued_token_type: 'urn:ietf:params:oauth:token-type:access_token' });
    const second = await form({ grant_type: 'urn:ietf:params:oauth:grant-type:token-exchange', subject_token: first.body.access_token, subject_token_type: 'urn:ietf:params:oauth:token-type:access_token' });
    expect((await bench.ask('GET', '/v1/namespaces', { token: second.body.access_token })).status).toBe(200);
    expect(await form({ grant_type: 'client_credentials', client_id: id!, client_secret: 'x'.repeat(24) })).toMatchObject({ status: 401, body: { error: 'invalid_client' } });
    expect(await form({ grant_type: 'password' })).toMatchObject({ status: 400, body: { error: 'unsupported_grant_type' } });
    const token: string = first.body.access_token;
    expect((await bench.ask('GET', '/v1/namespaces', { token: `${token.slice(0, -1)}${token.endsWith('0') ? '1' : '0'}` })).status).toBe(401);
  });

  it('shows and lets do only what is granted, on namespaces and on single tables', async () => {
    for (const namespace of ['open', 'shut']) await ask('POST', '/v1/namespaces', { body: { namespace: [namespace] } });
    for (const [namespace, name] of [['open', 'a'], ['open', 'b'], ['shut', 'c'], ['shut', 'd']] as const) expect((await create(namespace, name)).status).toBe(200);
    const some = await bench.token({ on: 'open', right: 'read' }, { on: 'shut.c', right: 'write' });
    const as = (method: string, at: string, body?: unknown) => bench.ask(method, at, { token: some, ...(body === undefined ? {} : { body }) });
    expect((await as('GET', '/v1/namespaces')).body.namespaces).toEqual([['open'], ['shut']]);
    expect((await as('GET', '/v1/namespaces/open/tables')).body.identifiers.map((each: { name: string }) => each.name)).toEqual(['a', 'b']);
    expect((await as('GET', '/v1/namespaces/shut/tables')).body.identifiers.map((each: { name: string }) => each.name)).toEqual(['c']);
    expect((await as('GET', '/v1/namespaces/shut/tables/d')).body.error).toMatchObject({ code: 404, type: 'NoSuchTableException' });
    const set = { requirements: [], updates: [{ action: 'set-properties', updates: { x: '1' } }] };
    expect((await as('POST', '/v1/namespaces/shut/tables/c', set)).status).toBe(200);
    expect((await as('POST', '/v1/namespaces/open/tables/a', set)).body.error).toMatchObject({ code: 403, type: 'ForbiddenException', message: expect.stringContaining('the right to write is missing') });
    expect((await as('POST', '/v1/namespaces/open/tables', { name: 'e', schema })).status).toBe(403);
    expect((await as('DELETE', '/v1/namespaces/shut/tables/c')).status).toBe(403);
    expect((await as('POST', '/v1/transactions/commit', { 'table-changes': [{ identifier: { namespace: ['shut'], name: 'c' }, ...set }, { identifier: { namespace: ['open'], name: 'a' }, ...set }] })).status).toBe(403);
    expect((await as('POST', '/v1/tables/rename', { source: { namespace: ['shut'], name: 'c' }, destination: { namespace: ['open'], name: 'z' } })).status).toBe(403);
    const none = await bench.token({ on: 'elsewhere', right: 'manage' });
    expect((await bench.ask('GET', '/v1/namespaces', { token: none })).body.namespaces).toEqual([]);
    expect((await bench.ask('GET', '/v1/namespaces/open', { token: none })).body.error).toMatchObject({ code: 404, type: 'NoSuchNamespaceException' });
  });
});

describe('GET /v1/config', () => {
  it('lists the endpoints, and takes a storage as warehouse', async () => {
    expect((await ask('GET', '/v1/config')).body).toEqual({ overrides: {}, defaults: {}, endpoints: ENDPOINTS, 'idempotency-key-lifetime': 'PT1H' });
    expect((await ask('GET', '/v1/config?warehouse=bay')).body.overrides).toEqual({ prefix: 'bay' });
    expect((await ask('GET', '/v1/bay/namespaces')).status).toBe(200);
    expect((await ask('GET', '/v1/config?warehouse=nowhere')).body.error).toMatchObject({ code: 404, type: 'NoSuchWarehouseException' });
    expect((await ask('GET', '/v1/nothing/of/the/kind')).body.error.code).toBe(404);
    expect((await ask('PATCH', '/v1/namespaces/x')).body.error).toMatchObject({ code: 404 });
  });
});

describe('namespaces', () => {
  it('are made nested, listed by level and page, changed and dropped', async () => {
    expect((await ask('POST', '/v1/namespaces', { body: { namespace: ['bay', 'north'], properties: { owner: 'Ada', comment: 'Far out', x: 'y' } } })).body).toEqual({ namespace: ['bay', 'north'], properties: { owner: 'Ada', comment: 'Far out', x: 'y' } });
    for (const name of ['p1', 'p2', 'p3']) await ask('POST', '/v1/namespaces', { body: { namespace: ['pages', name] } });
    expect((await ask('POST', '/v1/namespaces', { body: { namespace: ['BAY', 'North'] } })).body.error).toMatchObject({ code: 409, type: 'AlreadyExistsException' });
    expect((await ask('GET', '/v1/namespaces')).body.namespaces).toContainEqual(['bay']);
    expect((await ask('GET', '/v1/namespaces?parent=bay')).body.namespaces).toEqual([['bay', 'north']]);
    expect((await ask('GET', '/v1/namespaces/bay%1Fnorth')).body.properties).toEqual({ owner: 'Ada', comment: 'Far out', x: 'y' });
    expect((await ask('HEAD', '/v1/namespaces/bay%1Fnorth')).status).toBe(204);
    expect((await ask('HEAD', '/v1/namespaces/bay%1Fsouth')).status).toBe(404);
    const first = await ask('GET', '/v1/namespaces?parent=pages&pageToken=&pageSize=2');
    expect(first.body.namespaces).toEqual([['pages', 'p1'], ['pages', 'p2']]);
    expect((await ask('GET', `/v1/namespaces?parent=pages&pageSize=2&pageToken=${first.body['next-page-token']}`)).body).toEqual({ namespaces: [['pages', 'p3']], 'next-page-token': null });
    expect((await ask('POST', '/v1/namespaces/bay%1Fnorth/properties', { body: { removals: ['x', 'nothing'], updates: { owner: 'Ben' } } })).body).toEqual({ updated: ['owner'], removed: ['x'], missing: ['nothing'] });
    expect((await ask('POST', '/v1/namespaces/bay%1Fnorth/properties', { body: { removals: ['a'], updates: { a: '1' } } })).body.error).toMatchObject({ code: 422 });
    expect((await ask('DELETE', '/v1/namespaces/bay')).body.error).toMatchObject({ code: 409, type: 'NamespaceNotEmptyException' });
    expect((await ask('DELETE', '/v1/namespaces/bay%1Fnorth')).status).toBe(204);
    expect((await ask('GET', '/v1/namespaces/bay%1Fnorth')).body.error).toMatchObject({ code: 404, type: 'NoSuchNamespaceException' });
    expect((await ask('POST', '/v1/namespaces', { body: { namespace: ['a.b'] } })).body.error).toMatchObject({ code: 400 });
    expect((await ask('POST', '/v1/namespaces', { body: '{"namespace": [' })).body.error).toMatchObject({ code: 400, type: 'BadRequestException' });
  });
});

describe('tables', () => {
  beforeAll(async () => {
    await ask('POST', '/v1/namespaces', { body: { namespace: ['t'] } });
  });

  it('are made with ids given afresh, and what names them follows', async () => {
    const { status, body } = await create('t', 'made', {
      schema: { ...schema, 'identifier-field-ids': [7] }, 'partition-spec': { 'spec-id': 0, fields: [{ 'source-id': 9, 'field-id': 5, name: 'at_day', transform: 'day' }] },
      'write-order': { 'order-id': 1, fields: [{ 'source-id': 7, transform: 'identity', direction: 'desc', 'null-order': 'nulls-last' }] }, properties: { p: 'q', 'format-version': '3' },
    });
    expect(status).toBe(200);
    expect(body.metadata).toMatchObject({
      'format-version': 3, 'next-row-id': 0, 'last-column-id': 4, 'current-schema-id': 0, 'last-partition-id': 1000, properties: { p: 'q' },
      schemas: [{ 'identifier-field-ids': [1], fields: [{ id: 1, name: 'id' }, { id: 2, name: 'at' }, { id: 3, name: 'place', type: { fields: [{ id: 4 }] } }] }],
      'partition-specs': [{ 'spec-id': 0, fields: [{ 'source-id': 2, 'field-id': 1000, name: 'at_day', transform: 'day' }] }], 'sort-orders': [{ 'order-id': 1, fields: [{ 'source-id': 1, direction: 'desc' }] }],
    });
    expect(body['metadata-location']).toMatch(/^file:\/\/.*\/warehouse\/t\/made\/metadata\/00001-.*\.metadata\.json$/);
    expect(await findRelation(bench.services.database, 't', 'made')).toMatchObject({ format: 'iceberg', managed: true, location: 'warehouse/t/made' });
    expect((await create('t', 'made')).body.error).toMatchObject({ code: 409, type: 'AlreadyExistsException' });
    expect((await create('nowhere', 'x')).body.error).toMatchObject({ code: 404, type: 'NoSuchNamespaceException' });
    expect((await create('t', 'x', { location: 'file:///etc/somewhere' })).body.error).toMatchObject({ code: 400, message: expect.stringContaining('none of the storages') });
    expect((await create('t', 'x', { location: `file://${bench.lakeFolder}/warehouse/t/made/inside` })).body.error).toMatchObject({ code: 400, message: expect.stringContaining('t.made is there') });
    expect((await create('t', 'x', { schema: { ...schema, fields: [{ id: 1, name: 'v', required: false, type: 'variant' }] } })).body.error).toMatchObject({ code: 400, type: 'UnsupportedOperationException' });
  });

  it('are listed, loaded whole or with named snapshots, and not sent again when they are known', async () => {
    await create('t', 'loaded');
    const table = await tableOf('t', 'loaded');
    for (const n of [1, 2]) await append(table, [writtenFile(`${table.root}/data/${n}.parquet`, n, n)], testPorts(n, `2026-02-0${n}T00:00:00Z`));
    const whole = await ask('GET', '/v1/namespaces/t/tables/loaded');
    expect(whole.body.metadata.snapshots).toHaveLength(2);
    const named = await ask('GET', '/v1/namespaces/t/tables/loaded?snapshots=refs');
    expect(named.body.metadata.snapshots.map((each: { 'sequence-number': number }) => each['sequence-number'])).toEqual([2]);
    const etag = whole.headers.get('etag')!;
    expect(etag).not.toBe(named.headers.get('etag'));
    expect((await ask('GET', '/v1/namespaces/t/tables/loaded', { headers: { 'if-none-match': etag } })).status).toBe(304);
    await commit('t', 'loaded', { requirements: [], updates: [{ action: 'set-properties', updates: { a: 'b' } }] });
    expect((await ask('GET', '/v1/namespaces/t/tables/loaded', { headers: { 'if-none-match': etag } })).status).toBe(200);
    expect((await ask('HEAD', '/v1/namespaces/t/tables/loaded')).status).toBe(204);
    expect((await ask('HEAD', '/v1/namespaces/t/tables/other')).status).toBe(404);
    expect((await ask('GET', '/v1/namespaces/t/tables/other')).body.error).toMatchObject({ code: 404, type: 'NoSuchTableException' });
    const page = await ask('GET', '/v1/namespaces/t/tables?pageSize=1');
    expect(page.body.identifiers).toEqual([{ namespace: ['t'], name: 'loaded' }]);
    expect((await ask('GET', `/v1/namespaces/t/tables?pageSize=5&pageToken=${page.body['next-page-token']}`)).body.identifiers).toEqual([{ namespace: ['t'], name: 'made' }]);
    expect((await ask('GET', '/v1/namespaces/t/tables/loaded/credentials')).body).toEqual({ 'storage-credentials': [] });
    expect((await ask('POST', '/v1/namespaces/t/tables/loaded/metrics', { body: { 'report-type': 'scan-report', 'table-name': 't.loaded', 'snapshot-id': 1, filter: true, 'schema-id': 0, 'projected-field-ids': [], 'projected-field-names': [], metrics: {} } })).status).toBe(204);
  });

  it('are staged first and made by their first commit, or not at all', async () => {
    const staged = await create('t', 'staged', { 'stage-create': true });
    expect(staged.status).toBe(200);
    expect(staged.body['metadata-location']).toBeUndefined();
    expect((await ask('HEAD', '/v1/namespaces/t/tables/staged')).status).toBe(404);
    const { metadata } = staged.body;
    const first = {
      requirements: [{ type: 'assert-create' }],
      updates: [
        { action: 'assign-uuid', uuid: metadata['table-uuid'] }, { action: 'upgrade-format-version', 'format-version': 2 }, { action: 'add-schema', schema: metadata.schemas[0], 'last-column-id': 4 }, { action: 'set-current-schema', 'schema-id': -1 },
        { action: 'add-spec', spec: metadata['partition-specs'][0] }, { action: 'set-default-spec', 'spec-id': -1 }, { action: 'add-sort-order', 'sort-order': metadata['sort-orders'][0] }, { action: 'set-default-sort-order', 'sort-order-id': -1 },
        { action: 'set-location', location: metadata.location }, { action: 'set-properties', updates: { made: 'late' } },
      ],
    };
    expect((await commit('t', 'staged', first)).body.metadata).toMatchObject({ 'table-uuid': metadata['table-uuid'], location: metadata.location, properties: { made: 'late' } });
    expect((await commit('t', 'staged', first)).body.error).toMatchObject({ code: 409, type: 'AlreadyExistsException' });
    expect((await commit('t', 'never', { ...first, requirements: [] })).body.error).toMatchObject({ code: 404 });
  });

  it('are registered by their metadata file, renamed, and dropped with and without their files', async () => {
    const made = await create('t', 'gone');
    const location = made.body['metadata-location'];
    expect((await ask('DELETE', '/v1/namespaces/t/tables/gone')).status).toBe(204);
    expect((await ask('POST', '/v1/namespaces/t/register', { body: { name: 'back', 'metadata-location': location } })).body.metadata['table-uuid']).toBe(made.body.metadata['table-uuid']);
    expect((await ask('POST', '/v1/namespaces/t/register', { body: { name: 'back', 'metadata-location': location } })).body.error).toMatchObject({ code: 409 });
    expect((await ask('POST', '/v1/namespaces/t/register', { body: { name: 'odd', 'metadata-location': 'file:///etc/passwd' } })).body.error.code).toBe(400);
    expect((await ask('POST', '/v1/namespaces/t/register', { body: { name: 'odd', 'metadata-location': `file://${bench.lakeFolder}/secrets.key` } })).body.error).toMatchObject({ code: 400, message: expect.stringContaining('no metadata file') });
    const rename = (to: string, name = 'back') => ask('POST', '/v1/tables/rename', { body: { source: { namespace: ['t'], name: 'back' }, destination: { namespace: [to], name } } });
    expect((await rename('nowhere')).body.error).toMatchObject({ code: 404, type: 'NoSuchNamespaceException' });
    expect((await rename('t', 'made')).body.error).toMatchObject({ code: 409, type: 'AlreadyExistsException' });
    await ask('POST', '/v1/namespaces', { body: { namespace: ['u'] } });
    expect((await rename('u')).status).toBe(204);
    expect((await ask('HEAD', '/v1/namespaces/u/tables/back')).status).toBe(204);
    const relation = await getRelation(bench.services.database, 'u', 'back');
    const { store } = bench.services.lake.storageOf(relation);
    expect((await store.list(relation.location!)).length).toBeGreaterThan(0);
    expect((await ask('DELETE', '/v1/namespaces/u/tables/back?purgeRequested=true')).status).toBe(204);
    expect(await store.list(relation.location!)).toEqual([]);
    expect((await ask('DELETE', '/v1/namespaces/u/tables/back')).body.error).toMatchObject({ code: 404 });
  });

  it('shows no tables of other formats', async () => {
    await createRelation(bench.services.database, { namespace: 't', name: 'delta', kind: 'table', format: 'delta', storageId: bench.services.lake.storage('bay').storage.id, location: 'd', definition: { kind: 'lake', pointer: 'files' } }, 'tester');
    expect((await ask('GET', '/v1/namespaces/t/tables')).body.identifiers.map((each: { name: string }) => each.name)).not.toContain('delta');
    expect((await ask('GET', '/v1/namespaces/t/tables/delta')).body.error.code).toBe(404);
    expect((await create('t', 'delta')).body.error.code).toBe(409);
  });
});

describe('commits', () => {
  beforeAll(async () => {
    await ask('POST', '/v1/namespaces', { body: { namespace: ['c'] } });
    noManifests = await writeManifestList([], {}, 2, new Uint8Array(16));
  });
  let noManifests: Uint8Array;
  const list = (name: string) => `file://${bench.lakeFolder}/warehouse/c/${name}/metadata/snap.avro`;
  const snapshot = (name: string, id: number | string, sequence: number, more: Record<string, unknown> = {}) => ({ 'snapshot-id': id, 'sequence-number': sequence, 'timestamp-ms': Date.now(), 'manifest-list': written(list(name)), summary: { operation: 'append', 'engine-name': 'Far Engine' }, 'schema-id': 0, ...more });
  const written = (uri: string) => {
    const file = fileURLToPath(uri);
    mkdirSync(path.dirname(file), { recursive: true });
    writeFileSync(file, noManifests);
    return uri;
  };

  it('of appends made on an older state are made again on the newest, rows and totals with them', async () => {
    await create('c', 'appends');
    const table = await tableOf('c', 'appends');
    // What a client does: a snapshot of its own on the state that it knows, in files of its own.
    const clientsAppend = async (id: number, rows: number) => {
      const own = new IcebergTable(table.store, table.root, 'client', new CatalogPointer(table.store, table.root, memoryCell(await table.pointer.current()), testPorts(id).ids));
      const { metadata } = await table.current();
      const made = await append(own, [writtenFile(`warehouse/c/appends/data/client-${id}.parquet`, 1, rows)], { ...testPorts(id), ids: Object.assign(new CountingIds(id * 1_000_000), { snapshotId: () => id }) });
      const parent = metadata['current-snapshot-id'] ?? null;
      return () => commit('c', 'appends', { requirements: [{ type: 'assert-table-uuid', uuid: metadata['table-uuid'] }, { type: 'assert-ref-snapshot-id', ref: 'main', 'snapshot-id': parent }], updates: [{ action: 'add-snapshot', snapshot: made }, { action: 'set-snapshot-ref', 'ref-name': 'main', type: 'branch', 'snapshot-id': id }] });
    };
    const [first, second, third] = [await clientsAppend(501, 5), await clientsAppend(502, 7), await clientsAppend(503, 9)];
    await append(table, [writtenFile('warehouse/c/appends/data/ours.parquet', 1, 100)], { clock: systemClock, ids: randomIds, who: 'tester' });
    // One after the other, and two at once.
    expect((await first()).status).toBe(200);
    expect((await Promise.all([second(), third()])).map(({ status, text }) => [status, text.slice(0, 40)])).toEqual([[200, expect.any(String)], [200, expect.any(String)]]);
    const { metadata } = await table.current();
    expect(metadata.snapshots!.map((each) => each['sequence-number']).slice(1)).toEqual([2, 3, 4]);
    expect(metadata.snapshots!.map((each) => each['snapshot-id']).slice(1).sort()).toEqual([501, 502, 503]);
    expect(metadata.snapshots!.at(-1)!.summary).toMatchObject({ 'added-records': '9', 'total-records': '121', 'total-data-files': '4' });
    expect((await (await table.snapshot({ kind: 'latest' })).files()).reduce((sum, file) => sum + file.rows!, 0)).toBe(121);
    // What is more than an append is still the client's to look at again.
    const stale = await clientsAppend(504, 1);
    const { body } = await commit('c', 'appends', { requirements: [{ type: 'assert-ref-snapshot-id', ref: 'main', 'snapshot-id': 501 }], updates: [{ action: 'remove-snapshots', 'snapshot-ids': [501] }] });
    expect(body.error.code).toBe(409);
    expect((await stale()).status).toBe(200);
  });

  it.each([
    ['in ORC', 'warehouse/c/odd/data/a.orc', 'ORC', 'of the format ORC'], ['outside of the storage', '../../elsewhere/a.parquet', 'PARQUET', 'lies outside of every connected storage'],
  ])('with a data file %s are refused by its name, before anything is made current', async (_, place, format, words) => {
    await create('c', 'odd');
    const table = await tableOf('c', 'odd');
    const { metadata } = await table.current();
    const file = { ...newDataFile(table.store.uri, writtenFile(place, 1, 2), metadata, 'c.odd'), format };
    const own = new IcebergTable(table.store, table.root, 'client', new CatalogPointer(table.store, table.root, memoryCell(await table.pointer.current()), testPorts(700).ids));
    const { snapshot: made } = await commitSnapshot(own, { added: [{ file: place.startsWith('..') ? { ...file, path: 'file:///elsewhere/a.parquet' } : file, specId: 0 }] }, testPorts(700 + words.length));
    const { body } = await commit('c', 'odd', { requirements: [], updates: [{ action: 'add-snapshot', snapshot: made }, { action: 'set-snapshot-ref', 'ref-name': 'main', type: 'branch', 'snapshot-id': made['snapshot-id'] }] });
    expect(body.error).toMatchObject({ code: 400, message: expect.stringContaining(words) });
    expect((await table.current()).metadata.snapshots).toEqual([]);
    await ask('DELETE', '/v1/namespaces/c/tables/odd');
  });

  it('take null for whatever a client leaves out', async () => {
    const made = await ask('POST', '/v1/namespaces/c/tables', { body: { name: 'nulls', location: null, schema, 'partition-spec': null, 'write-order': null, 'stage-create': null, properties: null } });
    expect([made.status, made.body.metadata?.location]).toEqual([200, expect.stringContaining('warehouse/c/nulls')]);
    expect((await commit('c', 'nulls', { identifier: null, requirements: null, updates: [{ action: 'set-properties', updates: { a: '1', b: null } }] })).body.metadata.properties).toMatchObject({ a: '1' });
  });

  it('of a table in a namespace that is only a level make it one', async () => {
    await ask('POST', '/v1/namespaces', { body: { namespace: ['level', 'below'] } });
    expect((await ask('GET', '/v1/namespaces/level')).status).toBe(200);
    expect((await create('level', 't')).status).toBe(200);
    expect((await ask('GET', '/v1/namespaces/level/tables')).body.identifiers).toEqual([{ namespace: ['level'], name: 't' }]);
    expect((await create('nowhere', 't')).body.error).toMatchObject({ code: 404, type: 'NoSuchNamespaceException' });
  });

  it('take every kind of update, in order, in one step', async () => {
    await create('c', 'all');
    const uuid = '9c12d441-03fe-4693-9a96-a0705ddf69c1';
    const statistics = { 'snapshot-id': 1, 'statistics-path': list('all').replace('snap.avro', 's.puffin'), 'file-size-in-bytes': 1, 'file-footer-size-in-bytes': 1, 'blob-metadata': [] };
    const { status, body } = await commit('c', 'all', { requirements: [], updates: [
      { action: 'assign-uuid', uuid }, { action: 'upgrade-format-version', 'format-version': 3 },
      { action: 'add-schema', schema: { type: 'struct', fields: [...schema.fields.slice(0, 2).map((each, index) => ({ ...each, id: index + 1 })), { id: 5, name: 'more', required: false, type: 'string' }] } }, { action: 'set-current-schema', 'schema-id': -1 },
      { action: 'add-spec', spec: { 'spec-id': 9, fields: [{ 'source-id': 1, name: 'id_bucket', transform: 'bucket[4]' }] } }, { action: 'set-default-spec', 'spec-id': -1 },
      { action: 'add-sort-order', 'sort-order': { 'order-id': 9, fields: [{ 'source-id': 1, transform: 'identity', direction: 'asc', 'null-order': 'nulls-first' }] } }, { action: 'set-default-sort-order', 'sort-order-id': -1 },
      { action: 'add-snapshot', snapshot: snapshot('all', 1, 1, { 'first-row-id': 0, 'added-rows': 3 }) }, { action: 'set-snapshot-ref', 'ref-name': 'main', type: 'branch', 'snapshot-id': 1 },
      { action: 'set-snapshot-ref', 'ref-name': 'kept', type: 'tag', 'snapshot-id': 1, 'max-ref-age-ms': 1000 }, { action: 'set-snapshot-ref', 'ref-name': 'short', type: 'tag', 'snapshot-id': 1 }, { action: 'remove-snapshot-ref', 'ref-name': 'short' },
      { action: 'set-properties', updates: { a: '1', b: '2' } }, { action: 'remove-properties', removals: ['a'] },
      { action: 'set-statistics', statistics }, { action: 'set-partition-statistics', 'partition-statistics': { ...statistics, 'statistics-path': list('all').replace('snap.avro', 'p.parquet') } },
    ] });
    expect(status, JSON.stringify(body)).toBe(200);
    expect(body.metadata).toMatchObject({
      'table-uuid': uuid, 'format-version': 3, 'next-row-id': 3, 'current-schema-id': 1, 'last-column-id': 5, 'default-spec-id': 1, 'default-sort-order-id': 1, 'last-partition-id': 1000, 'current-snapshot-id': 1, 'last-sequence-number': 1,
      refs: { main: { 'snapshot-id': 1 }, kept: { type: 'tag', 'max-ref-age-ms': 1000 } }, properties: { b: '2' }, statistics: [{ 'statistics-path': statistics['statistics-path'] }], 'partition-statistics': [{ 'statistics-path': list('all').replace('snap.avro', 'p.parquet') }], 'snapshot-log': [{ 'snapshot-id': 1 }], 'metadata-log': [{}],
    });
    expect(Object.keys(body.metadata.refs)).toEqual(['main', 'kept']);
    const after = await commit('c', 'all', { requirements: [], updates: [
      { action: 'remove-statistics', 'snapshot-id': 1 }, { action: 'remove-partition-statistics', 'snapshot-id': 1 }, { action: 'remove-partition-specs', 'spec-ids': [0] }, { action: 'remove-schemas', 'schema-ids': [0] }, { action: 'set-location', location: `file://${bench.lakeFolder}/warehouse/c/all` },
      { action: 'add-snapshot', snapshot: snapshot('all', 2, 2, { 'parent-snapshot-id': 1, 'first-row-id': 3, 'added-rows': 0 }) }, { action: 'set-snapshot-ref', 'ref-name': 'main', type: 'branch', 'snapshot-id': 2 }, { action: 'remove-snapshots', 'snapshot-ids': [1] },
    ] });
    expect(after.body.metadata).toMatchObject({ statistics: [], 'partition-statistics': [], 'partition-specs': [{ 'spec-id': 1 }], schemas: [{ 'schema-id': 1 }], snapshots: [{ 'snapshot-id': 2 }], 'snapshot-log': [{ 'snapshot-id': 2 }] });
    expect(Object.keys(after.body.metadata.refs)).toEqual(['main']);
  });

  it.each<[string, Record<string, unknown>, Record<string, unknown>]>([
    ['assert-table-uuid', { uuid: '00000000-0000-4000-8000-000000000000' }, {}],
    ['assert-ref-snapshot-id', { ref: 'main', 'snapshot-id': 5 }, { ref: 'main', 'snapshot-id': null }],
    ['assert-last-assigned-field-id', { 'last-assigned-field-id': 99 }, { 'last-assigned-field-id': 4 }],
    ['assert-current-schema-id', { 'current-schema-id': 7 }, { 'current-schema-id': 0 }],
    ['assert-last-assigned-partition-id', { 'last-assigned-partition-id': 1 }, { 'last-assigned-partition-id': 999 }],
    ['assert-default-spec-id', { 'default-spec-id': 3 }, { 'default-spec-id': 0 }],
    ['assert-default-sort-order-id', { 'default-sort-order-id': 3 }, { 'default-sort-order-id': 0 }],
  ])('hold to %s', async (type, wrong, right) => {
    const name = type.replaceAll('-', '_');
    const { body } = await create('c', name);
    const updates = [{ action: 'set-properties', updates: { x: 'y' } }];
    expect((await commit('c', name, { requirements: [{ type, ...wrong }], updates })).body.error).toMatchObject({ code: 409, type: 'CommitFailedException', message: expect.stringContaining('expected') });
    expect((await commit('c', name, { requirements: [{ type, ...(type === 'assert-table-uuid' ? { uuid: body.metadata['table-uuid'] } : right) }], updates })).status).toBe(200);
  });

  it.each<[string, unknown[], number]>([
    ['an action that there is not', [{ action: 'set-colour' }], 400],
    ['an update without its part', [{ action: 'set-location' }], 400],
    ['a schema that is not there', [{ action: 'set-current-schema', 'schema-id': 12 }], 400],
    ['nothing added last', [{ action: 'set-default-spec', 'spec-id': -1 }], 400],
    ['a lower format version', [{ action: 'upgrade-format-version', 'format-version': 1 }], 400],
    ['a format version that is not known', [{ action: 'upgrade-format-version', 'format-version': 4 }], 400],
    ['a column of an unknown type', [{ action: 'add-schema', schema: { type: 'struct', fields: [{ id: 1, name: 'g', required: false, type: 'geometry' }] } }], 400],
    ['a default before version 3', [{ action: 'add-schema', schema: { type: 'struct', fields: [{ id: 1, name: 'g', required: false, type: 'int', 'initial-default': 1 }] } }], 400],
    ['a transform that is not known', [{ action: 'add-spec', spec: { fields: [{ 'source-id': 1, name: 'z', transform: 'zorder' }] } }], 400],
    ['a partition of no column', [{ action: 'add-spec', spec: { fields: [{ 'source-id': 77, name: 'z', transform: 'identity' }] } }], 400],
    ['a reserved property', [{ action: 'set-properties', updates: { uuid: 'x' } }], 400],
    ['a ref to no snapshot', [{ action: 'set-snapshot-ref', 'ref-name': 'main', type: 'branch', 'snapshot-id': 44 }], 400],
    ['a place outside of the storage', [{ action: 'set-location', location: 'file:///elsewhere/t' }], 400],
    ['a way out of the storage', [{ action: 'set-location', location: 'file:///x/../../etc' }], 400],
    ['encryption', [{ action: 'add-encryption-key', 'encryption-key': {} }], 400],
  ])('refuse %s, and change nothing', async (_, updates, code) => {
    await create('c', 'strict');
    const { body } = await commit('c', 'strict', { requirements: [], updates });
    expect(body.error, JSON.stringify(body)).toMatchObject({ code });
    expect((await ask('GET', '/v1/namespaces/c/tables/strict')).body.metadata['metadata-log']).toEqual([]);
  });

  it('that name a manifest list which is not there, or is none, are refused by its name', async () => {
    await create('c', 'listless');
    const add = (at: string) => commit('c', 'listless', { requirements: [], updates: [{ action: 'add-snapshot', snapshot: snapshot('listless', 1, 1, { 'manifest-list': at }) }] });
    const missing = list('listless').replace('snap.avro', 'nowhere.avro');
    expect((await add(missing)).body.error).toMatchObject({ code: 400, message: expect.stringContaining(`the manifest list ${missing} cannot be read`) });
    writeFileSync(fileURLToPath(missing), 'no Avro');
    expect((await add(missing)).body.error).toMatchObject({ code: 400, message: expect.stringContaining('expected an Avro file') });
  });

  it('of an older state are conflicts: a sequence number that was given before', async () => {
    await create('c', 'race');
    const add = (id: number, sequence: number, parent?: number) => commit('c', 'race', { requirements: [], updates: [{ action: 'add-snapshot', snapshot: snapshot('race', id, sequence, { summary: { operation: 'overwrite' }, ...(parent === undefined ? {} : { 'parent-snapshot-id': parent }) }) }, { action: 'set-snapshot-ref', 'ref-name': 'main', type: 'branch', 'snapshot-id': id }] });
    expect((await add(1, 1)).status).toBe(200);
    expect((await add(2, 2, 1)).status).toBe(200);
    expect((await add(3, 2, 1)).body.error).toMatchObject({ code: 409, type: 'CommitFailedException' });
  });

  it('keep 63-bit ids exact in both directions', async () => {
    await create('c', 'wide');
    const id = '8744736658442914487';
    const body = JSON.stringify({ requirements: [], updates: [{ action: 'add-snapshot', snapshot: snapshot('wide', 'ID', 1) }, { action: 'set-snapshot-ref', 'ref-name': 'main', type: 'branch', 'snapshot-id': 'ID' }] }).replaceAll('"ID"', id);
    const answer = await commit('c', 'wide', body);
    expect(answer.status, answer.text).toBe(200);
    expect(answer.text).toContain(`"current-snapshot-id":${id}`);
    expect((await ask('GET', '/v1/namespaces/c/tables/wide')).text).toContain(`"snapshot-id":${id}`);
  });

  it('of several tables happen together or not at all', async () => {
    const made = await Promise.all(['one', 'two'].map((name) => create('c', name)));
    const change = (name: string, uuid: string, value: string) => ({ identifier: { namespace: ['c'], name }, requirements: [{ type: 'assert-table-uuid', uuid }], updates: [{ action: 'set-properties', updates: { both: value } }] });
    const uuids = made.map(({ body }) => body.metadata['table-uuid'] as string);
    expect((await ask('POST', '/v1/transactions/commit', { body: { 'table-changes': [change('one', uuids[0]!, 'yes'), change('two', '00000000-0000-4000-8000-000000000000', 'yes')] } })).body.error).toMatchObject({ code: 409 });
    const value = async (name: string) => (await ask('GET', `/v1/namespaces/c/tables/${name}`)).body.metadata.properties.both;
    expect([await value('one'), await value('two')]).toEqual([undefined, undefined]);
    expect((await ask('POST', '/v1/transactions/commit', { body: { 'table-changes': [change('one', uuids[0]!, 'yes'), change('two', uuids[1]!, 'yes')] } })).status).toBe(204);
    expect([await value('one'), await value('two')]).toEqual(['yes', 'yes']);
    expect((await ask('POST', '/v1/transactions/commit', { body: { 'table-changes': [change('one', uuids[0]!, 'x'), change('one', uuids[0]!, 'y')] } })).body.error.code).toBe(400);
    expect((await ask('POST', '/v1/transactions/commit', { body: { 'table-changes': [change('none', uuids[0]!, 'x')] } })).body.error).toMatchObject({ code: 404, type: 'NoSuchTableException' });
  });

  it('of eight clients at once all get in, in one order, with none lost', async () => {
    await create('c', 'busy');
    const results = await Promise.all(Array.from({ length: 80 }, (_, n) => commit('c', 'busy', { requirements: [], updates: [{ action: 'set-properties', updates: { [`p${n}`]: String(n) } }] })));
    expect(results.map(({ status }) => status)).toEqual(Array.from({ length: 80 }, () => 200));
    const { metadata } = (await ask('GET', '/v1/namespaces/c/tables/busy')).body;
    expect(Object.keys(metadata.properties)).toHaveLength(80);
    expect(metadata['metadata-log']).toHaveLength(80);
    const table = await tableOf('c', 'busy');
    const { store, root } = table;
    // File-system readers are shown it behind the answers.
    await expect.poll(async () => new TextDecoder().decode(await store.read(`${root}/metadata/version-hint.text`))).toBe('81');
  });

  it('see what other writers of the product did meanwhile, and it stays', async () => {
    await create('c', 'mixed');
    const ports = { clock: systemClock, ids: randomIds, who: 'somebody' };
    const by = (key: string, requirements: unknown[] = []) => commit('c', 'mixed', { requirements, updates: [{ action: 'set-properties', updates: { [key]: 'rest' } }] });
    const added = await tableOf('c', 'mixed');
    for (const round of [1, 2, 3]) {
      expect((await by(`rest${round}`)).status).toBe(200);
      await addColumns(added, [field(`c${round}`, 'long')], ports);
      const { body } = await ask('GET', '/v1/namespaces/c/tables/mixed');
      const now = { type: 'assert-current-schema-id', 'current-schema-id': body.metadata['current-schema-id'] };
      expect((await by(`then${round}`, [{ ...now, 'current-schema-id': now['current-schema-id'] - 1 }])).status).toBe(409);
      expect((await by(`then${round}`, [now])).status).toBe(200);
    }
    const { metadata } = (await ask('GET', '/v1/namespaces/c/tables/mixed')).body;
    expect(Object.keys(metadata.properties)).toHaveLength(6);
    expect(metadata.schemas.at(-1).fields.map((each: { name: string }) => each.name)).toEqual(expect.arrayContaining(['c1', 'c2', 'c3']));
  });

  it('are told to the product: who, by which engine, what', async () => {
    await create('c', 'told');
    bench.receipts.length = 0;
    bench.told.length = 0;
    const token = await bench.token({ on: 'c.told', right: 'write' });
    await commit('c', 'told', { requirements: [], updates: [{ action: 'add-snapshot', snapshot: snapshot('told', 5, 1) }, { action: 'set-snapshot-ref', 'ref-name': 'main', type: 'branch', 'snapshot-id': 5 }] }, { token });
    expect(bench.receipts).toMatchObject([{ kind: 'write', outcome: 'done', who: 'for write c.told (token)', written: { table: 'c.told', version: 1, snapshotId: '5', operation: 'append', engine: 'Far Engine' } }]);
    expect(bench.told).toContainEqual({ topic: 'table', name: 'c.told' });
    expect(await (await tableOf('c', 'told')).history()).toMatchObject([{}, { who: 'for write c.told (token)', operation: 'append' }]);
  });

  it('that are sent again with the same key get the first answer, and do nothing', async () => {
    await create('c', 'again');
    const key = { headers: { 'idempotency-key': '01930000-0000-7000-8000-000000000001' } };
    const body = { requirements: [], updates: [{ action: 'set-properties', updates: { n: '1' } }] };
    const [first, second] = await Promise.all([commit('c', 'again', body, key), commit('c', 'again', body, key)]);
    expect(second!.text).toBe(first!.text);
    expect((await commit('c', 'again', body, key)).body['metadata-location']).toBe(first!.body['metadata-location']);
    expect((await ask('GET', '/v1/namespaces/c/tables/again')).body.metadata['metadata-log']).toHaveLength(1);
    expect((await commit('c', 'again', { ...body, updates: [] }, key)).body.error).toMatchObject({ code: 422 });
    expect((await commit('c', 'again', body, { headers: { 'idempotency-key': 'x' } })).body.error).toMatchObject({ code: 400 });
    // Creating twice is one table and one answer.
    const make = { token: all, body: { name: 'once', schema }, headers: { 'idempotency-key': '01930000-0000-7000-8000-000000000002' } };
    const made = [await bench.ask('POST', '/v1/namespaces/c/tables', make), await bench.ask('POST', '/v1/namespaces/c/tables', make)];
    expect(made.map(({ status }) => status)).toEqual([200, 200]);
  });
});
