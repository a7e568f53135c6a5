/** Views through the open REST catalog protocol (Apache Iceberg, "REST Catalog OpenAPI" and "Iceberg View Spec"). */
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { createRelation, findRelation, getRelation } from '../catalog/relations';
import { RestBench } from '../testing/rest-bench';

let bench: RestBench;
let all: string;
const schema = { type: 'struct', 'schema-id': 0, fields: [{ id: 7, name: 'id', required: true, type: 'long' }] };
beforeAll(async () => {
  bench = await RestBench.start();
  all = await bench.token({ on: '*', right: 'manage' });
});
afterAll(() => bench.stop());
const ask: RestBench['ask'] = (method, at, options = {}) => bench.ask(method, at, { token: all, ...options });

describe('views', () => {
  const version = (sql: string, dialect = 'far') => ({ 'version-id': 1, 'timestamp-ms': 1, 'schema-id': 0, summary: { 'engine-name': 'Far Engine' }, 'default-namespace': ['v'], representations: [{ type: 'sql', sql, dialect }] });
  beforeAll(async () => {
    await ask('POST', '/v1/namespaces', { body: { namespace: ['v'] } });
  });

  it('are made, loaded, replaced, listed, renamed and dropped, and are the catalog\'s own', async () => {
    const made = await ask('POST', '/v1/namespaces/v/views', { body: { name: 'w', schema, 'view-version': version('SELECT 1 AS id'), properties: { a: 'b' } } });
    expect(made.status, made.text).toBe(200);
    expect(made.body.metadata).toMatchObject({ 'format-version': 1, 'current-version-id': 1, properties: { a: 'b' }, versions: [{ 'version-id': 1, 'schema-id': 0 }], 'version-log': [{ 'version-id': 1 }] });
    expect((await findRelation(bench.services.database, 'v', 'w'))?.definition).toMatchObject({ kind: 'view', sql: 'SELECT 1 AS id' });
    expect((await ask('POST', '/v1/namespaces/v/views', { body: { name: 'w', schema, 'view-version': version('SELECT 1') } })).body.error).toMatchObject({ code: 409 });
    const uuid = made.body.metadata['view-uuid'];
    const replace = (requirement: string) => ask('POST', '/v1/namespaces/v/views/w', { body: { requirements: [{ type: 'assert-view-uuid', uuid: requirement }], updates: [{ action: 'add-view-version', 'view-version': { ...version('SELECT 2 AS id'), representations: [{ type: 'sql', sql: 'select 2', dialect: 'far' }, { type: 'sql', sql: 'SELECT 2 AS id', dialect: 'kind-harbor' }] } }, { action: 'set-current-view-version', 'view-version-id': -1 }, { action: 'set-properties', updates: { c: 'd' } }, { action: 'remove-properties', removals: ['a'] }] } });
    expect((await replace('00000000-0000-4000-8000-000000000000')).body.error).toMatchObject({ code: 409, type: 'CommitFailedException' });
    expect((await replace(uuid)).body.metadata).toMatchObject({ 'current-version-id': 2, properties: { c: 'd' }, versions: [{}, { 'version-id': 2 }] });
    expect((await findRelation(bench.services.database, 'v', 'w'))?.definition).toMatchObject({ sql: 'SELECT 2 AS id' });
    expect((await ask('GET', '/v1/namespaces/v/views')).body.identifiers).toEqual([{ namespace: ['v'], name: 'w' }]);
    expect((await ask('HEAD', '/v1/namespaces/v/views/w')).status).toBe(204);
    expect((await ask('POST', '/v1/views/rename', { body: { source: { namespace: ['v'], name: 'w' }, destination: { namespace: ['v'], name: 'x' } } })).status).toBe(204);
    expect((await ask('GET', '/v1/namespaces/v/views/w')).body.error).toMatchObject({ code: 404, type: 'NoSuchViewException' });
    expect((await ask('DELETE', '/v1/namespaces/v/views/x')).status).toBe(204);
    expect((await ask('DELETE', '/v1/namespaces/v/views/x')).body.error.code).toBe(404);
  });

  it('that were made here show in the same form', async () => {
    await createRelation(bench.services.database, { namespace: 'v', name: 'ours', kind: 'view', definition: { kind: 'view', sql: 'SELECT n FROM c.one' } }, 'tester');
    const { body } = await ask('GET', '/v1/namespaces/v/views/ours');
    expect(body.metadata).toMatchObject({ schemas: [{ fields: [{ id: 1, name: 'n', type: 'long' }] }], versions: [{ representations: ['kind-harbor', 'spark', 'trino'].map((dialect) => ({ sql: 'SELECT n FROM c.one', dialect })) }] });
    expect((await ask('GET', '/v1/namespaces/v/views/ours')).body.metadata['view-uuid']).toBe(body.metadata['view-uuid']);
    expect((await ask('HEAD', '/v1/namespaces/v/tables/ours')).status).toBe(404);
  });

  it('of another dialect are taken over where they mean the same, and kept as they are where not', async () => {
    const view = (name: string, sql: string, dialect: string) => ask('POST', '/v1/namespaces/v/views', { body: { name, schema: { type: 'struct', fields: [] }, 'view-version': { 'version-id': 1, 'timestamp-ms': 1, 'schema-id': 0, summary: {}, 'default-catalog': 'far', 'default-namespace': ['c'], representations: [{ type: 'sql', sql, dialect }] } } });
    expect((await view('plain', 'SELECT `id` FROM far.c.all', 'spark')).status).toBe(200);
    expect((await getRelation(bench.services.database, 'v', 'plain')).definition).toMatchObject({ sql: 'SELECT "id" FROM far.c.all', defaultCatalog: 'far', defaultNamespace: 'c' });
    expect((await view('odd', 'SELECT explode(x) FROM t', 'spark')).status).toBe(200);
    expect((await getRelation(bench.services.database, 'v', 'odd')).definition).toMatchObject({ sql: 'SELECT explode(x) FROM t', foreign: { dialect: 'spark', problem: 'EXPLODE' } });
    // Whoever made it gets it back as it was given.
    expect((await ask('GET', '/v1/namespaces/v/views/odd')).body.metadata.versions[0].representations).toEqual([{ type: 'sql', sql: 'SELECT explode(x) FROM t', dialect: 'spark' }]);
  });
});
