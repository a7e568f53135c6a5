/** A table's files are its own: what a client with a small right cannot name, take or remove, whichever way it asks. */
import { mkdirSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { newDataFile } from '../../core/iceberg/data-files';
import { append } from '../../core/iceberg/operations';
import { CatalogPointer, memoryCell } from '../../core/iceberg/pointer';
import { commitSnapshot } from '../../core/iceberg/snapshot-commit';
import { IcebergTable } from '../../core/iceberg/table';
import { testPorts, writtenFile } from '../../core/testing/ports';
import { getRelation } from '../catalog/relations';
import { RestBench } from '../testing/rest-bench';

const schema = { type: 'struct', 'schema-id': 0, fields: [{ id: 1, name: 'id', required: false, type: 'long' }] };
let bench: RestBench;
let everything: string;
let mine: string;
beforeAll(async () => {
  bench = await RestBench.start();
  everything = await bench.token({ on: '*', right: 'manage' });
  mine = await bench.token({ on: 'mine', right: 'manage' });
  for (const namespace of ['mine', 'theirs']) await bench.ask('POST', '/v1/namespaces', { token: everything, body: { namespace: [namespace] } });
  await bench.ask('POST', '/v1/namespaces/theirs/tables', { token: everything, body: { name: 'secret', schema } });
  expect((await create('own', { location: uri('warehouse/mine/own') })).status).toBe(200);
  const table = await tableOf('theirs', 'secret');
  file('warehouse/theirs/secret/data/rows.parquet');
  await append(table, [writtenFile('warehouse/theirs/secret/data/rows.parquet', 1, 3)], testPorts(5));
});
afterAll(() => bench.stop());

const uri = (at: string) => `file://${bench.lakeFolder}/${at}`;
const file = (at: string, text = 'x') => {
  const full = path.join(bench.lakeFolder, at);
  mkdirSync(path.dirname(full), { recursive: true });
  writeFileSync(full, text);
  return full;
};
const tableOf = async (namespace: string, name: string) => bench.services.lake.table(await getRelation(bench.services.database, namespace, name)) as IcebergTable;
const asMine = (method: string, at: string, body?: unknown) => bench.ask(method, at, { token: mine, ...(body === undefined ? {} : { body }) });
const create = (name: string, more: Record<string, unknown> = {}, token = mine) => bench.ask('POST', '/v1/namespaces/mine/tables', { token, body: { name, schema, ...more } });
const files = async (folder: string) => (await bench.services.lake.storage('bay').store.list(folder)).map((each) => each.path);
/** What a client makes that writes its manifests itself. */
const clientSnapshot = async (name: string, number: number, at: string) => {
  const table = await tableOf('mine', name);
  const { metadata } = await table.current();
  const own = new IcebergTable(table.store, table.root, 'client', new CatalogPointer(table.store, table.root, memoryCell(await table.pointer.current()), testPorts(number).ids));
  const entry = { ...newDataFile(table.store.uri, writtenFile('x', 1, 3), metadata, name), path: at };
  const { snapshot } = await commitSnapshot(own, { added: [{ file: entry, specId: 0 }] }, testPorts(number));
  return snapshot;
};

describe('a client that may manage one namespace', () => {
  it('makes no table outside of its folder, nor in one of another table, nor among dropped ones', async () => {
    file('elsewhere/payroll.csv');
    for (const [at, code] of [['elsewhere', 403], ['warehouse/theirs/secret', 403], ['warehouse/theirs/new', 403], ['_dropped/theirs.secret-1', 403], ['warehouse/mine/../theirs/x', 400]] as const) {
      for (const staged of [false, true]) {
        const { status, text } = await create('taken', { location: uri(at), 'stage-create': staged });
        expect(status, `${at}: ${text}`).toBe(code);
        expect(text.replace(at, '')).not.toContain('secret');
      }
    }
    expect(await files('elsewhere')).toEqual(['elsewhere/payroll.csv']);
  });

  it('commits a staged table only where it could have made it', async () => {
    const staged = await create('late', { 'stage-create': true });
    const { 'table-uuid': uuid, schemas } = staged.body.metadata;
    const updates = (location: string) => [
      { action: 'assign-uuid', uuid }, { action: 'upgrade-format-version', 'format-version': 2 }, { action: 'add-schema', schema: schemas[0] }, { action: 'set-current-schema', 'schema-id': -1 }, { action: 'add-spec', spec: { fields: [] } },
      { action: 'set-default-spec', 'spec-id': -1 }, { action: 'add-sort-order', 'sort-order': { 'order-id': 0, fields: [] } }, { action: 'set-default-sort-order', 'sort-order-id': -1 }, { action: 'set-location', location },
    ];
    const commit = (location: string) => asMine('POST', '/v1/namespaces/mine/tables/late', { requirements: [{ type: 'assert-create' }], updates: updates(location) });
    expect((await commit(uri('warehouse/theirs/secret'))).status).toBe(403);
    expect((await commit(staged.body.metadata.location)).status).toBe(200);
  });

  it('registers no metadata of another table, in its folder or copied into an own one', async () => {
    const { path: current, metadata } = await (await tableOf('theirs', 'secret')).current();
    const register = (at: string) => asMine('POST', '/v1/namespaces/mine/register', { name: 'stolen', 'metadata-location': uri(at) });
    expect((await register(current)).status).toBe(403);
    file('warehouse/mine/copied/metadata/v1.metadata.json', JSON.stringify(metadata));
    expect((await register('warehouse/mine/copied/metadata/v1.metadata.json')).body.error).toMatchObject({ code: 403, message: expect.stringContaining('lies in the folder of another table') });
    // Also where only the lists are another's.
    file('warehouse/mine/copied/metadata/v2.metadata.json', JSON.stringify({ ...metadata, location: uri('warehouse/mine/copied') }));
    expect((await register('warehouse/mine/copied/metadata/v2.metadata.json')).body.error).toMatchObject({ code: 403, message: expect.stringContaining('the manifest list') });
  });

  it.each([
    ['a file of another table', 'warehouse/theirs/secret/data/rows.parquet', 'lies in the folder of another table'], ['a file of nobody', 'elsewhere/payroll.csv', 'outside of the table'], ['a file by another spelling', 'warehouse/mine/own//../../theirs/secret/data/rows.parquet', 'leaves its storage'],
  ])('commits no snapshot that names %s', async (_, at, words) => {
    const snapshot = await clientSnapshot('own', 900 + at.length, uri(at));
    const { body } = await asMine('POST', '/v1/namespaces/mine/tables/own', { requirements: [], updates: [{ action: 'add-snapshot', snapshot }, { action: 'set-snapshot-ref', 'ref-name': 'main', type: 'branch', 'snapshot-id': snapshot['snapshot-id'] }] });
    expect(body.error.message).toContain(words);
    expect((await (await tableOf('mine', 'own')).current()).metadata.snapshots).toEqual([]);
  });

  it('moves no table, no view and no statistics to another place', async () => {
    const commit = (update: unknown) => asMine('POST', '/v1/namespaces/mine/tables/own', { requirements: [], updates: [update] });
    expect((await commit({ action: 'set-location', location: uri('warehouse/theirs/secret') })).status).toBe(403);
    expect((await commit({ action: 'set-location', location: uri('elsewhere') })).status).toBe(403);
    const list = (await (await tableOf('theirs', 'secret')).current()).metadata.snapshots![0]!['manifest-list']!;
    expect((await commit({ action: 'add-snapshot', snapshot: { 'snapshot-id': 4, 'sequence-number': 9, 'timestamp-ms': Date.now(), 'manifest-list': list, summary: { operation: 'append' } } })).status).toBe(403);
    expect((await commit({ action: 'set-statistics', 'snapshot-id': 1, statistics: { 'snapshot-id': 1, 'statistics-path': uri('warehouse/theirs/secret/s.puffin'), 'file-size-in-bytes': 1, 'file-footer-size-in-bytes': 1, 'blob-metadata': [] } })).status).toBe(403);
    const view = { name: 'v', schema, 'view-version': { 'version-id': 1, 'timestamp-ms': 1, 'schema-id': 0, summary: {}, representations: [{ type: 'sql', sql: 'SELECT 1 AS id', dialect: 'kind-harbor' }], 'default-namespace': ['mine'] }, properties: {} };
    expect((await asMine('POST', '/v1/namespaces/mine/views', { ...view, location: uri('warehouse/theirs/secret') })).status).toBe(403);
  });

  it('is not tied to a folder of its choice by making a namespace', async () => {
    const { body } = await asMine('POST', '/v1/namespaces', { namespace: ['mine', 'tied'], properties: { location: uri('elsewhere') } });
    expect(body.error).toMatchObject({ code: 403 });
  });
});

it('purging removes what the table names in its own folder, and nothing else', async () => {
  await create('purged', {}, everything);
  const table = await tableOf('mine', 'purged');
  file('warehouse/mine/purged/data/a.parquet');
  const stray = file('warehouse/mine/purged/notes.txt');
  await append(table, [writtenFile('warehouse/mine/purged/data/a.parquet', 1, 3)], testPorts(77));
  expect((await asMine('DELETE', '/v1/namespaces/mine/tables/purged?purgeRequested=true')).status).toBe(204);
  expect(await files('warehouse/mine/purged')).toEqual(['warehouse/mine/purged/notes.txt']);
  expect(fileURLToPath(uri('warehouse/mine/purged/notes.txt'))).toBe(stray);
  expect(await files('warehouse/theirs/secret/data')).toEqual(['warehouse/theirs/secret/data/rows.parquet']);
});
