/** Keys for a while from a store that gives them (AWS Security Token Service, AssumeRole), narrowed to one table. */
import { afterAll, beforeAll, expect, it } from 'vitest';
import { ObjectStoreStandIn } from '../standins/object-store';
import { S3Store } from '../storage/s3-store';
import { temporaryFolder } from '../testing/lake-tools';
import { RestBench } from '../testing/rest-bench';

const folder = temporaryFolder();
const keys = { accessKeyId: 'whole', secretAccessKey: 'of-the-store', rights: ['list', 'read', 'write', 'delete'] as const };
const standIn = new ObjectStoreStandIn(folder.path, [keys]);
let bench: RestBench;
beforeAll(async () => {
  standIn.addBucket('wide');
  bench = await RestBench.start();
  const settings = { endpoint: await standIn.listen(0), region: 'bay-1', bucket: 'wide', prefix: 'lake', addressing: 'path' };
  const { lake, database } = bench.services;
  await lake.addStorage({ name: 'wide', kind: 's3', location: '', settings, secret: lake.secrets.seal({ accessKeyId: keys.accessKeyId, secretAccessKey: keys.secretAccessKey }) } as never, 'tester');
  await database.query("INSERT INTO namespace (name) VALUES ('s')");
});
afterAll(async () => {
  await bench.stop();
  await standIn.close();
  folder.remove();
});

it('reach the table that they are for, to read or to write as the token may, and nothing else', async () => {
  const manage = await bench.token({ on: 's', right: 'manage' });
  const wants = { 'x-iceberg-access-delegation': 'vended-credentials' };
  const make = (name: string) => bench.ask('POST', '/v1/wide/namespaces/s/tables', { token: manage, body: { name, schema: { type: 'struct', fields: [{ id: 1, name: 'id', required: false, type: 'long' }] } } });
  const [one, other] = [await make('one'), await make('other')];
  expect(one.body['metadata-location']).toMatch(/^s3:\/\/wide\/lake\/warehouse\/s\/one\/metadata\//);
  expect(one.body.config).toMatchObject({ 's3.path-style-access': 'true', 's3.region': 'bay-1' });
  expect(JSON.stringify(one.body)).not.toContain('of-the-store');
  expect(one.body['storage-credentials']).toBeUndefined();
  const storeFor = async (right: 'read' | 'write') => {
    const token = await bench.token({ on: 's.one', right });
    const { body } = await bench.ask('GET', '/v1/namespaces/s/tables/one', { token, headers: wants });
    const [given] = body['storage-credentials'];
    expect(given.prefix).toBe('s3://wide/lake/warehouse/s/one');
    expect((await bench.ask('GET', '/v1/namespaces/s/tables/one/credentials', { token })).body['storage-credentials'][0].prefix).toBe(given.prefix);
    const { config } = given;
    return new S3Store({ endpoint: config['s3.endpoint'], region: 'bay-1', bucket: 'wide', prefix: '', addressing: 'path' }, () => ({ accessKeyId: config['s3.access-key-id'], secretAccessKey: config['s3.secret-access-key'], sessionToken: config['s3.session-token'] }));
  };
  const inStore = (location: string) => location.slice('s3://wide/'.length);
  const reader = await storeFor('read');
  expect((await reader.read(inStore(one.body['metadata-location']))).length).toBeGreaterThan(100);
  await expect(reader.read(inStore(other.body['metadata-location']))).rejects.toMatchObject({ kind: 'refused' });
  await expect(reader.put('lake/warehouse/s/one/data/x', new Uint8Array(3))).rejects.toMatchObject({ kind: 'refused' });
  const writer = await storeFor('write');
  await writer.put('lake/warehouse/s/one/data/x', new Uint8Array(3));
  await expect(writer.put('lake/warehouse/s/other/data/x', new Uint8Array(3))).rejects.toMatchObject({ kind: 'refused' });
  await expect(writer.put('lake/warehouse/s/one-more/x', new Uint8Array(3))).rejects.toMatchObject({ kind: 'refused' });
}, 30_000);
