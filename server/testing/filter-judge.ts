/**
 * Whether leaving files out changes answers: tables of both formats and every layout over values at which encodings bend,
 * asked with random conditions, and held against the raw engine over the same values.
 */
import { field } from '../../core/schema/types';
import { parseTypeName } from '../../core/schema/type-names';
import { seeded } from '../../core/testing/driven-store';
import { sameRows } from './same-rows';
import type { SqlBench } from './sql-bench';

/** By type as SQL has it: values as SQL texts, and transforms that Iceberg has for it. */
const TYPES: Record<string, { values: string[]; transforms: string[]; noDeltaPartition?: true; noDelta?: true; isText?: true }> = {
  integer: { values: ['-2147483648', '-1', '0', '1', '9', '2147483647', '100', '-17'], transforms: ['identity', 'bucket[4]', 'truncate[10]'] },
  bigint: { values: ['-9223372036854775808', '9223372036854775807', '9007199254740993', '9007199254740992', '0', '-1', '-9007199254740993', '12'], transforms: ['identity', 'bucket[4]', 'truncate[10]'] },
  double: { values: ["'nan'", "'infinity'", "'-infinity'", '0.0', "'-0.0'", '0.1', '1.7976931348623157e308', '5e-324', '-2.5'], transforms: ['identity'] },
  float: { values: ["'nan'", "'infinity'", "'-infinity'", '0.1', '16777216', '3.4028235e38', "'-0.0'", '-2.5', '0.3'], transforms: ['identity'] },
  'decimal(9,2)': { values: ['-0.01', '0.00', '0.01', '9999999.99', '-9999999.99', '12.34', '10.65'], transforms: ['identity', 'bucket[4]', 'truncate[50]'] },
  'decimal(38,4)': { values: ['9999999999999999999999999999999999.9999', '-9999999999999999999999999999999999.9999', '0.0001', '-0.0001', '1234567890123456789012345678901234.5678', '0.0000'], transforms: ['identity', 'bucket[4]', 'truncate[50]'] },
  date: { values: ["'1969-12-31'", "'1970-01-01'", "'0001-01-01'", "'9999-12-31'", "'2024-02-29'", "'1900-03-01'", "'1582-10-15'"], transforms: ['identity', 'bucket[4]', 'year', 'month', 'day'] },
  timestamp: { values: ["'1969-12-31 23:59:59.999999'", "'1969-12-31 23:59:59.9995'", "'1970-01-01 00:00:00'", "'1900-01-01 00:00:00.000001'", "'2024-02-29 12:00:00.123456'", "'0001-01-01 00:00:00'", "'9999-12-31 23:59:59.999999'", "'1969-12-31 23:00:00.0001'"], transforms: ['identity', 'bucket[4]', 'year', 'month', 'day', 'hour'] },
  timestamptz: { values: ["'1969-12-31 23:59:59.999999+00'", "'1970-01-01 00:00:00+00'", "'2024-03-31 01:30:00+00'", "'2024-03-10 02:30:00.5-08'", "'1899-12-31 23:59:59.9999+00'", "'9999-12-31 23:59:59+00'", "'2024-01-01 00:30:00+01'"], transforms: ['identity', 'bucket[4]', 'year', 'month', 'day', 'hour'] },
  time: { values: ["'00:00:00'", "'23:59:59.999999'", "'12:30:00.5'", "'00:00:00.000001'"], transforms: ['identity', 'bucket[4]'], noDelta: true },
  varchar: {
    isText: true,
    values: ["'a'", "'A'", "'ä'", "'z'", "chr(65535)", "chr(55295)", "chr(57344)", "chr(65533) || 'x'", "chr(1114111)", "chr(128512)", "chr(65536)", "'a' || chr(1)", `'${'m'.repeat(40)}a'`, `'${'m'.repeat(40)}b'`, `repeat(chr(1114111), 40)`, "'50% off_'", `'${'long/ä '.repeat(60)}'`, "'it''s \\ ok'"],
    transforms: ['identity', 'bucket[4]', 'truncate[3]'],
  },
  uuid: { values: ["'00000000-0000-0000-0000-000000000000'", "'ffffffff-ffff-ffff-ffff-ffffffffffff'", "'80000000-0000-0000-0000-000000000000'", "'7fffffff-ffff-ffff-ffff-ffffffffffff'"], transforms: ['identity', 'bucket[4]'], noDelta: true },
  blob: { values: ["'\\x00'", "'\\x00\\x01'", "'abc'", "'~'", "'ab'", "'\\x7F'"], transforms: ['identity', 'bucket[4]', 'truncate[2]'] },
  boolean: { values: ['true', 'false'], transforms: ['identity'] },
};

const OPERATORS = ['=', '<>', '<', '<=', '>', '>='];

export interface FilterReport {
  tables: number;
  conditions: number;
  problems: string[];
}

interface Layout {
  name: string;
  format: 'delta' | 'iceberg';
  by?: string;
}

/** `conditions`: so many for each table. `only`: types, all where absent. */
export async function judgeFilters(bench: SqlBench, seed: number, conditions: number, only = Object.keys(TYPES)): Promise<FilterReport> {
  const random = seeded(seed);
  const pick = <T>(list: readonly T[]): T => list[Math.floor(random() * list.length)]!;
  const report: FilterReport = { tables: 0, conditions: 0, problems: [] };
  for (const type of only) {
    const { values, transforms, noDelta, isText } = TYPES[type]!;
    const layouts: Layout[] = [
      ...(noDelta ? [] : [{ name: 'plain', format: 'delta' as const }, { name: 'identity', format: 'delta' as const, by: 'identity' }]),
      { name: 'plain', format: 'iceberg' }, ...transforms.map((by): Layout => ({ name: by, format: 'iceberg', by })),
    ];
    // Row by row: a number, and a value or null; some values twice.
    const rows = [...values, 'NULL', 'NULL', pick(values), pick(values)].map((value, n) => ({ n, value })).sort(() => random() - 0.5);
    const valuesSql = (list: typeof rows) => list.map(({ n, value }) => `(${n}, CAST(${value} AS ${type}))`).join(', ');
    for (const layout of layouts) {
      const table = `f${seed}_${type.replace(/\W/g, '_')}_${layout.format}_${layout.name.replace(/\W/g, '_')}`;
      const fail = (what: string) => report.problems.push(`${type}, ${layout.format} by ${layout.name} (seed ${seed}): ${what}`);
      const fields = [field('n', parseTypeName('integer')), field('v', parseTypeName(type))];
      report.tables++;
      try {
        if (layout.format === 'delta') await bench.create(table, { schema: { fields }, ...(layout.by ? { partitionColumns: ['v'] } : {}) });
        else await bench.createIceberg(table, { schema: { fields }, ...(layout.by ? { partitionBy: [{ source: 'v', transform: layout.by }] } : {}) });
        for (let at = 0; at < rows.length; at += 4) await bench.run(`INSERT INTO bay.${table} VALUES ${valuesSql(rows.slice(at, at + 4))}`);
      } catch (error) {
        fail(`it cannot be filled: ${(error as Error).message}`);
        continue;
      }
      const atom = (): string => {
        const value = `CAST(${pick(values)} AS ${type})`;
        const kind = random();
        if (kind < 0.1) return 'v IS NULL';
        if (kind < 0.2) return 'v IS NOT NULL';
        if (kind < 0.3) return `v IN (${value}, CAST(${pick(values)} AS ${type}))`;
        if (kind < 0.4) return `v BETWEEN ${value} AND CAST(${pick(values)} AS ${type})`;
        if (kind < 0.45) return `v IS DISTINCT FROM ${value}`;
        if (isText && kind < 0.6) return pick([`v LIKE ${pick(values)} || '%'`, `starts_with(v, left(${pick(values)}, 2))`, `v LIKE left(${pick(values)}, 2) || '%'`, "v LIKE 'mmm%'", "v LIKE '%x'"]);
        if ((type === 'timestamp' || type === 'timestamptz') && kind < 0.6) return pick([`v::DATE ${pick(OPERATORS)} DATE '1969-12-31'`, `v::DATE ${pick(OPERATORS)} DATE '2024-02-29'`, `date_trunc('day', v) ${pick(OPERATORS)} ${value}`]);
        return random() < 0.15 ? `${value} ${pick(OPERATORS)} v` : `v ${pick(OPERATORS)} ${value}`;
      };
      const condition = (depth: number): string => {
        const kind = random();
        if (depth === 0 || kind < 0.4) return atom();
        if (kind < 0.55) return `NOT (${condition(depth - 1)})`;
        return `(${condition(depth - 1)}) ${kind < 0.78 ? 'AND' : 'OR'} (${condition(depth - 1)})`;
      };
      const all = ['true', ...Array.from({ length: conditions - 1 }, () => condition(2))];
      report.conditions += all.length;
      // Each reference to the table is planned by itself, so that one query asks all conditions.
      const asked = (from: string) => all.map((where, k) => `SELECT ${k} AS k, n, v FROM ${from} WHERE ${where}`).join(' UNION ALL ');
      const model = `(VALUES ${valuesSql(rows)}) AS t(n, v)`;
      try {
        const [found, right] = [await bench.rows(asked(`bay.${table}`)), await bench.rows(asked(model))];
        for (const [k, where] of all.entries()) {
          const of = (list: unknown[][]) => list.filter(([number]) => number === k);
          const what = sameRows(of(found), of(right));
          if (what) fail(`WHERE ${where}: ${what}`);
        }
      } catch (error) {
        for (const where of all) await bench.rows(`SELECT n, v FROM bay.${table} WHERE ${where}`).catch((problem: unknown) => fail(`WHERE ${where}: ${(problem as Error).message}`));
        fail(`asked together: ${(error as Error).message}`);
      }
      // What is pruned for a DELETE must be what goes.
      const where = condition(1);
      try {
        const right = await bench.rows(`SELECT n, v FROM (VALUES ${valuesSql(rows)}) AS t(n, v) WHERE (${where}) IS NOT TRUE`);
        await bench.run(`DELETE FROM bay.${table} WHERE ${where}`);
        const what = sameRows(await bench.rows(`SELECT n, v FROM bay.${table}`), right);
        if (what) fail(`DELETE WHERE ${where} left ${what}`);
      } catch (error) {
        fail(`DELETE WHERE ${where}: ${(error as Error).message}`);
      }
    }
  }
  return report;
}
