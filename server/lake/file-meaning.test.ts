/** What metadata files say, with links to the files that they name: a table that another writer made, and one of ours. */
import path from 'node:path';
import { describe, expect, it } from 'vitest';
import { append, createIcebergTable } from '../../core/iceberg/operations';
import { FilePointer } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import { field } from '../../core/schema/types';
import { MemoryStore } from '../../core/storage/memory-store';
import { toBytes } from '../../core/storage/object-store';
import { testPorts } from '../../core/testing/ports';
import { projectRoot } from '../program-files';
import { DiskStore } from '../storage/disk-store';
import { meaningOf } from './file-meaning';

const fixtures = new DiskStore(path.join(projectRoot, 'fixtures'));
const commit = (version: number) => `delta/history/_delta_log/${String(version).padStart(20, '0')}.json`;

describe('a Delta commit', () => {
  it('is its actions; files whose names hold escapes are found by their links', async () => {
    const meaning = (await meaningOf(fixtures, commit(1)))!;
    expect(meaning.title).toBe('Delta commit, version 1: 3 actions');
    expect(meaning.facts[0]).toEqual({ what: 'operation', text: expect.stringMatching(/^WRITE, \d{4}-/) as string });
    const added = meaning.facts.filter((fact) => fact.what === 'adds a file');
    expect(added.length).toBe(2);
    for (const { path: file } of added) expect(await fixtures.head(file!), file).toBeDefined();
  });

  it('tells protocol, columns and partitions of the first version', async () => {
    const facts = new Map((await meaningOf(fixtures, commit(0)))!.facts.map((fact) => [fact.what, fact.text]));
    expect(facts.get('protocol')).toMatch(/^readers \d, writers \d/);
    expect(facts.get('table')).toContain('partitioned by site');
    expect(facts.get('columns')).toContain('site');
  });

  it('that is damaged has no meaning, and is shown as text', async () => {
    const store = new MemoryStore();
    await store.put('t/_delta_log/00000000000000000000.json', toBytes('{"add":'));
    expect(await meaningOf(store, 't/_delta_log/00000000000000000000.json')).toBeNull();
  });
});

it('Iceberg metadata leads to the manifest list, that to the manifest, that to the data file', async () => {
  const store = new MemoryStore();
  const table = new IcebergTable(store, 't', 't', new FilePointer(store, 't'));
  await createIcebergTable(table, { schema: { fields: [field('n', 'long', { id: 1 })] } }, testPorts(1));
  await append(table, [{ path: 't/data/one.parquet', bytes: 321, modified: 0, rows: 7, partition: {}, columns: new Map() } as never], testPorts(2));
  const newest = (await store.list('t/metadata')).map((each) => each.path).filter((each) => each.endsWith('.metadata.json')).sort().at(-1)!;
  const metadata = (await meaningOf(store, newest))!;
  expect(metadata.title).toMatch(/^Iceberg metadata, format 2: 1 snapshots/);
  expect(metadata.facts.find((fact) => fact.what === 'columns')!.text).toBe('1 n');
  const list = (await meaningOf(store, metadata.facts.find((fact) => fact.path)!.path!))!;
  expect(list.title).toBe('Iceberg manifest list: 1 manifests');
  const manifest = (await meaningOf(store, list.facts[0]!.path!))!;
  expect(manifest.facts).toEqual([{ what: 'added', text: 't/data/one.parquet, 7 rows', path: 't/data/one.parquet' }]);
});

it('an Avro file is its schema; other files have no meaning of their own', async () => {
  const avro = (await meaningOf(fixtures, 'plain/readings-deflate.avro'))!;
  expect(avro.title).toBe('Avro, record bay.gauges.Reading');
  expect(avro.facts[0]).toEqual({ what: 'id', text: '"long"' });
  expect(await meaningOf(fixtures, 'plain/readings.json')).toBeNull();
});
