/** Tables made by an independent Delta library (tools/fixtures/make_delta_fixtures.py), read with the rows that it gives. */
import { readFileSync } from 'node:fs';
import path from 'node:path';
import { beforeAll, describe, expect, it } from 'vitest';
import { append } from '../../core/delta/operations';
import { DeltaTable } from '../../core/delta/table';
import type { Predicate } from '../../core/scan/predicate';
import { testPorts } from '../../core/testing/ports';
import { LATEST } from '../../core/table/contract';
import { projectRoot } from '../program-files';
import { readTable, storeAt } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';

const folder = path.join(projectRoot, 'fixtures/delta');
const expectedOf = (name: string) => JSON.parse(readFileSync(path.join(folder, `${name}.expected.json`), 'utf8')) as Record<string, { columns: string[]; rows: unknown[][] }>;
const versionsOf = (name: string) => Object.entries(expectedOf(name)).filter(([version]) => version !== 'changes');
const store = storeAt(folder);
let engine: LocalEngine;
beforeAll(async () => {
  engine = await LocalEngine.start();
});

describe('tables of an independent Delta library', () => {
  it.each(['types', 'history', 'partitions', 'longlog', 'evolved', 'feed'])('%s: every version gives the same columns and rows', async (name) => {
    const table = new DeltaTable(store, name, name);
    for (const [version, { columns, rows }] of versionsOf(name)) {
      const result = await readTable(engine, store, table, { asOf: { kind: 'number', number: BigInt(version) }, sql: 'SELECT * FROM t ORDER BY id' });
      expect(result.columns.map((column) => column.name), `columns at version ${version}`).toEqual(columns);
      expect(result.rows, `rows at version ${version}`).toEqual(rows);
    }
  });

  it('says of each version what the library did', async () => {
    const history = await new DeltaTable(store, 'history', 'history').history();
    expect(history.map(({ operation, kind, who, rowsAdded, rowsRemoved, changesColumns }) => [operation, kind, who, rowsAdded, rowsRemoved, changesColumns])).toEqual([
      ['WRITE', 'append', 'fixture', 3, 0, false],
      ['WRITE', 'append', undefined, 2, 0, false],
      ['WRITE', 'columns', undefined, 1, 0, true],
      ['DELETE', 'change', undefined, 0, 1, false],
      ['UPDATE', 'change', undefined, 1, 1, false],
      ['WRITE', 'change', undefined, 1, 1, false],
      ['WRITE', 'append', undefined, 1, 0, false],
      ['OPTIMIZE', 'upkeep', undefined, 0, 0, false],
    ]);
  });

  it('skips files by the library\'s own partition values and statistics', async () => {
    const snapshot = await new DeltaTable(store, 'history', 'history').snapshot({ kind: 'number', number: 2n });
    const plan = await snapshot.plan({ op: 'and', args: [{ op: 'compare', column: ['site'], comparison: '=', value: 'Holm Quay' }, { op: 'compare', column: ['id'], comparison: '>', value: 5n }] });
    expect(plan.files).toEqual({ total: 6, read: 1, skippedByPartition: 3, skippedByBounds: 2 });
  });

  it('reads a log whose old commits were cleaned away behind a checkpoint', async () => {
    const isGone = (path: string) => /0000000000000000000[0-5]\.json$/.test(path);
    const cleaned = Object.assign(Object.create(store) as typeof store, {
      uri: store.uri,
      listFolder: async (at: string) => {
        const page = await store.listFolder(at);
        return { ...page, files: page.files.filter((file) => !isGone(file.path)) };
      },
      read: store.read.bind(store), head: async (at: string) => (isGone(at) ? undefined : store.head(at)),
    });
    const table = new DeltaTable(cleaned, 'history', 'history');
    const { rows } = await readTable(engine, store, table, { sql: 'SELECT * FROM t ORDER BY id' });
    expect(rows).toEqual(expectedOf('history')['7']!.rows);
    await expect(table.snapshot({ kind: 'number', number: 3n })).rejects.toThrow('has no version 3: it has versions 5 to 7');
    expect((await table.snapshot(LATEST)).version).toBe(7);
  });
});

/** Made by the text of the protocol (tools/fixtures/make_delta_by_hand.py), which names the sections. */
describe('tables of the kinds that few writers make', () => {
  it.each(['vectors', 'mapped', 'mapped-by-id', 'checkpoints', 'checkpoint-as-parquet', 'widened', 'tracked'])('%s', async (kind) => {
    const table = new DeltaTable(store, `hand-${kind}`, kind);
    for (const [version, { columns, rows }] of versionsOf(`hand-${kind}`)) {
      const result = await readTable(engine, store, table, { asOf: { kind: 'number', number: BigInt(version) }, sql: 'SELECT * FROM t ORDER BY id' });
      expect(result.columns.map((column) => column.name), `columns at version ${version}`).toEqual(columns);
      expect(result.rows, `rows at version ${version}`).toEqual(rows);
    }
  });

  it('skips files by statistics under physical names, of widened types, and in columns of a checkpoint alone', async () => {
    const read = async (kind: string, predicate: Predicate) => (await (await new DeltaTable(store, `hand-${kind}`, kind).snapshot(LATEST)).plan(predicate)).files.read;
    expect(await read('mapped', { op: 'compare', column: ['place', 'lat'], comparison: '>', value: 100 })).toBe(2); // floats may be NaN
    expect(await read('mapped', { op: 'compare', column: ['title'], comparison: '=', value: 'zz' })).toBe(1); // the other file has no statistics
    expect(await read('mapped', { op: 'compare', column: ['site'], comparison: '=', value: 'Holm' })).toBe(1);
    expect(await read('widened', { op: 'compare', column: ['whole'], comparison: '>', value: 1000n })).toBe(1);
    expect(await read('checkpoints', { op: 'compare', column: ['id'], comparison: '=', value: 31n })).toBe(2); // file 3 by its columns, file 5 has no bounds
  });

  it('reads a table with a writer feature nobody knows, and refuses to write to it', async () => {
    await expect(append(new DeltaTable(store, 'hand-tracked', 'tracked'), [], testPorts())).rejects.toMatchObject({ kind: 'unsupported', message: expect.stringContaining('farFromHere') });
  });
});
