/** Branches and tags, expiry, orphans, manifests put together, vectors in Puffin files. */
import fc from 'fast-check';
import { beforeEach, describe, expect, it } from 'vitest';
import { LakeError } from '../errors';
import { field } from '../schema/types';
import { MemoryStore } from '../storage/memory-store';
import { toBytes } from '../storage/object-store';
import { LATEST } from '../table/contract';
import { testPorts, writtenFile } from '../testing/ports';
import { decodeEntries } from './entry-columns';
import { expireSnapshots, planExpiry, planOrphans, removeOrphans } from './expire';
import { entriesOf, readManifest } from './manifest';
import { refsOf, type SnapshotId } from './metadata';
import { addColumns, append, changePartitioning, changeSchema, changeSortOrder, createIcebergTable, setProperties, upgrade } from './operations';
import { FilePointer } from './pointer';
import { decodeBlob, loadVector, packVectors, readPuffinFooter } from './puffin';
import { cherryPick, dropRef, fastForward, rollBack, setRef } from './refs';
import { rewriteManifests } from './rewrite';
import { withChangedColumn, withMovedColumn, withoutColumn, withRenamedColumn, withWidenedColumn } from './schema-edit';
import { IcebergTable } from './table';

let store: MemoryStore;
let table: IcebergTable;
let writes = 2;
const at = (hour: number) => testPorts(writes++, `2026-02-01T${String(hour).padStart(2, '0')}:00:00Z`);
const NOW = Date.parse('2026-02-01T23:00:00Z');
const HOUR = 3_600_000;
const open = () => new IcebergTable(store, 't', 'ns.t', new FilePointer(store, 't'));
const add = (name: string, hour: number, branch?: string) => append(table, [writtenFile(`t/data/${name}.parquet`, 1, 10)], at(hour), branch === undefined ? {} : { branch });
const files = async (asOf = LATEST) => (await (await open().snapshot(asOf)).files()).map(({ path }) => path.slice('t/data/'.length, -'.parquet'.length)).sort().join('');
const ref = (name: string) => ({ kind: 'ref' as const, name });
beforeEach(async () => {
  store = new MemoryStore();
  table = open();
  await createIcebergTable(table, { schema: { fields: [field('n', 'long'), field('g', { kind: 'struct', fields: [field('x', 'int')] })] } }, testPorts());
});

describe('a history of which another program expired the middle', () => {
  it('keeps what is older, which can be read and restored', async () => {
    const ids: SnapshotId[] = [];
    for (const [index, name] of ['a', 'b', 'c', 'd'].entries()) ids.push((await add(name, index + 1))['snapshot-id']);
    const { metadata } = await table.current();
    const { 'current-snapshot-id': _, ...rest } = metadata;
    // What the Java and Python libraries leave: the log of before the expired one goes too.
    const cut = { ...rest, 'current-snapshot-id': ids[3]!, snapshots: metadata.snapshots!.filter((each) => each['snapshot-id'] !== ids[1]), 'snapshot-log': metadata['snapshot-log']!.slice(2) };
    await store.put('t/metadata/v9.metadata.json', toBytes(JSON.stringify(cut)));
    await store.put('t/metadata/version-hint.text', toBytes('9'));
    table = open();
    expect((await table.history()).flatMap(({ version, snapshotId }) => (version === undefined ? [] : [[version, snapshotId]]))).toEqual([[1, String(ids[0])], [3, String(ids[2])], [4, String(ids[3])]]);
    expect(await files({ kind: 'number', number: 1n })).toBe('a');
    await rollBack(table, ids[0]!, at(20));
    expect(await files()).toBe('a');
  });
});

describe('branches and tags', () => {
  it('move apart and together again', async () => {
    const first = await add('a', 1);
    await setRef(table, { name: 'trial', type: 'branch', minSnapshotsToKeep: 2 }, at(2));
    await setRef(table, { name: 'first', type: 'tag' }, at(2));
    await add('b', 3, 'trial');
    expect([await files(), await files(ref('trial')), await files(ref('TRIAL'))]).toEqual(['a', 'ab', 'ab']);
    await fastForward(table, 'main', 'trial', at(4));
    expect(await files()).toBe('ab');
    await add('c', 5);
    await add('d', 6, 'trial');
    await expect(fastForward(table, 'main', 'trial', at(7))).rejects.toMatchObject({ kind: 'conflict', message: expect.stringContaining('does not come after "main"') });
    const { metadata } = await table.current();
    await cherryPick(table, refsOf(metadata).trial!['snapshot-id'], at(8));
    expect(await files()).toBe('abcd');
    await expect(cherryPick(table, refsOf(metadata).trial!['snapshot-id'], at(8))).rejects.toThrow('is in ns.t already');
    await rollBack(table, first['snapshot-id'], at(9));
    expect([await files(), await files(ref('first')), await files(ref('trial'))]).toEqual(['a', 'a', 'abd']);
    // At that time another snapshot was current, whatever is now.
    expect(await files({ kind: 'time', at: Date.parse('2026-02-01T08:30:00Z') })).toBe('abcd');
    await rollBack(table, refsOf(metadata).trial!['snapshot-id'], at(10));
    expect(await files()).toBe('abd');
    await rollBack(table, first['snapshot-id'], at(10));
    await expect(rollBack(table, 123456, at(10))).rejects.toMatchObject({ kind: 'not-found' });
    await dropRef(table, 'trial', at(10));
    await expect(files(ref('trial'))).rejects.toMatchObject({ kind: 'not-found', details: { hint: 'It has main, first.' } });
    await expect(append(table, [], at(11), { branch: 'first' })).rejects.toThrow('is a tag; rows are written to branches');
    await expect(dropRef(table, 'main', at(11))).rejects.toThrow('cannot be dropped');
    await expect(setRef(table, { name: 'first', type: 'branch' }, at(11))).rejects.toThrow('is a tag already');
  });
});

describe('expiry', () => {
  it('takes old snapshots with the files that only they need, and nothing that a branch or tag needs', async () => {
    await add('a', 1);
    await setRef(table, { name: 'kept', type: 'tag' }, at(1));
    await add('b', 2);
    const before = await table.stateOf((await table.current()).path, (await table.current()).metadata, (await table.current()).metadata.snapshots!.at(-1)).files.files();
    const { commitSnapshot } = await import('./snapshot-commit');
    await commitSnapshot(table, { removed: before.map((each) => ({ file: table.entryOf(each).file, specId: 0 })) }, at(3));
    await add('c', 4);
    for (const name of ['a', 'b', 'c']) await store.put(`t/data/${name}.parquet`, toBytes(name));
    const plan = await planExpiry(table, { now: NOW, olderThanMs: HOUR });
    expect([plan.snapshots.length, plan.kept]).toEqual([2, 2]);
    expect(plan.files.filter(({ path }) => path.startsWith('t/data/')).map(({ path }) => path)).toEqual(['t/data/b.parquet']);
    await expireSnapshots(table, { now: NOW, olderThanMs: HOUR }, at(12));
    expect([await files(), await files(ref('kept'))]).toEqual(['c', 'a']);
    expect((await store.list('t/data')).map(({ path }) => path)).toEqual(['t/data/a.parquet', 't/data/c.parquet']);
    for (const snapshot of (await table.current()).metadata.snapshots!) expect(await open().manifests((await table.current()).metadata, snapshot)).not.toBe(undefined);
    expect((await planExpiry(table, { now: NOW, olderThanMs: HOUR })).snapshots).toEqual([]);
  });

  it('keeps what the table and its branches say, by number and age, and lets refs go whose time is over', async () => {
    for (const [index, name] of ['a', 'b', 'c', 'd'].entries()) await add(name, index + 1);
    await setRef(table, { name: 'side', type: 'branch', minSnapshotsToKeep: 3 }, at(5));
    await setRef(table, { name: 'old', type: 'tag', maxRefAgeMs: HOUR }, at(5));
    await setProperties(table, { 'history.expire.max-snapshot-age-ms': String(HOUR), 'history.expire.min-snapshots-to-keep': '2' }, at(6));
    const plan = await planExpiry(table, { now: NOW });
    expect([plan.snapshots.length, plan.refs]).toEqual([1, ['old']]);
    // Nothing is old enough by the standard of five days.
    await setProperties(table, { 'history.expire.max-snapshot-age-ms': null }, at(7));
    expect((await planExpiry(table, { now: NOW })).snapshots).toEqual([]);
  });

  it('names files in the folder that nothing needs, once they are old enough', async () => {
    await add('a', 1);
    for (const name of ['a', 'lost']) await store.put(`t/data/${name}.parquet`, toBytes(name));
    const young = await planOrphans(table, Date.now(), HOUR);
    expect([young.files, young.young]).toEqual([[], 1]);
    const plan = await planOrphans(table, Date.now() + 2 * HOUR, HOUR);
    expect(plan.files.map(({ path }) => path)).toEqual(['t/data/lost.parquet']);
    await removeOrphans(table, plan);
    expect(await files()).toBe('a');
  });
});

describe('manifests', () => {
  const counts = async () => {
    const { metadata } = await table.current();
    return (await table.manifests(metadata, metadata.snapshots!.at(-1))).length;
  };

  it('are put together as snapshots are made, and when asked, with every file still there', async () => {
    await setProperties(table, { 'commit.manifest.min-count-to-merge': '4' }, at(0));
    for (let n = 0; n < 10; n++) await add('abcdefghij'[n]!, n + 1);
    expect(await counts()).toBeLessThan(4);
    expect(await files()).toBe('abcdefghij');
    await setProperties(table, { 'commit.manifest-merge.enabled': 'false' }, at(12));
    for (const name of ['k', 'l', 'm']) await add(name, 13);
    const before = await counts();
    expect(await rewriteManifests(table, 8e6, at(14), false)).toMatchObject({ before, after: 1, snapshot: undefined });
    await rewriteManifests(table, 8e6, at(14), true);
    expect([await counts(), await files()]).toEqual([1, 'abcdefghijklm']);
    expect((await open().history()).at(-1)).toMatchObject({ operation: 'replace', kind: 'upkeep' });
  });

  it('give rows of version 3 ids that stay, through upgrade, merging and rewriting', async () => {
    await add('a', 1);
    await upgrade(table, 3, at(2));
    const idsOf = async () => {
      const { metadata } = await table.current();
      const found: Record<string, number | undefined> = { next: metadata['next-row-id'] };
      for (const manifest of await table.manifests(metadata, metadata.snapshots!.at(-1))) for (const { status, file } of entriesOf(await table.entries(metadata, manifest), manifest, { 'spec-id': 0, fields: [] })) if (status !== 'deleted') found[file.path.slice(-9, -8)] = file.firstRowId;
      return found;
    };
    await add('b', 3);
    const given = await idsOf();
    expect(given.next).toBe(20);
    expect(new Set([given.a, given.b])).toEqual(new Set([0, 10]));
    await rewriteManifests(table, 8e6, at(4), true);
    expect(await idsOf()).toMatchObject({ a: given.a, b: given.b });
    await setProperties(table, { 'commit.manifest.min-count-to-merge': '1' }, at(5));
    await add('c', 6);
    expect(await idsOf()).toMatchObject({ a: given.a, b: given.b });
    await expect(upgrade(table, 2, at(7))).rejects.toThrow('has format version 3, which cannot become 2');
  });

  it('are refused by name wherever they are damaged', async () => {
    const snapshot = await add('a', 1);
    const { metadata } = await table.current();
    const [manifest] = await table.manifests(metadata, snapshot);
    const bytes = await store.read(table.storePath(manifest!.path, metadata));
    expect(await readManifest(bytes, manifest!, { 'spec-id': 0, fields: [] })).toHaveLength(1);
    await fc.assert(fc.asyncProperty(fc.nat(bytes.length - 1), fc.nat(255), fc.boolean(), async (place, byte, cut) => {
      const damaged = cut ? bytes.slice(0, place) : Uint8Array.from(bytes, (each, index) => (index === place ? byte : each));
      try {
        entriesOf(await decodeEntries(damaged, 'm.avro'), manifest!, { 'spec-id': 0, fields: [] });
      } catch (error) {
        expect(error).toBeInstanceOf(LakeError);
      }
    }), { seed: 5, numRuns: 800 });
  });
});

describe('columns', () => {
  it('are renamed, moved, widened, made optional and dropped, inside others too, and ids are never given again', async () => {
    const names = async () => (await open().snapshot(LATEST)).schema.fields.map(({ id, name, type }) => `${id} ${name} ${type.kind}`);
    await addColumns(table, [field('p', parse('int')), field('q', { kind: 'decimal', precision: 5, scale: 2 })], at(1));
    await changeSchema(table, (metadata) => withRenamedColumn(metadata, 't', 'p', 'pp'), at(2));
    await changeSchema(table, (metadata) => withMovedColumn(metadata, 't', 'pp', null), at(2));
    await changeSchema(table, (metadata) => withWidenedColumn(metadata, 't', 'pp', { kind: 'long' }), at(3));
    await changeSchema(table, (metadata) => withWidenedColumn(metadata, 't', 'q', { kind: 'decimal', precision: 9, scale: 2 }), at(3));
    await addColumns(table, [field('y', 'string')], at(4), 'g');
    await changeSchema(table, (metadata) => withoutColumn(metadata, 't', 'g.x'), at(4));
    expect(await names()).toEqual(['4 pp long', '1 n long', '2 g struct', '5 q decimal']);
    await changeSchema(table, (metadata) => withoutColumn(metadata, 't', 'q'), at(5));
    await addColumns(table, [field('q', 'string')], at(5));
    expect(await names()).toContain('7 q string');
    await changeSchema(table, (metadata) => withChangedColumn(metadata, 't', 'n', { comment: 'counted' }), at(5));
    expect((await open().snapshot(LATEST)).schema.fields[1]!.comment).toBe('counted');
    for (const [change, words] of [
      [(metadata: never) => withWidenedColumn(metadata, 't', 'pp', { kind: 'int' }), 'cannot become int'], [(metadata: never) => withRenamedColumn(metadata, 't', 'pp', 'N'), 'has a column "N" already'],
      [(metadata: never) => withoutColumn(metadata, 't', 'nothing'), 'has no column "nothing"'], [(metadata: never) => withMovedColumn(metadata, 't', 'pp', 'zz'), 'no column "zz"'],
    ] as const) await expect(changeSchema(table, change as never, at(6))).rejects.toThrow(words);
    await changePartitioning(table, { add: [{ source: 'n', transform: 'bucket[4]' }] }, at(7));
    await expect(changeSchema(table, (metadata) => withoutColumn(metadata, 't', 'n'), at(8))).rejects.toThrow('is partitioned by "n" (n_bucket_4)');
    await changePartitioning(table, { remove: ['n_bucket_4'] }, at(9));
    await changeSortOrder(table, [{ column: 'n', descending: true, nullsLast: true }], at(9));
    await expect(changeSchema(table, (metadata) => withoutColumn(metadata, 't', 'n'), at(10))).rejects.toThrow('is sorted by "n"');
    expect((await table.current()).metadata['partition-specs'].map((spec) => spec.fields.map((each) => each['field-id']))).toEqual([[], [1000]]);
  });

  function parse(kind: 'int') {
    return { kind };
  }
});

describe('metadata files', () => {
  it('are forgotten by number, and removed when the table says so; packed when it says so', async () => {
    await setProperties(table, { 'write.metadata.previous-versions-max': '3', 'write.metadata.delete-after-commit.enabled': 'true' }, at(1));
    for (let n = 0; n < 6; n++) await setProperties(table, { n: String(n) }, at(n + 2));
    const { metadata } = await table.current();
    expect(metadata['metadata-log']!.map((each) => each['metadata-file'].replace(/.*\//, ''))).toEqual(['v5.metadata.json', 'v6.metadata.json', 'v7.metadata.json']);
    expect((await store.list('t/metadata')).map(({ path }) => path.replace(/.*\//, '')).filter((name) => name.startsWith('v') && name.endsWith('.json'))).toEqual(['v5.metadata.json', 'v6.metadata.json', 'v7.metadata.json', 'v8.metadata.json']);
  });
});

describe('a vector in a Puffin file', () => {
  const lists = [[0], [3, 4, 7, 11, 18, 29], Array.from({ length: 5000 }, (_, n) => n * 40)];

  it('comes back from its place, and the footer names it', async () => {
    const { bytes, vectors } = packVectors(lists.map((rows, index) => ({ referencedFile: `s3://b/${index}.parquet`, rows })));
    await store.put('v.puffin', bytes);
    for (const [index, each] of vectors.entries()) expect([...await loadVector(store, { path: 'v.puffin', offset: each.offset, bytes: each.bytes, cardinality: each.cardinality })]).toEqual(lists[index]);
    const footer = await readPuffinFooter(store, 'v.puffin');
    // "Puffin", deletion-vector-v1: snapshot-id and sequence-number are -1, and these two properties are needed.
    expect(footer[1]).toEqual({ type: 'deletion-vector-v1', fields: [], 'snapshot-id': -1, 'sequence-number': -1, offset: vectors[1]!.offset, length: vectors[1]!.bytes, properties: { 'referenced-data-file': 's3://b/1.parquet', cardinality: '6' } });
    await expect(loadVector(store, { path: 'v.puffin', offset: 4, bytes: vectors[0]!.bytes, cardinality: 2 })).rejects.toMatchObject({ kind: 'bad-file', message: expect.stringContaining('deletes 1 rows, its manifest says 2') });
  });

  it('fails only with errors of its own, whatever the bytes', async () => {
    const { bytes, vectors } = packVectors([{ referencedFile: 'a', rows: lists[1]! }]);
    const { offset, bytes: length } = vectors[0]!;
    await fc.assert(fc.asyncProperty(fc.nat(bytes.length - 1), fc.nat(255), fc.boolean(), async (place, byte, cut) => {
      const damaged = cut ? bytes.slice(0, place) : Uint8Array.from(bytes, (each, index) => (index === place ? byte : each));
      await store.put('d.puffin', damaged);
      for (const attempt of [async () => readPuffinFooter(store, 'd.puffin'), async () => decodeBlob(damaged.slice(offset, offset + length), length)]) await attempt().catch((error: unknown) => expect(error).toBeInstanceOf(LakeError));
    }), { seed: 6, numRuns: 500 });
  });
});
