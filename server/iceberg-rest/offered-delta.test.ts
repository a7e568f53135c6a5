/** Delta tables as the open REST catalog protocol shows them. */
import { afterAll, beforeAll, expect, it } from 'vitest';
import { append as appendToDelta, createDeltaTable } from '../../core/delta/operations';
import type { DeltaTable } from '../../core/delta/table';
import { plainReaders } from '../../core/iceberg/ports';
import { field } from '../../core/schema/types';
import { testPorts, writtenFile } from '../../core/testing/ports';
import { annotateRelation, createRelation, getRelation } from '../catalog/relations';
import { OFFERED } from '../lake/delta-faces';
import { RestBench } from '../testing/rest-bench';

let bench: RestBench;
let all: string;
beforeAll(async () => {
  bench = await RestBench.start();
  all = await bench.token({ on: '*', right: 'manage' });
  await ask('POST', '/v1/namespaces', { body: { namespace: ['t'] } });
});
afterAll(() => bench.stop());
const ask: RestBench['ask'] = (method, at, options = {}) => bench.ask(method, at, { token: all, ...options });

it('shows Delta tables that are offered, at their newest version, to read', async () => {
  const { database, lake } = bench.services;
  await createRelation(database, { namespace: 't', name: 'offered', kind: 'table', format: 'delta', storageId: lake.storage('bay').storage.id, location: 'o', definition: { kind: 'lake', pointer: 'files' } }, 'tester');
  const relation = await getRelation(database, 't', 'offered');
  await annotateRelation(database, relation, { properties: { [OFFERED]: 'true' } }, 'tester');
  lake.icebergReaders = ({ store }) => ({ ...plainReaders(store), columns: async (files) => files.map(() => [{ name: 'n', children: [] }]) });
  const delta = lake.table(relation) as DeltaTable;
  await createDeltaTable(delta, { schema: { fields: [field('n', 'long')] } }, testPorts(1));
  const rows = async () => {
    const { status, text, body } = await ask('GET', '/v1/namespaces/t/tables/offered');
    expect(status, text).toBe(200);
    return [body.metadata['table-uuid'], body.metadata.snapshots?.at(-1)?.summary['total-records']];
  };
  await appendToDelta(delta, [writtenFile('a.parquet', 1, 10)], testPorts(2));
  const [uuid, first] = await rows();
  await appendToDelta(delta, [writtenFile('b.parquet', 11, 30)], testPorts(3));
  expect([first, await rows()]).toEqual(['10', [uuid, '30']]);
  expect((await ask('GET', '/v1/namespaces/t/tables')).body.identifiers).toContainEqual({ namespace: ['t'], name: 'offered' });
  for (const [method, at, body] of [['POST', '', { requirements: [], updates: [{ action: 'set-properties', updates: { a: 'b' } }] }], ['DELETE', '', undefined]] as const) expect((await ask(method, `/v1/namespaces/t/tables/offered${at}`, { body })).body.error).toMatchObject({ code: 400, message: expect.stringContaining('kept as Delta') });
});
