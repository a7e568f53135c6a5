/** Which changes may stand beside each other: every pair of kinds, of the same partition and of different ones. */
import { describe, expect, it } from 'vitest';
import type { Predicate } from '../scan/predicate';
import { field } from '../schema/types';
import { MemoryStore } from '../storage/memory-store';
import { LATEST } from '../table/contract';
import { testPorts, writtenFile } from '../testing/ports';
import { addColumns, append, changeRows, createDeltaTable, latestState, overwrite, restore, setProperties } from './operations';
import { LakeError } from '../errors';
import type { LogState } from './state';
import { DeltaTable } from './table';

/** Each of the two partitions has one file: n from 1 to 10, and from 101 to 110. */
const FILES = { 1: writtenFile('t/one', 1, 10, { day: 1 }), 2: writtenFile('t/two', 101, 110, { day: 2 }) };
type Day = keyof typeof FILES;
const ofDay = (day: Day): Predicate => ({ op: 'compare', column: ['day'], comparison: '=', value: day });
const aroundN = (day: Day): Predicate => ({ op: 'compare', column: ['n'], comparison: day === 1 ? '<' : '>', value: 50n });

type Kind = 'append' | 'delete' | 'update' | 'overwrite' | 'metadata' | 'upkeep';
type Change = (table: DeltaTable, base: LogState, id: number) => Promise<unknown>;
let files = 0;
const fresh = (day: Day) => writtenFile(`t/new${files++}`, day === 1 ? 1 : 101, day === 1 ? 5 : 105, { day });

function changeOf(kind: Kind, day: Day, by: 'partition' | 'predicate'): Change {
  const read = { kind: 'rows' as const, predicate: by === 'partition' ? ofDay(day) : aroundN(day) };
  const key = day === 1 ? 'one' : 'two';
  const rows = (operation: 'DELETE' | 'UPDATE' | 'OPTIMIZE' | 'WRITE', added: boolean): Change => (table, base, id) =>
    changeRows(table, { base, replaced: [key], files: added ? [fresh(day)] : [], operation, parameters: {}, metrics: {}, read }, testPorts(id));
  switch (kind) {
    case 'append':
      return (table, _, id) => append(table, [fresh(day)], testPorts(id));
    case 'delete':
      return rows('DELETE', false);
    case 'update':
      return rows('UPDATE', true);
    case 'overwrite':
      return rows('WRITE', true);
    case 'upkeep':
      return rows('OPTIMIZE', true);
    case 'metadata':
      return (table, _, id) => addColumns(table, [field(`c${id}`, 'long')], testPorts(id));
  }
}

/** `first` commits, then `second`, which was made from the state before. */
async function outcome(first: Change, second: Change, properties: Record<string, string> = {}): Promise<string> {
  const store = new MemoryStore();
  const table = new DeltaTable(store, 't', 't');
  await createDeltaTable(table, { schema: { fields: [field('n', 'long'), field('day', 'int')] }, partitionColumns: ['day'], properties }, testPorts(1));
  await append(table, [FILES[1], FILES[2]], testPorts(2));
  const base = await latestState(table);
  await first(new DeltaTable(store, 't', 't'), base, 3);
  const other = new DeltaTable(store, 't', 't');
  // The second writer has read the table before the first committed.
  Object.assign(other, { newest: async () => ({ ...(await table.log()), latest: base.version }) });
  try {
    await second(other, base, 4);
  } catch (error) {
    if (error instanceof LakeError && error.kind === 'conflict') return /committed meanwhile, (.*?)\. Read/.exec(error.message)?.[1] ?? error.message;
    throw error;
  }
  return 'ok';
}

const FILE = 'removed or changed a file that this change replaces';
const ADDED = 'added rows that this change should have seen';
const COLUMNS = 'changed the columns or properties';

/** First, second, and what becomes of the second: in the same partition, and in another. */
const MATRIX: [Kind, Kind, string, string][] = [
  ['append', 'append', 'ok', 'ok'], ['append', 'delete', 'ok', 'ok'], ['append', 'update', 'ok', 'ok'], ['append', 'overwrite', 'ok', 'ok'], ['append', 'metadata', 'ok', 'ok'], ['append', 'upkeep', 'ok', 'ok'],
  ['delete', 'append', 'ok', 'ok'], ['delete', 'delete', FILE, 'ok'], ['delete', 'update', FILE, 'ok'], ['delete', 'overwrite', FILE, 'ok'], ['delete', 'metadata', 'ok', 'ok'], ['delete', 'upkeep', FILE, 'ok'],
  ['update', 'append', 'ok', 'ok'], ['update', 'delete', FILE, 'ok'], ['update', 'update', FILE, 'ok'], ['update', 'overwrite', FILE, 'ok'], ['update', 'metadata', 'ok', 'ok'], ['update', 'upkeep', FILE, 'ok'],
  ['overwrite', 'append', 'ok', 'ok'], ['overwrite', 'delete', FILE, 'ok'], ['overwrite', 'update', FILE, 'ok'], ['overwrite', 'overwrite', FILE, 'ok'], ['overwrite', 'metadata', 'ok', 'ok'], ['overwrite', 'upkeep', FILE, 'ok'],
  ['metadata', 'append', COLUMNS, COLUMNS], ['metadata', 'delete', COLUMNS, COLUMNS], ['metadata', 'update', COLUMNS, COLUMNS], ['metadata', 'overwrite', COLUMNS, COLUMNS], ['metadata', 'metadata', COLUMNS, COLUMNS], ['metadata', 'upkeep', COLUMNS, COLUMNS],
  ['upkeep', 'append', 'ok', 'ok'], ['upkeep', 'delete', FILE, 'ok'], ['upkeep', 'update', FILE, 'ok'], ['upkeep', 'overwrite', FILE, 'ok'], ['upkeep', 'metadata', 'ok', 'ok'], ['upkeep', 'upkeep', FILE, 'ok'],
];

describe.each(['partition', 'predicate'] as const)('two changes at once, told apart by %s', (by) => {
  it.each(MATRIX)('%s, then %s', async (first, second, same, other) => {
    expect([await outcome(changeOf(first, 1, by), changeOf(second, 1, by)), await outcome(changeOf(first, 1, by), changeOf(second, 2, by))]).toEqual([same, other]);
  });
});

describe('a change that read rows', () => {
  it('fails after an append that it should have seen where the table asks for Serializable, and only in its own rows', async () => {
    const serializable = { 'delta.isolationLevel': 'Serializable' };
    expect(await outcome(changeOf('append', 1, 'partition'), changeOf('delete', 1, 'partition'), serializable)).toBe(ADDED);
    expect(await outcome(changeOf('append', 1, 'partition'), changeOf('delete', 2, 'partition'), serializable)).toBe('ok');
    expect(await outcome(changeOf('append', 1, 'partition'), changeOf('upkeep', 1, 'partition'), serializable)).toBe('ok');
    expect(await outcome(changeOf('append', 1, 'predicate'), changeOf('update', 2, 'predicate'), serializable)).toBe('ok');
  });

  it('fails after another change brought rows that it should have seen', async () => {
    const movedIn: Change = (table, base, id) => changeRows(table, { base, replaced: ['one'], files: [fresh(2)], operation: 'UPDATE', parameters: {}, metrics: {}, read: { kind: 'rows', predicate: ofDay(1) } }, testPorts(id));
    expect(await outcome(movedIn, changeOf('delete', 2, 'partition'))).toBe(ADDED);
  });

  it('fails after rows that it had read were removed, though it replaces other files', async () => {
    const movesBoth: Change = (table, base, id) => changeRows(table, { base, replaced: ['two'], files: [], operation: 'DELETE', parameters: {}, metrics: {} }, testPorts(id));
    expect(await outcome(changeOf('delete', 1, 'partition'), movesBoth)).toBe('removed rows that this change had read');
  });
});

describe('an application that writes twice', () => {
  it('is told that its load is there already, also when both come at once', async () => {
    const load: Change = (table, _, id) => append(table, [fresh(1)], testPorts(id), { txn: { appId: 'loader', version: 7 } });
    expect(await outcome(load, load)).toBe('t has this load already, in version 2; nothing was written twice.');
    const table = new DeltaTable(new MemoryStore(), 't', 't');
    await createDeltaTable(table, { schema: { fields: [field('n', 'long')] } }, testPorts(1));
    await append(table, [writtenFile('t/a', 1, 2)], testPorts(2), { txn: { appId: 'loader', version: 7 } });
    await expect(append(table, [writtenFile('t/b', 1, 2)], testPorts(3), { txn: { appId: 'loader', version: 7 } })).rejects.toThrow('nothing was written twice');
    expect(await append(table, [writtenFile('t/c', 1, 2)], testPorts(4), { txn: { appId: 'loader', version: 8 } })).toBe(2);
  });
});

describe('properties', () => {
  const open = async (properties: Record<string, string> = {}) => {
    const table = new DeltaTable(new MemoryStore(), 't', 't');
    await createDeltaTable(table, { schema: { fields: [field('n', 'long')] }, properties }, testPorts(1));
    return table;
  };

  it('bring the features that they ask for, and none goes away again', async () => {
    const table = await open();
    expect((await latestState(table)).protocol).toEqual({ minReaderVersion: 1, minWriterVersion: 2 });
    await setProperties(table, { 'delta.enableChangeDataFeed': 'true' }, testPorts(2));
    expect((await latestState(table)).protocol).toEqual({ minReaderVersion: 1, minWriterVersion: 4 });
    await setProperties(table, { 'delta.enableDeletionVectors': 'true' }, testPorts(3));
    expect((await latestState(table)).protocol).toEqual({ minReaderVersion: 3, minWriterVersion: 7, readerFeatures: ['deletionVectors'], writerFeatures: ['appendOnly', 'invariants', 'checkConstraints', 'changeDataFeed', 'generatedColumns', 'deletionVectors'] });
    await setProperties(table, { 'delta.enableDeletionVectors': null }, testPorts(4));
    const { protocol, metadata } = await latestState(table);
    expect([protocol.readerFeatures, metadata.configuration]).toEqual([['deletionVectors'], { 'delta.enableChangeDataFeed': 'true' }]);
  });

  it.each([
    ['delta.appendOnly', 'yes', 'true or false'], ['delta.checkpointInterval', '0', 'above zero'], ['delta.logRetentionDuration', 'a while', 'interval'], ['delta.isolationLevel', 'Loose', 'WriteSerializable or Serializable'],
    ['delta.noSuchThing', '1', 'no property'], ['delta.columnMapping.mode', 'id', 'without column ids'], ['delta.enableRowTracking', 'true', 'have no row ids'],
  ])('%s = %s is refused', async (name, value, words) => {
    const table = await open();
    await append(table, [writtenFile('t/a', 1, 2)], testPorts(2));
    await expect(setProperties(table, { [name]: value }, testPorts(3))).rejects.toThrow(words);
    expect((await table.snapshot(LATEST)).version).toBe(1);
  });

  it('turned on later, in-commit timestamps count from the version that turned them on', async () => {
    const table = await open();
    await setProperties(table, { 'delta.enableInCommitTimestamps': 'true' }, testPorts(2, '2030-01-01T00:00:00Z'));
    await append(table, [writtenFile('t/a', 1, 2)], testPorts(3, '2031-01-01T00:00:00Z'));
    expect((await table.snapshot({ kind: 'time', at: Date.parse('2030-06-01T00:00:00Z') })).version).toBe(1);
    expect((await table.history()).map((entry) => new Date(entry.at).getUTCFullYear()).slice(1)).toEqual([2030, 2031]);
  });

  it('restored to before columns were mapped, keep the mapping, so that newer files stay readable', async () => {
    const table = await open();
    await append(table, [writtenFile('t/a', 1, 2)], testPorts(2));
    await setProperties(table, { 'delta.columnMapping.mode': 'name' }, testPorts(3));
    await restore(table, { kind: 'number', number: 1n }, testPorts(4));
    await overwrite(table, [], testPorts(5));
    expect((await latestState(table)).metadata.configuration['delta.columnMapping.mode']).toBe('name');
  });
});
