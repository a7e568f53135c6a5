/** Rules of a table are understood or refused, never guessed; through the engine's own parser. */
import { beforeAll, describe, expect, it } from 'vitest';
import { RULE_FUNCTIONS, rulesOf } from '../../core/delta/rules';
import { readRule } from '../../core/sql/rule-sql';
import { checkWhole } from '../../core/sql/whole-part';
import { LocalEngine } from '../testing/local-engine';

let engine: LocalEngine;
beforeAll(async () => {
  engine = await LocalEngine.start();
});
const read = (sql: string) => readRule('r', sql, RULE_FUNCTIONS, engine);

describe('a rule that stands in the log', () => {
  it.each([
    ['`a b` > 0 AND c IS NOT NULL', '"a b" > 0 AND c IS NOT NULL'], ["CASE WHEN x THEN 'a' ELSE upper(y) END = 'A'", "CASE WHEN x THEN 'a' ELSE upper(y) END = 'A'"],
    ['x BETWEEN 1 AND 5 OR y IN (1, 2)', 'x BETWEEN 1 AND 5 OR y IN (1, 2)'], ['year(seen) = 2026', 'year(seen) = 2026'], ['CAST(seen AS DATE)', 'CAST(seen AS DATE)'], ['-x + y * 2 % 3', '-x + y * 2 % 3'],
  ])('%s is understood', async (sql, ours) => {
    expect(await read(sql)).toBe(ours);
  });

  it.each([
    ['(SELECT max(x) FROM t) > 3', 'subquery'], ['x > 3; SELECT 1', 'cannot be parsed'], ['date_format(seen, \'yyyy\') = \'2026\'', 'calls date_format'], ['x RLIKE \'a\'', 'cannot be parsed'],
    ['random() > 0.5', 'calls random'], ['x) OR (true', 'cannot be parsed|holds'], ['sum(x) OVER () > 3', 'window'], ['x / 2 > 1', 'calls /'],
  ])('%s is refused by name', async (sql, words) => {
    await expect(read(sql)).rejects.toMatchObject({ kind: 'unsupported', message: expect.stringMatching(new RegExp(words)) as string });
  });

  it('comes from columns, nested ones too, and from properties', () => {
    const schemaString = JSON.stringify({ type: 'struct', fields: [
      { name: 'a', type: 'long', nullable: false, metadata: { 'delta.invariants': '{"expression":{"expression":"a > 1"}}' } },
      { name: 'b', type: { type: 'struct', fields: [{ name: 'c', type: 'string', nullable: false, metadata: {} }] }, nullable: true, metadata: { CURRENT_DEFAULT: 'NULL' } },
    ] });
    expect(rulesOf({ schemaString, configuration: { 'delta.constraints.named': 'a < 9', 'delta.other': 'x' } }, 't')).toEqual({
      required: ['a', 'b.c'], conditions: [{ name: 'invariant of a', sql: 'a > 1' }, { name: 'named', sql: 'a < 9' }], generated: [], defaults: [{ column: 'b', sql: 'NULL' }],
    });
    expect(() => rulesOf({ schemaString: schemaString.replace('\\"expression\\":{', '\\"other\\":{'), configuration: {} }, 't')).toThrow('invariant that cannot be read');
  });
});

describe('a part of a statement', () => {
  it.each([
    ['expression', 'a + (SELECT max(b) FROM t FOR SYSTEM_VERSION AS OF 3)'], ['expression', "x = 'it''s' -- end"], ['query', 'WITH a AS (SELECT 1) SELECT * FROM a ORDER BY 1 LIMIT 3'], ['query', 'VALUES (1), (2)'],
    ['source', 'ns.t AS s'], ['source', '(VALUES (1)) AS s(id)'], ['source', 'range(5) r'],
  ] as const)('is whole as %s: %s', async (kind, text) => {
    await expect(checkWhole(kind, text, 0, engine)).resolves.toBeUndefined();
  });

  it.each([
    ['expression', 'true) OR (true'], ['expression', 'a, b'], ['expression', "E'\\'"], ['expression', '1 /* open'], ['expression', '1) FROM t WHERE (true'], ['query', 'SELECT 1) AS a, (SELECT 2'], ['query', 'SELECT 1; SELECT 2'],
    ['source', 't s WHERE true'], ['source', 't s UNION SELECT 1'], ['source', 'a, b'],
  ] as const)('is not whole as %s: %s', async (kind, text) => {
    await expect(checkWhole(kind, text, 7, engine)).rejects.toMatchObject({ kind: 'bad-request', details: { position: 7 } });
  });
});
