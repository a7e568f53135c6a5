/** Rules: Apache Iceberg table specification, "Table Metadata", "Snapshots", "Manifests", "Sequence Numbers". */
import { gzipSync } from 'node:zlib';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { LakeError } from '../errors';
import { whySkipped } from '../scan/plan';
import type { Predicate } from '../scan/predicate';
import { field } from '../schema/types';
import { MemoryStore } from '../storage/memory-store';
import { toBytes, toText, type ObjectStore } from '../storage/object-store';
import { LATEST } from '../table/contract';
import type { WrittenFile } from '../table/written-file';
import { CrashingStore } from '../testing/crashing-store';
import { testPorts, writtenFile } from '../testing/ports';
import { readAvro } from './avro';
import { stringifyJson } from '../json';
import { parseMetadata } from './metadata';
import { addColumns, append, createIcebergTable } from './operations';
import { CatalogPointer, FilePointer, type PointerCell } from './pointer';
import { IcebergTable } from './table';

const schema = { fields: [field('n', 'long'), field('at', 'timestamptz')] };
const day = (text: string) => Date.parse(text) / 86_400_000;
const file = (name: string, min: number, max: number, on = '2026-01-01'): WrittenFile => writtenFile(`t/data/${name}.parquet`, min, max, { at_day: day(on) });

/** The compare-and-swap that a catalog gives. */
class Cell implements PointerCell {
  value: string | undefined;

  async read(): Promise<string | undefined> {
    return this.value;
  }

  async swap(expected: string | undefined, next: string): Promise<boolean> {
    await Promise.resolve();
    if (this.value !== expected) return false;
    this.value = next;
    return true;
  }
}

function open(store: ObjectStore, cell: Cell | undefined, writer = 1): IcebergTable {
  return new IcebergTable(store, 't', 'ns.t', cell ? new CatalogPointer(store, 't', cell, testPorts(500 + writer).ids) : new FilePointer(store, 't'));
}

async function newTable(owned = true) {
  const store = new MemoryStore();
  const cell = owned ? new Cell() : undefined;
  const table = open(store, cell);
  await createIcebergTable(table, { schema, partitionBy: [{ source: 'at', transform: 'day' }], sortBy: ['n'] }, testPorts());
  return { store, cell, table };
}
const rowsAt = async (table: IcebergTable, asOf = LATEST) => (await (await table.snapshot(asOf)).files()).reduce((sum, each) => sum + each.rows!, 0);
const number = (value: number | bigint | string) => ({ kind: 'number' as const, number: BigInt(value) });

describe.each([['that the catalog owns', true], ['that its files own', false]])('an Iceberg table %s', (_, owned) => {
  it('keeps every version readable by version, snapshot id and time', async () => {
    const { table } = await newTable(owned);
    const first = await append(table, [file('a', 1, 10)], testPorts(2, '2026-02-01T00:00:00Z'));
    await append(table, [file('b', 11, 15)], testPorts(3, '2026-02-02T00:00:00Z'));
    expect(await rowsAt(table)).toBe(15);
    expect(await rowsAt(table, number(1))).toBe(10);
    expect((await table.snapshot(number(String(first['snapshot-id'])))).version).toBe(1);
    expect((await table.snapshot({ kind: 'time', at: Date.parse('2026-02-01T12:00:00Z') })).version).toBe(1);
    await expect(table.snapshot(number(9))).rejects.toThrow('ns.t has no version 9: it has versions 1 to 2.');
  });

  it('prunes by hidden partition and then by bounds', async () => {
    const { table } = await newTable(owned);
    await append(table, [file('a', 1, 10), file('b', 11, 20), file('c', 1, 20, '2026-01-02')], testPorts(2));
    const predicate: Predicate = { op: 'and', args: [
      { op: 'compare', column: ['at'], comparison: '<', value: BigInt(day('2026-01-02')) * 86_400_000_000n },
      { op: 'compare', column: ['n'], comparison: '>', value: 10n },
    ] };
    const plan = await (await table.snapshot(LATEST)).plan(predicate);
    expect(plan.considered.map((each) => [each.verdict, whySkipped(each, predicate)])).toEqual([['read', undefined], ['skipped-by-bounds', 'n'], ['skipped-by-partition', 'at']]);
    expect(plan.files).toEqual({ total: 3, read: 1, skippedByPartition: 1, skippedByBounds: 1 });
  });

  it('loses no append of eight writers', async () => {
    const { store, cell } = await newTable(owned);
    await Promise.all(Array.from({ length: 8 }, async (_unused, writer) => {
      for (let n = 0; n < 4; n++) await append(open(store, cell, writer * 10 + n), [file(`w${writer}-${n}`, 1, 1)], testPorts(100 + writer * 10 + n));
    }));
    const table = open(store, cell);
    expect([(await table.snapshot(LATEST)).version, await rowsAt(table)]).toEqual([32, 32]);
  });

  it.each(['before', 'after'] as const)('is whole when a writer dies %s the effect of any call', async (moment) => {
    for (let dieAt = 1; ; dieAt++) {
      const { store, cell, table } = await newTable(owned);
      await append(table, [file('old', 1, 10)], testPorts(2));
      const died = await append(open(new CrashingStore(store, dieAt, moment), cell, 2), [file('new', 1, 3)], testPorts(3)).then(() => false, () => true);
      const reader = open(store, cell);
      const { version } = await reader.snapshot(LATEST);
      expect([version, await rowsAt(reader)], `killed ${moment} call ${dieAt}`).toEqual(version === 1 ? [1, 10] : [2, 13]);
      expect((await append(open(store, cell, 3), [file('next', 1, 1)], testPorts(4)))['sequence-number']).toBe(version + 1);
      if (died) continue;
      expect(dieAt).toBeGreaterThan(4);
      return;
    }
  });
});

describe('an Iceberg table', () => {
  it('gives new columns new ids, and the past its own columns', async () => {
    const { table } = await newTable();
    await append(table, [file('a', 1, 1)], testPorts(2));
    await addColumns(table, [field('place', { kind: 'struct', fields: [field('lat', 'double')] })], testPorts(3));
    const now = await table.snapshot(LATEST);
    expect(now.schema.fields.map(({ id, name }) => [id, name])).toEqual([[1, 'n'], [2, 'at'], [3, 'place']]);
    expect((await table.current()).metadata['last-column-id']).toBe(4);
    expect((await table.snapshot(number(1))).schema.fields.map(({ name }) => name)).toEqual(['n', 'at']);
    await append(table, [file('b', 2, 2)], testPorts(4));
    expect((await table.history()).map(({ version, operation, changesColumns }) => [version, operation, changesColumns])).toEqual([
      [undefined, 'create table', false], [1, 'append', false], [undefined, 'set schema', true], [2, 'append', false],
    ]);
  });

  it('writes manifests in which entries inherit their sequence number, with field ids kept', async () => {
    const { store, table } = await newTable();
    const snapshot = await append(table, [file('a', 1, 10)], testPorts(2));
    const path = (uri: string) => uri.slice(store.uri.length + 1);
    const list = await readAvro(await store.read(path(snapshot['manifest-list']!)), 'list');
    expect(list.records).toMatchObject([{ sequence_number: 1n, added_files_count: 1, added_rows_count: 10n, partitions: [{ contains_null: false }] }]);
    expect(list.schema.fields!.find((each) => each.name === 'manifest_path')!['field-id']).toBe(500);
    const manifest = await readAvro(await store.read(path(list.records[0]!.manifest_path as string)), 'manifest');
    expect(manifest.metadata).toMatchObject({ 'format-version': '2', content: 'data', 'partition-spec-id': '0' });
    expect(manifest.records).toMatchObject([{ status: 1, sequence_number: null, snapshot_id: BigInt(snapshot['snapshot-id']), data_file: { partition: { at_day: 20454 }, record_count: 10n } }]);
  });

  it('shows file-system readers the state the catalog points to', async () => {
    const { store, cell, table } = await newTable();
    await append(table, [file('a', 1, 10)], testPorts(2));
    expect(toText(await store.read('t/metadata/version-hint.text'))).toBe('2');
    expect(await store.read('t/metadata/v2.metadata.json')).toEqual(await store.read(cell!.value!));
    expect(await rowsAt(open(store, undefined))).toBe(10);
  });

  it('is found again after its folder was moved', async () => {
    const { store, table } = await newTable(false);
    await append(table, [file('a', 1, 10)], testPorts(2));
    const moved = new MemoryStore({ uri: 'memory://elsewhere' });
    for (const { path } of await store.list('t')) await moved.put(path.replace(/^t\//, 'archive/t2/'), await store.read(path));
    const found = new IcebergTable(moved, 'archive/t2', 'ns.t2', new FilePointer(moved, 'archive/t2'));
    expect((await (await found.snapshot(LATEST)).files()).map((each) => each.path)).toEqual(['archive/t2/data/a.parquet']);
  });

  it('is read from packed metadata', async () => {
    const { store, table } = await newTable(false);
    await append(table, [file('a', 1, 10)], testPorts(2));
    await store.put('t/metadata/v2.gz.metadata.json', gzipSync(await store.read('t/metadata/v2.metadata.json')));
    await store.delete('t/metadata/v2.metadata.json');
    expect(await rowsAt(open(store, undefined))).toBe(10);
  });

  it('is read in the forms of version 1: one schema, one partition spec, no sequence numbers', async () => {
    const { store, table } = await newTable(false);
    await append(table, [file('a', 1, 10)], testPorts(2, '2026-02-01T00:00:00Z'));
    await append(table, [file('b', 11, 12)], testPorts(3, '2026-02-02T00:00:00Z'));
    const { schemas, 'partition-specs': specs, 'current-schema-id': _schema, 'default-spec-id': _spec, 'sort-orders': _orders, 'default-sort-order-id': _order, 'last-sequence-number': _last, snapshots, ...rest } = (await table.current()).metadata;
    const version1 = { ...rest, 'format-version': 1, schema: schemas[0], 'partition-spec': specs[0]!.fields, snapshots: snapshots!.map(({ 'sequence-number': _number, 'schema-id': _id, ...each }) => each) };
    await store.put('t/metadata/v3.metadata.json', toBytes(stringifyJson(version1)));
    const old = open(store, undefined);
    expect([(await old.snapshot(LATEST)).version, await rowsAt(old), await rowsAt(old, number(1))]).toEqual([2, 12, 10]);
  });

  it('keeps 63-bit snapshot ids exact, and fields it does not know', async () => {
    const { store, table } = await newTable(false);
    await append(table, [file('a', 1, 10)], testPorts(2));
    const path = 't/metadata/v2.metadata.json';
    const text = toText(await store.read(path)).replaceAll(/(-id": )2000000\b/g, '$18744736658442914487').replace('"format-version"', '"x-other": {"kept": 1}, "format-version"');
    await store.put(path, toBytes(text));
    const fresh = open(store, undefined);
    expect((await fresh.snapshot(number(8744736658442914487n))).snapshotId).toBe('8744736658442914487');
    await append(fresh, [file('b', 11, 11)], testPorts(3));
    const after = toText(await store.read('t/metadata/v3.metadata.json'));
    expect(after).toContain('8744736658442914487');
    expect(JSON.parse(after)['x-other']).toEqual({ kept: 1 });
  });
});

describe('metadata that is not right', () => {
  it.each([
    ['not JSON', '{"format-version": 2,', 'bad-file', 'no JSON'],
    ['an array', '[]', 'bad-file', 'expected a JSON object'],
    ['of no version', '{}', 'bad-file', 'expected Iceberg table metadata with a "format-version"'],
    ['of a later version', '{"format-version": 4}', 'unsupported', 'format version 4 is not supported'],
  ])('%s is refused, naming the file', (_, text, kind, words) => {
    expect(() => parseMetadata(text, 'm.json')).toThrow(expect.objectContaining({ kind, message: expect.stringContaining(words), details: { path: 'm.json' } }));
  });

  it('an Avro file that is cut short or damaged names itself, wherever it is cut', async () => {
    const { store, table } = await newTable();
    const snapshot = await append(table, [file('a', 1, 10), file('b', 2, 5)], testPorts(2));
    const bytes = await store.read(snapshot['manifest-list']!.slice(store.uri.length + 1));
    await fc.assert(fc.asyncProperty(fc.nat(bytes.length - 1), fc.nat(255), fc.boolean(), async (at, byte, cut) => {
      const damaged = cut ? bytes.slice(0, at) : Uint8Array.from(bytes, (each, index) => (index === at ? byte : each));
      try {
        await readAvro(damaged, 'list.avro');
      } catch (error) {
        expect(error).toBeInstanceOf(LakeError);
        expect((error as LakeError).details.path).toBe('list.avro');
      }
    }), { seed: 9, numRuns: 600 });
  });

  it('fails only with errors of its own, whatever field is wrong', async () => {
    const { store, table } = await newTable(false);
    await append(table, [file('a', 1, 10)], testPorts(2));
    const good = JSON.parse(toText(await store.read('t/metadata/v2.metadata.json'))) as Record<string, unknown>;
    await fc.assert(fc.asyncProperty(fc.constantFrom(...Object.keys(good)), fc.jsonValue(), async (key, value) => {
      await store.put('t/metadata/v2.metadata.json', toBytes(JSON.stringify({ ...good, [key]: value })));
      const damaged = open(store, undefined);
      try {
        await (await damaged.snapshot(LATEST)).plan({ op: 'compare', column: ['n'], comparison: '=', value: 1n });
        await damaged.history();
      } catch (error) {
        if (!(error instanceof LakeError)) throw error;
      }
    }), { seed: 10, numRuns: 1500 });
  });
});
