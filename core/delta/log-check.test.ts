import { describe, expect, it } from 'vitest';
import { field } from '../schema/types';
import { MemoryStore } from '../storage/memory-store';
import { toBytes, toText } from '../storage/object-store';
import { testPorts, writtenFile } from '../testing/ports';
import type { Action } from './actions';
import { checkLog, isWhole, provedState, repairLog } from './log-check';
import { addColumns, append, createDeltaTable } from './operations';
import { DeltaTable } from './table';
import { planVacuum } from './upkeep';

const log = (name: string) => `t/_delta_log/${name}`;
const commit = (version: number) => log(`${String(version).padStart(20, '0')}.json`);
const line = (action: unknown) => `${JSON.stringify(action)}\n`;

/** Versions 0 to 5, each after the first with one file. */
async function newTable() {
  const store = new MemoryStore();
  const table = new DeltaTable(store, 't', 't');
  await createDeltaTable(table, { schema: { fields: [field('n', 'long')] }, properties: { 'delta.checkpointPolicy': 'v2' } }, testPorts(1));
  for (let n = 1; n <= 5; n++) await append(table, [writtenFile(`t/f${n}`, 1, 9)], testPorts(n + 1));
  return { store, table };
}
/** A checkpoint by another writer's hand, which need not say what the commits say. */
async function checkpointWith(store: MemoryStore, version: number, files: string[]): Promise<void> {
  const first = toText(await store.read(commit(0))).split('\n');
  const head = first.filter((each) => each.includes('"metaData"') || each.includes('"protocol"')).map((each) => `${each}\n`);
  const adds = files.map((path) => line({ add: { path, partitionValues: {}, size: 109, modificationTime: 0, dataChange: false } }));
  await store.put(log(`${String(version).padStart(20, '0')}.checkpoint.00000000-0000-4000-8000-000000000000.json`), toBytes([line({ checkpointMetadata: { version } }), ...head, ...adds].join('')));
}
/** Sidecars kept as JSON beside what is read back: the memory store has no writer of Parquet. */
const files = (written: Map<string, Action[]>) => ({
  write: async (path: string, actions: AsyncIterable<Action>) => {
    const list: Action[] = [];
    for await (const action of actions) list.push(action);
    written.set(path, list);
    return { bytes: list.length };
  },
});

describe('checking a log', () => {
  it('finds a checkpoint that lacks a live file, and says which versions readers get wrong', async () => {
    const { store, table } = await newTable();
    await checkpointWith(store, 3, ['f1', 'f3']);
    const report = await checkLog(table);
    expect(report.checkpoints).toMatchObject([{ version: 3, status: 'wrong', lacking: ['f2'], extra: [] }]);
    expect(report.versions).toEqual([{ from: 0, to: 2, state: 'whole' }, { from: 3, to: 5, state: 'wrong' }]);
  });

  it('finds a version that is missing, and what stands behind it', async () => {
    const { store, table } = await newTable();
    await store.delete(commit(3));
    const report = await checkLog(table);
    expect(report.missing).toEqual([3]);
    expect(report.versions).toEqual([{ from: 0, to: 2, state: 'whole' }, { from: 3, to: 3, state: 'missing' }, { from: 4, to: 5, state: 'unreadable' }]);
  });

  it('says so when all is well, and of a checkpoint that nothing is left to prove', async () => {
    const { store, table } = await newTable();
    expect(isWhole(await checkLog(table))).toBe(true);
    await checkpointWith(store, 3, ['f1', 'f2', 'f3']);
    for (const version of [0, 1, 2, 3]) await store.delete(commit(version)).then(() => store.delete(log(`${String(version).padStart(20, '0')}.crc`)));
    expect((await checkLog(table)).checkpoints).toMatchObject([{ version: 3, status: 'unproved' }]);
  });
});

describe('repairing a log', () => {
  it('writes a wrong checkpoint anew from the commits', async () => {
    const { store, table } = await newTable();
    await checkpointWith(store, 3, ['f1', 'f3', 'gone']);
    const written = new Map<string, Action[]>();
    expect(await repairLog(table, { ...testPorts(20), files: files(written) }, { closeGaps: false })).toMatchObject({ checkpoints: [3], closed: [] });
    expect([...written.values()].flat().flatMap((action) => ('add' in action ? [action.add.path] : []))).toEqual(['f1', 'f2', 'f3']);
    expect((await store.list('t/_delta_log')).filter(({ path }) => path.includes('00000000-0000-4000-8000-000000000000'))).toEqual([]);
  });

  it('closes a gap only when that is wished', async () => {
    const { store, table } = await newTable();
    await store.delete(commit(3));
    const ports = { ...testPorts(20), files: files(new Map()) };
    expect((await repairLog(table, ports, { closeGaps: false })).closed).toEqual([]);
    expect((await repairLog(table, ports, { closeGaps: true })).closed).toEqual([3]);
    const read = await new DeltaTable(store, 't', 't').snapshot({ kind: 'latest' });
    expect((await read.files()).map(({ path }) => path)).toEqual(['t/f1', 't/f2', 't/f4', 't/f5']);
  });

  it('says bounds anew that our writer of before rounded up, once', async () => {
    const { store, table } = await newTable();
    await addColumns(table, [field('at', 'timestamp')], testPorts(9));
    await append(table, [{ ...writtenFile('t/old', 1, 9), columns: [{ path: ['at'], min: '1960-01-01 00:00:00.0005', max: '1960-01-01 00:00:00.0009', nullCount: 0, valueCount: 9 }] }], testPorts(10));
    const text = toText(await store.read(commit(7))).replace('Kind-Harbor/0.2', 'Kind-Harbor/0.1').replace('1960-01-01T00:00:00.000', '1960-01-01T00:00:00.001');
    await store.put(commit(7), toBytes(text));
    const again = new DeltaTable(store, 't', 't');
    expect((await checkLog(again)).lateMinimums).toEqual(['old']);
    const ports = { ...testPorts(20), files: files(new Map()) };
    expect((await repairLog(again, ports, { closeGaps: false })).bounds).toBe(1);
    expect(toText(await store.read(commit(8)))).toContain('1960-01-01T00:00:00.000');
    expect((await checkLog(again)).lateMinimums).toEqual([]);
  });

  it('takes away a checksum that the commits contradict', async () => {
    const { store, table } = await newTable();
    await table.settled();
    await store.put(log('00000000000000000004.crc'), toBytes('{"tableSizeBytes":1,"numFiles":1}'));
    expect((await repairLog(table, { ...testPorts(20), files: files(new Map()) }, { closeGaps: false })).checksums).toEqual([4]);
  });
});

describe('what the log says is live', () => {
  it('is not cleared, although a checkpoint leaves it out', async () => {
    const { store } = await newTable();
    for (let n = 1; n <= 5; n++) await store.put(`t/f${n}`, toBytes('rows'));
    await checkpointWith(store, 5, ['f1']);
    const plan = await planVacuum(new DeltaTable(store, 't', 't'), { now: Date.now() + 1e12, retentionMs: 0, longestWriteMs: 0 });
    expect(plan.files.map(({ path }) => path)).toEqual([]);
  });

  it('is what a checkpoint is written from, whatever is remembered', async () => {
    const { store, table } = await newTable();
    const known = await table.state(5, await table.log());
    // What the fault of old did: a state that lacks a file is remembered under the version.
    table.adopt(known, { ...known, files: (await table.state(4, await table.log())).files }, { version: 5, adds: [], removes: [], changeFiles: [], txns: [], domains: [], sidecars: [] });
    await expect(provedState(table, 5, () => new DeltaTable(store, 't', 't'))).rejects.toThrow('remembered with 4 files, but its log comes to 5');
    expect((await provedState(table, 5, () => new DeltaTable(store, 't', 't'))).files.count).toBe(5);
  });
});
