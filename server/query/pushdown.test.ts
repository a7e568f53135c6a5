/** Which predicate reaches each table, through the engine's optimizer. */
import { beforeAll, describe, expect, it } from 'vitest';
import type { Predicate } from '../../core/scan/predicate';
import { parseTypeName } from '../../core/schema/type-names';
import { field } from '../../core/schema/types';
import { FolderTable, MemoryListings } from '../../core/folder/table';
import { readStatement } from '../../core/sql/statement';
import { MemoryStore } from '../../core/storage/memory-store';
import { toBytes } from '../../core/storage/object-store';
import { LATEST } from '../../core/table/contract';
import { formatValue } from '../../core/values/text';
import { LocalEngine } from '../testing/local-engine';
import { prepareQuery } from './prepare';
import { Statements } from './statements';
import type { ResolvedQuery, ResolvedTable } from './resolve';

const COLUMNS = { n: 'bigint', i: 'integer', x: 'double', name: 'varchar', ts: 'timestamptz', day: 'date', price: 'decimal(10,2)', ok: 'boolean', place: 'struct(lat double, city varchar)' };
const fields = Object.entries(COLUMNS).map(([name, type]) => field(name, parseTypeName(type)));
let engine: LocalEngine;
let statements: Statements;
let table: ResolvedTable;
beforeAll(async () => {
  engine = await LocalEngine.start();
  statements = new Statements(engine);
  const store = new MemoryStore();
  await store.put('t/a', toBytes('rows'));
  const folder = new FolderTable(store, 't', 'ns.t', { pattern: '*', options: { format: 'parquet' }, fields, partitionColumns: [] }, new MemoryListings());
  table = { name: 'ns.t', table: folder, storage: undefined as never, snapshot: await folder.snapshot(LATEST), past: false, asOf: LATEST };
});

/** Views by name; anything else is the table. */
async function resolve(sql: string, views: Record<string, string> = {}): Promise<ResolvedQuery> {
  const statement = await readStatement(sql, engine);
  const sources = await Promise.all(statement.references.map(async ({ name }) => (views[name.at(-1)!] ? resolve(views[name.at(-1)!]!, views) : table)));
  return { statement, sources };
}

function text(predicate: Predicate): string {
  if (predicate.op === 'true') return 'true';
  if ('args' in predicate) return `(${predicate.args.map(text).sort().join(` ${predicate.op} `)})`;
  const column = predicate.column.join('.');
  const type = parseTypeName(predicate.column.length > 1 ? (predicate.column[1] === 'lat' ? 'double' : 'varchar') : COLUMNS[column as 'n']);
  if (predicate.op === 'compare') return `${column} ${predicate.comparison} ${formatValue(type, predicate.value)}`;
  if (predicate.op === 'in') return `${column} in ${predicate.values.map((value) => formatValue(type, value)).join(',')}`;
  return predicate.op === 'prefix' ? `${column} prefix ${predicate.prefix}` : `${column} ${predicate.op}`;
}
async function pushed(sql: string, views?: Record<string, string>): Promise<string[]> {
  const { tables } = await prepareQuery(await resolve(sql, views), statements, new Map());
  return tables.map(({ predicate }) => text(predicate));
}

describe('the predicate of a table', () => {
  it.each([
    ['n = 5', 'n = 5'], ['5 < n', 'n > 5'], ['n BETWEEN 2 AND 4', '(n <= 4 and n >= 2)'], ['n >= 2 AND n < 4', '(n < 4 and n >= 2)'], ["name IN ('a', 'b', 'c')", 'name in a,b,c'],
    ["name LIKE 'TB-0%'", 'name prefix TB-0'], ["name LIKE 'a_b%'", 'name prefix a'], ["starts_with(name, 'x')", 'name prefix x'], ['name IS NULL', 'name null'], ['x IS NOT NULL AND n = 1', '(n = 1 and x not-null)'],
    ['n = 1 OR i = 2', '(i = 2 or n = 1)'], ["price > 1.5", 'price > 1.50'], ["day = '2026-03-14'", 'day = 2026-03-14'], ["ts >= '2026-03-14' AND ts < '2026-03-15'", '(ts < 2026-03-15 00:00:00Z and ts >= 2026-03-14 00:00:00Z)'],
    ["ts::DATE = DATE '2026-03-14'", '(ts < 2026-03-15 00:00:00Z and ts >= 2026-03-14 00:00:00Z)'], ['place.lat > 54.5', 'place.lat > 54.5'], ["ts > TIMESTAMPTZ '2026-03-14 06:00:00+02'", 'ts > 2026-03-14 04:00:00Z'],
  ])('WHERE %s is %s', async (where, expected) => {
    expect(await pushed(`SELECT count(*) FROM ns.t WHERE ${where}`)).toEqual([expected]);
  });

  it.each(['length(name) = 3', 'n + 1 = 5 OR x > random()', "name LIKE '%end'", 'n = i', 'n > (SELECT max(i) FROM ns.t)'])('WHERE %s is left to the engine', async (where) => {
    expect((await pushed(`SELECT count(*) FROM ns.t WHERE ${where}`))[0]).toBe('true');
  });

  it('comes through aliases, subqueries, views and common table expressions', async () => {
    expect(await pushed('SELECT m FROM (SELECT n AS m, x FROM ns.t) q WHERE m = 3')).toEqual(['n = 3']);
    expect(await pushed('SELECT * FROM v WHERE d = 7', { v: 'SELECT n AS d FROM ns.t WHERE ok' })).toEqual([expect.stringContaining('n = 7')]);
    expect(await pushed('WITH c AS (SELECT * FROM ns.t WHERE n = 2) SELECT i FROM c')).toEqual(['n = 2']);
  });

  it('goes across a join to the other side', async () => {
    expect(await pushed('SELECT 1 FROM ns.t a JOIN ns.t b ON a.n = b.n WHERE a.n = 9')).toEqual(['n = 9', 'n = 9']);
  });

  it('stays with its own side of an outer join', async () => {
    expect(await pushed('SELECT 1 FROM ns.t a LEFT JOIN ns.t b ON a.n = b.n AND b.i = 4 WHERE a.x > 1')).toEqual(['x > 1', 'i = 4']);
    expect((await pushed('SELECT 1 FROM ns.t a LEFT JOIN ns.t b ON a.n = b.n WHERE b.i IS NULL'))[1]).toBe('true');
  });

  it('holds for every place that a common table expression is used in', async () => {
    const sql = 'WITH c AS (SELECT * FROM ns.t) SELECT (SELECT count(*) FROM c WHERE n = 1) + (SELECT count(*) FROM c WHERE n = 2)';
    expect(['true', '(n = 1 or n = 2)']).toContain((await pushed(sql))[0]);
  });

  it('is not taken from where it would lose rows: after a limit, a window, or on an aggregate', async () => {
    expect(await pushed('SELECT * FROM (SELECT * FROM ns.t LIMIT 5) WHERE n = 1')).toEqual(['true']);
    expect(await pushed('SELECT * FROM (SELECT n, row_number() OVER (ORDER BY x) AS r FROM ns.t) WHERE n = 1')).toEqual(['true']);
    expect(await pushed('SELECT n, count(*) FROM ns.t GROUP BY n HAVING count(*) = 1')).toEqual(['true']);
  });
});
