import { describe, expect, it } from 'vitest';
import { Crash, CrashingStore } from '../testing/crashing-store';
import { HandClock, testPorts, writtenFile } from '../testing/ports';
import { field } from '../schema/types';
import { MemoryStore } from '../storage/memory-store';
import { toBytes, toText, type ObjectStore } from '../storage/object-store';
import { LATEST } from '../table/contract';
import { addColumns, append, createDeltaTable, latestState, overwrite, changeRows, restore } from './operations';
import { DeltaTable } from './table';

const schema = { fields: [field('n', 'long'), field('day', 'date')] };
const open = (store: ObjectStore) => new DeltaTable(store, 't', 'ns.t');
const file = (name: string, min = 1, max = 10) => writtenFile(`t/${name}`, min, max, { day: 20454 });
const rowsAt = async (table: DeltaTable, number?: number) => {
  const snapshot = await table.snapshot(number === undefined ? LATEST : { kind: 'number', number: BigInt(number) });
  return (await snapshot.files()).reduce((sum, each) => sum + each.rows!, 0);
};

async function newTable(properties: Record<string, string> = {}) {
  const store = new MemoryStore();
  const table = open(store);
  await createDeltaTable(table, { schema, partitionColumns: ['day'], properties }, testPorts());
  return { store, table };
}

describe('changing a Delta table', () => {
  it('makes one version a change, and every version reads as it was', async () => {
    const { store, table } = await newTable();
    for (const name of ['a', 'b']) await store.put(`t/${name}`, toBytes('rows'));
    await append(table, [file('a'), file('b', 11, 15)], testPorts(2));
    await overwrite(table, [file('c', 1, 3)], testPorts(3));
    await restore(table, { kind: 'number', number: 1n }, testPorts(4));
    expect(await Promise.all([0, 1, 2, 3].map((each) => rowsAt(table, each)))).toEqual([0, 15, 3, 15]);
    const history = await table.history();
    expect(history.map(({ operation, rowsAdded, rowsRemoved, kind }) => [operation, rowsAdded, rowsRemoved, kind])).toEqual([
      ['CREATE TABLE', 0, 0, 'create'], ['WRITE', 15, 0, 'append'], ['WRITE', 3, 15, 'change'], ['RESTORE', 15, 3, 'restore'],
    ]);
  });

  it('writes what other readers need in each action', async () => {
    const { store, table } = await newTable();
    await append(table, [file('sub dir/a#1.parquet', 5, 7)], testPorts(2));
    const lines = toText(await store.read('t/_delta_log/00000000000000000001.json')).trim().split('\n').map((line) => JSON.parse(line));
    expect(lines[0].commitInfo).toMatchObject({ operation: 'WRITE', operationParameters: { mode: 'Append' }, operationMetrics: { numOutputRows: '3' }, isBlindAppend: true, readVersion: 0 });
    expect(lines[1].add).toMatchObject({ path: 'sub%20dir/a%231.parquet', partitionValues: { day: '2026-01-01' }, size: 103, dataChange: true });
    expect(JSON.parse(lines[1].add.stats)).toEqual({ numRecords: 3, minValues: { n: 5 }, maxValues: { n: 7 }, nullCount: { n: 0 } });
  });

  it('adds columns without touching files, and refuses one that exists in another case', async () => {
    const { table } = await newTable();
    await addColumns(table, [field('Depth', 'double')], testPorts(2));
    expect((await table.snapshot(LATEST)).schema.fields.map(({ name }) => name)).toEqual(['n', 'day', 'Depth']);
    await expect(addColumns(table, [field('depth', 'double')], testPorts(3))).rejects.toThrow('has a column "depth" already');
    await expect(addColumns(table, [field('must', 'long', { required: true })], testPorts(3))).rejects.toThrow('must allow nulls');
  });

  it('says which data file a restore lacks, and writes nothing', async () => {
    const { store, table } = await newTable();
    await append(table, [file('a')], testPorts(2));
    await overwrite(table, [], testPorts(3));
    await expect(restore(table, { kind: 'number', number: 1n }, testPorts(4))).rejects.toMatchObject({ kind: 'not-found', details: { path: 'a' } });
    expect((await open(store).snapshot(LATEST)).version).toBe(2);
  });

  it('refuses to create a table where one stands, and to remove rows of one that is append-only', async () => {
    const { table } = await newTable({ 'delta.appendOnly': 'true' });
    await expect(createDeltaTable(table, { schema }, testPorts(2))).rejects.toMatchObject({ kind: 'conflict' });
    await append(table, [file('a')], testPorts(2));
    await expect(overwrite(table, [], testPorts(3))).rejects.toMatchObject({ kind: 'refused' });
    expect(await rowsAt(table)).toBe(10);
  });

  it('keeps in-commit timestamps strictly increasing when the clock stands still or goes back', async () => {
    const { table } = await newTable({ 'delta.enableInCommitTimestamps': 'true' });
    const ports = { ...testPorts(2), clock: new HandClock(Date.parse('2025-06-01T00:00:00Z')) };
    await append(table, [file('a')], ports);
    await append(table, [file('b')], ports);
    const times = (await table.history()).map((entry) => entry.at);
    expect(times[1]! - times[0]!).toBe(1);
    expect(times[2]! - times[1]!).toBe(1);
  });
});

describe('writers at the same time', () => {
  /** Both read the same state; the first commits, then the second tries. */
  async function race(first: (table: DeltaTable) => Promise<unknown>, second: (table: DeltaTable, base: Awaited<ReturnType<typeof latestState>>) => Promise<unknown>) {
    const { store, table } = await newTable();
    await append(table, [file('base')], testPorts(9));
    const base = await latestState(table);
    await first(open(store));
    return second(open(store), base);
  }
  const replaceBase = (table: DeltaTable, base: Awaited<ReturnType<typeof latestState>>, operation: 'UPDATE' | 'OPTIMIZE' = 'UPDATE') =>
    changeRows(table, { base, replaced: ['base'], files: [file('new')], operation, parameters: {}, metrics: {} }, testPorts(3));


  it('lets a compaction pass beside an append', async () => {
    await expect(race((table) => append(table, [file('x')], testPorts(2)), (table, base) => replaceBase(table, base, 'OPTIMIZE'))).resolves.toBe(3);
  });

  it('lets the second of two changes of one file fail', async () => {
    await expect(race(async (table) => replaceBase(table, await latestState(table)), (table, base) => replaceBase(table, base, 'OPTIMIZE'))).rejects.toThrow('removed or changed a file that this change replaces');
  });

  it('lets a change fail when columns changed meanwhile', async () => {
    await expect(race((table) => addColumns(table, [field('extra', 'long')], testPorts(2)), replaceBase)).rejects.toMatchObject({ kind: 'conflict', message: expect.stringContaining('changed the columns') });
  });

  it('loses no append of eight', async () => {
    const { store } = await newTable();
    await Promise.all(Array.from({ length: 8 }, async (_, writer) => {
      for (let n = 0; n < 5; n++) await append(open(store), [file(`w${writer}-${n}`, 1, 1)], testPorts(10 + writer * 10 + n));
    }));
    const table = open(store);
    expect((await table.snapshot(LATEST)).version).toBe(40);
    expect(await rowsAt(table)).toBe(40);
  });
});

describe('a writer that dies', () => {
  it.each(['before', 'after'] as const)('%s the effect of any call leaves the table at a whole version', async (moment) => {
    for (let dieAt = 1; ; dieAt++) {
      const { store, table } = await newTable();
      await append(table, [file('old')], testPorts(2));
      const crashing = new CrashingStore(store, dieAt, moment);
      const outcome = await overwrite(open(crashing), [file('new', 1, 3)], testPorts(3)).catch((error: unknown) => error);
      const reader = open(store);
      const { version } = await reader.snapshot(LATEST);
      expect([version, await rowsAt(reader)], `killed ${moment} call ${dieAt}`).toEqual(version === 1 ? [1, 10] : [2, 3]);
      if (!(outcome instanceof Crash) && !(outcome instanceof Error)) {
        expect(version).toBe(2);
        expect(dieAt).toBeGreaterThan(2);
        return;
      }
    }
  });

  it('knows its own commit again when only the answer was lost', async () => {
    const { store } = await newTable();
    let lost = false;
    const flaky: ObjectStore = Object.assign(Object.create(store) as ObjectStore, {
      uri: store.uri,
      list: store.list.bind(store), listFolder: store.listFolder.bind(store), head: store.head.bind(store), read: store.read.bind(store), put: store.put.bind(store), delete: store.delete.bind(store),
      putIfAbsent: async (path: string, bytes: Uint8Array) => {
        const done = await store.putIfAbsent(path, bytes);
        if (lost) return done;
        lost = true;
        throw new Error('connection reset');
      },
    });
    expect(await append(open(flaky), [file('a')], testPorts(2))).toBe(1);
    expect(await rowsAt(open(store))).toBe(10);
  });
});

it('does not take a foreign file for its commit', async () => {
  const { store } = await newTable();
  await store.put('t/_delta_log/00000000000000000001.json', toBytes('{"commitInfo":{"txnId":"somebody else"}}\n'));
  expect(await append(open(store), [file('a')], testPorts(2))).toBe(2);
});
