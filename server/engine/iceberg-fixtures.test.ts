/** Tables made by an independent Iceberg library (tools/fixtures/make_iceberg_fixtures.py), read with the rows that it gives. */
import { readdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { beforeAll, describe, expect, it } from 'vitest';
import type { IcebergTable } from '../../core/iceberg/table';
import { LATEST, type AsOf } from '../../core/table/contract';
import { parseValue } from '../../core/values/text';
import type { LogicalType } from '../../core/schema/types';
import { projectRoot } from '../program-files';
import { icebergTableAt, readTable, storeAt } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';

const folder = path.join(projectRoot, 'fixtures/iceberg');
const expectedOf = (name: string) => JSON.parse(readFileSync(path.join(folder, `${name}.expected.json`), 'utf8')) as Record<string, { columns: string[]; rows: unknown[][] }>;
const store = storeAt(folder);
let engine: LocalEngine;
beforeAll(async () => {
  engine = await LocalEngine.start();
});
const open = (name: string): IcebergTable => icebergTableAt(engine, store, name);
const asOfKey = (key: string): AsOf => (key === 'latest' ? LATEST : /^\d+$/.test(key) ? { kind: 'number', number: BigInt(key) } : { kind: 'ref', name: key });

describe('tables of an independent Iceberg library', () => {
  it.each(['types', 'evolved', 'refs', 'mapped', 'many'])('%s: every snapshot, branch and tag gives the same columns and rows', async (name) => {
    for (const [key, { columns, rows }] of Object.entries(expectedOf(name))) {
      const result = await readTable(engine, store, open(name), { asOf: asOfKey(key), sql: 'SELECT * FROM t ORDER BY id' });
      expect(result.columns.map((column) => column.name), `columns at ${key}`).toEqual(columns);
      expect(result.rows, `rows at ${key}`).toEqual(rows);
    }
  });

  it.each(readdirSync(folder).filter((name) => name.startsWith('transform_')))('%s: files are found through the partition, whatever is asked', async (name) => {
    const { rows, columns } = expectedOf('transforms')[name.slice('transform_'.length)]!;
    const table = open(name);
    expect((await readTable(engine, store, table, { sql: 'SELECT * FROM t ORDER BY id' })).rows).toEqual(rows);
    const { source } = (await table.snapshot(LATEST)).partitioning[0]!;
    const at = columns.indexOf(source);
    const { type } = (await table.snapshot(LATEST)).schema.fields[at]!;
    for (const row of rows) {
      const value = row[at] === null ? null : parseValue(type as LogicalType, String(row[at]));
      const predicate = value === null ? { op: 'null' as const, column: [source] } : { op: 'compare' as const, column: [source], comparison: '=' as const, value };
      const plan = await (await table.snapshot(LATEST)).plan(predicate);
      const found = await readTable(engine, store, table, { predicate, sql: `SELECT id FROM t WHERE "${source}" IS NOT DISTINCT FROM ${value === null ? 'NULL' : `'${String(row[at])}'`}` });
      expect(found.rows.flat()).toContain(row[0]);
      expect(plan.files.skippedByPartition, `${source} = ${String(row[at])}`).toBeGreaterThan(0);
    }
  });
});

/** Made by the text of the specifications (tools/fixtures/make_iceberg_by_hand.py), which names the sections. */
describe('tables of the kinds that few writers make', () => {
  it.each(['deletes', 'partitioned-deletes', 'vectors', 'version1', 'odd', 'mapped', 'avro', 'empty'])('%s', async (kind) => {
    const name = `hand-${kind}`;
    for (const [key, { columns, rows }] of Object.entries(expectedOf(name))) {
      const result = await readTable(engine, store, open(name), { asOf: asOfKey(key), sql: 'SELECT * FROM t ORDER BY id, v'.replace(', v', kind === 'mapped' ? '' : ', v') });
      expect(result.columns.map((column) => column.name), `columns at ${key}`).toEqual(columns);
      expect(result.rows, `rows at ${key}`).toEqual(rows);
    }
  });

  it('tells true numbers of rows where rows are deleted, without reading data files for vectors', async () => {
    for (const name of ['deletes', 'partitioned-deletes', 'vectors']) {
      const snapshot = await open(`hand-${name}`).snapshot(LATEST);
      expect((await snapshot.totals()).rows, name).toBe(expectedOf(`hand-${name}`).latest!.rows.length);
    }
  });

  it('skips files by metrics with text keys and by a partition before 1970', async () => {
    const plan = await (await open('hand-version1').snapshot(LATEST)).plan({ op: 'and', args: [{ op: 'compare', column: ['day'], comparison: '<', value: 0 }, { op: 'compare', column: ['id'], comparison: '>', value: 3n }] });
    expect(plan.files).toEqual({ total: 3, read: 0, skippedByPartition: 2, skippedByBounds: 1 });
  });
});
