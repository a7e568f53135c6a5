/** `iceberg-js`, an independent client of the open REST catalog protocol, with every call that it has. */
import { IcebergRestCatalog } from 'iceberg-js';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { RestBench } from '../testing/rest-bench';

let bench: RestBench;
beforeAll(async () => {
  bench = await RestBench.start();
});
afterAll(() => bench.stop());

it('iceberg-js does everything that it can do', async () => {
  const client = new IcebergRestCatalog({ baseUrl: bench.url, auth: { type: 'bearer', token: await bench.token({ on: '*', right: 'manage' }) }, accessDelegation: ['vended-credentials'] });
  const namespace = ['far', 'away'];
  const id = { namespace, name: 'table' };
  expect(await client.createNamespace({ namespace }, { properties: { owner: 'x' } })).toMatchObject({ namespace, properties: { owner: 'x' } });
  expect(await client.createNamespaceIfNotExists({ namespace })).toBeUndefined();
  expect(await client.listNamespaces({ namespace: ['far'] })).toEqual([{ namespace }]);
  expect(await client.loadNamespaceMetadata({ namespace })).toMatchObject({ properties: { owner: 'x' } });
  expect(await client.namespaceExists({ namespace })).toBe(true);
  expect(await client.namespaceExists({ namespace: ['nowhere'] })).toBe(false);
  const request = { name: 'table', schema: { type: 'struct' as const, fields: [{ id: 1, name: 'id', type: 'long', required: true }, { id: 2, name: 'at', type: 'timestamp', required: false }] }, 'partition-spec': { 'spec-id': 0, fields: [{ source_id: 2, field_id: 1000, name: 'at_day', transform: 'day' }] } };
  expect(await client.createTable({ namespace }, request)).toMatchObject({ 'partition-specs': [{ fields: [{ 'source-id': 2, transform: 'day' }] }] });
  expect(await client.createTableIfNotExists({ namespace }, request)).toMatchObject({ 'current-schema-id': 0 });
  expect(await client.listTables({ namespace })).toEqual([id]);
  expect(await client.loadTable(id)).toMatchObject({ 'last-column-id': 2 });
  expect(await client.tableExists(id)).toBe(true);
  expect((await client.updateTable(id, { properties: { a: 'b' } })).metadata.properties).toEqual({ a: 'b' });
  await expect(client.loadTable({ namespace, name: 'other' })).rejects.toMatchObject({ status: 404, icebergType: 'NoSuchTableException' });
  await expect(client.dropNamespace({ namespace })).rejects.toMatchObject({ status: 409, icebergType: 'NamespaceNotEmptyException' });
  await client.dropTable(id, { purge: true });
  expect(await client.tableExists(id)).toBe(false);
  await client.dropNamespace({ namespace });
});
