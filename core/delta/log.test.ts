/** Examples: Delta transaction log protocol, "Actions", "Delta Log Entries", "Checkpoints". */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { LakeError } from '../errors';
import { MemoryStore } from '../storage/memory-store';
import { toBytes } from '../storage/object-store';
import { LATEST } from '../table/contract';
import { DeltaTable } from './table';

const SCHEMA = '{"type":"struct","fields":[{"name":"n","type":"long","nullable":true,"metadata":{}},{"name":"day","type":"date","nullable":true,"metadata":{}}]}';
const metaData = (schemaString = SCHEMA, partitionColumns: string[] = ['day']) =>
  JSON.stringify({ metaData: { id: 'af23c9d7-fff1-4a5a-a2c8-55c59bd782aa', format: { provider: 'parquet', options: {} }, schemaString, partitionColumns, configuration: {} } });
const protocol = (more: Record<string, unknown> = {}) => JSON.stringify({ protocol: { minReaderVersion: 1, minWriterVersion: 2, ...more } });
const add = (path: string, more: Record<string, unknown> = {}) =>
  JSON.stringify({ add: { path, size: 841454, modificationTime: 1512909768000, dataChange: true, partitionValues: { day: '2017-12-10' }, stats: '{"numRecords":1,"minValues":{"n":1},"maxValues":{"n":1},"nullCount":{"n":0}}', ...more } });
const remove = (path: string) => JSON.stringify({ remove: { path, deletionTimestamp: 1515488792485, dataChange: true } });

const name = (version: number) => `t/_delta_log/${String(version).padStart(20, '0')}.json`;

async function tableOf(...commits: (string[] | undefined)[]): Promise<DeltaTable> {
  const store = new MemoryStore();
  for (const [version, lines] of commits.entries()) if (lines) await store.put(name(version), toBytes(lines.join('\n')));
  return new DeltaTable(store, 't', 'ns.t');
}
const paths = async (table: DeltaTable, asOf = LATEST) => (await (await table.snapshot(asOf)).files()).map((file) => file.path).sort();
const version = (number: number) => ({ kind: 'number' as const, number: BigInt(number) });

describe('reading a Delta log', () => {
  it('adds and removes files version by version, decoding paths once', async () => {
    const table = await tableOf([protocol(), metaData(), add('date=2017-12-10/part-a%20b%2525.parquet')], [add('c.parquet')], [remove('date=2017-12-10/part-a%20b%2525.parquet')]);
    expect(await paths(table, version(1))).toEqual(['t/c.parquet', 't/date=2017-12-10/part-a b%25.parquet']);
    expect(await paths(table)).toEqual(['t/c.parquet']);
  });

  it('takes partition values from the log, typed, with an empty string as null', async () => {
    const table = await tableOf([protocol(), metaData(), add('day=lies/a.parquet'), add('b.parquet', { partitionValues: { day: '' } })]);
    const files = await (await table.snapshot(LATEST)).files();
    expect(files.map((file) => file.constants.day)).toEqual([17510, null]);
  });

  it('ignores actions and fields it does not know', async () => {
    const table = await tableOf([protocol(), metaData(), '{"sidecar":{"x":1}}', '{"somethingNew":{}}', add('a.parquet', { brandNew: true })]);
    expect(await paths(table)).toEqual(['t/a.parquet']);
  });

  it('names the versions that exist when asked for another', async () => {
    const table = await tableOf([protocol(), metaData()], [add('a.parquet')]);
    await expect(table.snapshot(version(7))).rejects.toMatchObject({ kind: 'not-found', message: 'ns.t has no version 7: it has versions 0 to 1.' });
  });

  it('names the commit that is missing in the middle', async () => {
    const table = await tableOf([protocol(), metaData()], undefined, [add('a.parquet')]);
    await expect(table.snapshot(LATEST)).rejects.toMatchObject({ kind: 'bad-file', details: { path: name(1) } });
  });

  it.each([['truncated JSON', '{"add":{"path":"a'], ['no JSON', 'hello'], ['an array', '[1]']])('names file and line of %s', async (_, line) => {
    const table = await tableOf([protocol(), metaData()], [add('a.parquet'), line]);
    await expect(table.snapshot(LATEST)).rejects.toMatchObject({ kind: 'bad-file', details: { path: name(1), line: 2 } });
  });

  it('says what lacks in a log that begins without metadata', async () => {
    const table = await tableOf([protocol(), add('a.parquet')]);
    await expect(table.snapshot(LATEST)).rejects.toThrow('has no metaData action before it');
  });

  it.each([
    ['a reader feature we lack', protocol({ minReaderVersion: 3, minWriterVersion: 7, readerFeatures: ['catalogManaged'], writerFeatures: ['catalogManaged'] }), 'catalogManaged'],
    ['a reader feature nobody knows', protocol({ minReaderVersion: 3, minWriterVersion: 7, readerFeatures: ['sometimesUpsideDown'], writerFeatures: ['sometimesUpsideDown'] }), 'sometimesUpsideDown'],
    ['a later reader version', protocol({ minReaderVersion: 4 }), 'reader version 4'],
  ])('refuses %s by name', async (_, line, words) => {
    const table = await tableOf([line, metaData(), add('a.parquet')]);
    await expect(table.snapshot(LATEST)).rejects.toMatchObject({ kind: 'unsupported', message: expect.stringContaining(words) });
  });

  it('reads a table whose feature of variant columns no column makes use of, and refuses one that does', async () => {
    const line = protocol({ minReaderVersion: 3, minWriterVersion: 7, readerFeatures: ['variantType'], writerFeatures: ['variantType'] });
    expect(await paths(await tableOf([line, metaData(), add('a.parquet')]))).toEqual(['t/a.parquet']);
    const used = await tableOf([line, metaData(SCHEMA.replace('"fields":[', '"fields":[{"name":"v","type":{"type":"array","elementType":"variant","containsNull":true},"nullable":true,"metadata":{}},'))]);
    await expect(used.snapshot(LATEST)).rejects.toMatchObject({ kind: 'unsupported', message: expect.stringContaining('variantType') });
  });

  it.each(['memory://lake/t/a.parquet', 'memory://lake/t/a%20b.parquet'])('finds a file by its absolute location %s', async (path) => {
    expect(await paths(await tableOf([protocol(), metaData(), add(path)]))).toEqual([decodeURIComponent(path.slice('memory://lake/'.length))]);
  });

  it('takes lengths of texts as they are', async () => {
    const table = await tableOf([protocol(), metaData(SCHEMA.replace('"long"', '"char(5)"'))]);
    expect((await table.snapshot(LATEST)).schema.fields[0]!.type).toEqual({ kind: 'string' });
  });

  it('refuses a data file outside the storage', async () => {
    const table = await tableOf([protocol(), metaData(), add('s3://elsewhere/a.parquet')]);
    await expect((await table.snapshot(LATEST)).files()).rejects.toThrow('outside its storage');
  });

  it('reads past statistics that are not JSON', async () => {
    const table = await tableOf([protocol(), metaData(), add('a.parquet', { stats: '{"numRecords":' })]);
    const plan = await (await table.snapshot(LATEST)).plan({ op: 'compare', column: ['n'], comparison: '=', value: 99n });
    expect(plan.files.read).toBe(1);
  });

  it.each([
    ['an add without a size', '{"add":{"path":"a","partitionValues":{}}}', 'expected "add.size" to be a number'],
    ['a protocol of text', '{"protocol":"1"}', '"protocol" to be an object'],
    ['a schema that is not one', metaData('{"type":"array"}'), 'to be a JSON struct'],
    ['a type nobody knows', metaData('{"type":"struct","fields":[{"name":"g","type":"geometry","nullable":true}]}'), '"geometry", which is not supported'],
  ])('says what is wrong with %s', async (_, line, words) => {
    const table = await tableOf([protocol(), metaData()], [line]);
    await expect(table.snapshot(LATEST)).rejects.toThrow(words);
  });

  it('fails only with errors of its own, whatever stands in the log', async () => {
    const action = fc.tuple(fc.constantFrom('add', 'remove', 'metaData', 'protocol', 'commitInfo', 'txn'), fc.oneof(fc.jsonValue(), fc.record({
      path: fc.oneof(fc.string(), fc.nat()), partitionValues: fc.oneof(fc.jsonValue(), fc.dictionary(fc.string(), fc.string())), size: fc.oneof(fc.nat(), fc.string()), stats: fc.oneof(fc.json(), fc.string()),
      schemaString: fc.oneof(fc.json(), fc.constant(SCHEMA)), id: fc.string(), partitionColumns: fc.oneof(fc.jsonValue(), fc.constant(['day'])), minReaderVersion: fc.nat(4), minWriterVersion: fc.nat(8),
    }, { requiredKeys: [] }))).map(([kind, value]) => JSON.stringify({ [kind]: value }));
    await fc.assert(fc.asyncProperty(fc.array(fc.oneof({ weight: 9, arbitrary: action }, { weight: 1, arbitrary: fc.string() }), { maxLength: 6 }), async (lines) => {
      try {
        const table = await tableOf([protocol(), metaData()], lines);
        await (await table.snapshot(LATEST)).plan({ op: 'compare', column: ['n'], comparison: '=', value: 1n });
        await table.history();
      } catch (error) {
        if (!(error instanceof LakeError)) throw error;
      }
    }), { seed: 8, numRuns: 10_000 });
  });
});

describe('the time of a version', () => {
  it('is the in-commit timestamp where there is one, else the modified time, never going back', async () => {
    const clock = { at: 0, now: () => clock.at };
    const store = new MemoryStore({ clock });
    const put = async (number: number, at: string, lines: string[]) => {
      clock.at = Date.parse(at);
      await store.put(name(number), toBytes(lines.join('\n')));
    };
    await put(0, '2026-01-01T10:00:00Z', [protocol(), metaData()]);
    await put(1, '2026-01-01T09:00:00Z', [add('a.parquet')]); // the clock went backwards
    await put(2, '2026-01-02T00:00:00Z', ['{"commitInfo":{"inCommitTimestamp":1767400000000}}', metaData().replace('"configuration":{}', '"configuration":{"delta.enableInCommitTimestamps":"true","delta.inCommitTimestampEnablementVersion":"2"}'), add('b.parquet')]);
    const table = new DeltaTable(store, 't', 'ns.t');
    expect((await table.history()).map((entry) => new Date(entry.at).toISOString())).toEqual(['2026-01-01T10:00:00.000Z', '2026-01-01T10:00:00.001Z', '2026-01-03T00:26:40.000Z']);
    expect((await table.snapshot({ kind: 'time', at: Date.parse('2026-01-01T10:00:00.000Z') })).version).toBe(0);
    await expect(table.snapshot({ kind: 'time', at: 0 })).rejects.toThrow('did not exist at 1970');
  });
});

describe('a damaged log', () => {
  const checkpointOf = (n: number) => ({ tableSizeBytes: n, numFiles: 1, numMetadata: 1, numProtocol: 1 });

  it('names both files where two claim one version', async () => {
    const table = await tableOf([protocol(), metaData()], [add('a.parquet')]);
    await table.store.put('t/_delta_log/1.json', toBytes(add('b.parquet')));
    await expect(table.snapshot(LATEST)).rejects.toMatchObject({ kind: 'bad-file', message: expect.stringContaining('version 1 has two commit files') as string });
  });

  it.each([['', 'is empty'], ['\n \n', 'is empty'], ['{"add":{"path":"a.parq', 'expected one JSON action']])('names a commit of %j', async (text, words) => {
    const table = await tableOf([protocol(), metaData()]);
    await table.store.put(name(1), toBytes(text));
    await expect(table.snapshot(LATEST)).rejects.toMatchObject({ kind: 'bad-file', message: expect.stringContaining(words) as string, details: { path: name(1), line: 1 } });
  });

  it('that does not fit its checksum file is told, with what each says', async () => {
    const table = await tableOf([protocol(), metaData(), add('a.parquet')]);
    await table.store.put('t/_delta_log/00000000000000000000.crc', toBytes(JSON.stringify(checkpointOf(999))));
    await expect(table.snapshot(LATEST)).rejects.toMatchObject({ kind: 'bad-file', message: expect.stringContaining('1 files and 841454 bytes by its log, but 1 files and 999 bytes by its checksum') as string });
  });

  it('is read where the checksum file fits, or is itself no checksum', async () => {
    for (const text of [JSON.stringify(checkpointOf(841454)), 'not JSON', '{}']) {
      const table = await tableOf([protocol(), metaData(), add('a.parquet')]);
      await table.store.put('t/_delta_log/00000000000000000000.crc', toBytes(text));
      expect(await paths(table)).toEqual(['t/a.parquet']);
    }
  });

  it.each(['../other/a.parquet', 'day=1/../../a.parquet'])('with a path that leaves the table\'s folder is refused: %s', async (path) => {
    const table = await tableOf([protocol(), metaData(), add(path)]);
    await expect((await table.snapshot(LATEST)).files()).rejects.toMatchObject({ kind: 'bad-file', message: expect.stringContaining('outside the table\'s folder') as string });
  });

  it('takes files by absolute paths of its own storage', async () => {
    const store = new MemoryStore();
    await store.put(name(0), toBytes([protocol(), metaData(), add(`${store.uri}/elsewhere/a.parquet`)].join('\n')));
    expect(await paths(new DeltaTable(store, 't', 'ns.t'))).toEqual(['elsewhere/a.parquet']);
  });

  it('whose partition value is of another type than its column is told with file and value', async () => {
    const table = await tableOf([protocol(), metaData(), add('a.parquet', { partitionValues: { day: 'someday' } })]);
    await expect((await table.snapshot(LATEST)).files()).rejects.toMatchObject({ kind: 'bad-file', message: expect.stringContaining('a.parquet the value "someday" in the partition column day') as string });
  });
});

describe('a log that goes on', () => {
  it('is followed from the newest commit alone, and read anew when that is another', async () => {
    const table = await tableOf([protocol(), metaData(), add('a.parquet')]);
    expect(await paths(table)).toEqual(['t/a.parquet']);
    await table.store.put(name(1), toBytes(add('b.parquet')));
    expect(await paths(table)).toEqual(['t/a.parquet', 't/b.parquet']);
    // Somebody made the table anew in the same place.
    await table.store.delete(name(1));
    await table.store.put(name(0), toBytes([protocol(), metaData(), add('c.parquet', { size: 5 })].join('\n')));
    expect(await paths(table)).toEqual(['t/c.parquet']);
  });

  it('is whole where a listing that raced with its writer left a commit out', async () => {
    const table = await tableOf([protocol(), metaData(), add('a.parquet')], [add('b.parquet')], [add('c.parquet')]);
    const { store } = table;
    const listFolder = store.listFolder.bind(store);
    store.listFolder = async (folder) => {
      const page = await listFolder(folder);
      return { ...page, files: page.files.filter((file) => file.path !== name(1)) };
    };
    expect(await paths(table, version(1))).toEqual(['t/a.parquet', 't/b.parquet']);
  });

  it('is not listed anew where a store tells times less exactly of one file than of a folder', async () => {
    const table = await tableOf([protocol(), metaData(), add('a.parquet')]);
    const { store } = table;
    let listings = 0;
    const coarse = Object.assign(Object.create(store) as typeof store, {
      uri: store.uri, read: store.read.bind(store),
      head: async (path: string) => {
        const info = await store.head(path);
        return info && { ...info, etag: `"${path}"`, modified: Math.floor(info.modified / 1000) * 1000 };
      },
      listFolder: async (path: string) => {
        listings++;
        const page = await store.listFolder(path);
        return { ...page, files: page.files.map((file) => ({ ...file, etag: `"${file.path}"`, modified: file.modified + 0.5 })) };
      },
    });
    const followed = new DeltaTable(coarse, 't', 'ns.t');
    for (let n = 0; n < 3; n++) expect(await paths(followed)).toEqual(['t/a.parquet']);
    expect(listings).toBe(1);
  });

  it('is read by a log compaction file in the place of the commits that it sums up', async () => {
    const table = await tableOf([protocol(), metaData(), add('a.parquet')], [add('b.parquet')], [remove('b.parquet')], [add('c.parquet')]);
    await table.store.put('t/_delta_log/00000000000000000001.00000000000000000002.compacted.json', toBytes(remove('b.parquet')));
    // Were these read, they would fail.
    for (const version of [1, 2]) await table.store.put(name(version), toBytes('not read'));
    expect(await paths(table)).toEqual(['t/a.parquet', 't/c.parquet']);
  });
});
