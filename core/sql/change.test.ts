import { describe, expect, it } from 'vitest';
import { isChange, readChange, type ChangeStatement, type Range } from './change';

/** The statement with its ranges as texts. */
function shown(sql: string): unknown {
  const text = (value: unknown): unknown => {
    if (Array.isArray(value)) return value.map(text);
    if (typeof value !== 'object' || value === null) return value;
    const { start, end, ...rest } = value as Partial<Range> & Record<string, unknown>;
    if (start !== undefined && end !== undefined && Object.keys(rest).length === 0) return sql.slice(start, end);
    return Object.fromEntries(Object.entries(rest).map(([key, each]) => [key, text(each)]));
  };
  return text(readChange(sql) satisfies ChangeStatement);
}

describe('statements that change rows', () => {
  it.each([
    ['INSERT INTO a.t (x, "y z") VALUES (1, 2), (3, 4);', { kind: 'insert', target: { name: ['a', 't'] }, byName: false, columns: ['x', 'y z'], source: 'VALUES (1, 2), (3, 4)' }],
    ['insert into a.t by name select 1 as x', { kind: 'insert', target: { name: ['a', 't'] }, byName: true, source: 'select 1 as x' }],
    ['INSERT INTO "bay:x/y" (SELECT 1)', { kind: 'insert', target: { name: ['bay:x/y'] }, byName: false, source: '(SELECT 1)' }],
    ["UPDATE a.b.t AS u SET x = CASE WHEN y THEN 1 END, u.z = f(1, 2) WHERE s = 'SET WHERE' -- end", { kind: 'update', target: { name: ['a.b', 't'], alias: 'u' }, set: [{ column: 'x', value: 'CASE WHEN y THEN 1 END' }, { column: 'z', value: 'f(1, 2)' }], where: "s = 'SET WHERE'" }],
    ['DELETE FROM t', { kind: 'delete', target: { name: ['t'] } }],
    ['DELETE FROM n.t d WHERE d.x IN (SELECT y FROM u WHERE z)', { kind: 'delete', target: { name: ['n', 't'], alias: 'd' }, where: 'd.x IN (SELECT y FROM u WHERE z)' }],
    ['REPLACE ROWS OF t WHERE day BETWEEN 1 AND 2 BY SELECT 1', { kind: 'replace', target: { name: ['t'] }, what: { kind: 'rows', where: 'day BETWEEN 1 AND 2' }, source: 'SELECT 1' }],
    ['REPLACE PARTITIONS OF t BY VALUES (1)', { kind: 'replace', target: { name: ['t'] }, what: { kind: 'partitions' }, source: 'VALUES (1)' }],
    ['REPLACE ALL ROWS OF t BY SELECT 1', { kind: 'replace', target: { name: ['t'] }, what: { kind: 'all' }, source: 'SELECT 1' }],
    ['MERGE INTO t USING (SELECT 1 AS id) s ON t.id = s.id WHEN MATCHED AND s.d THEN DELETE WHEN MATCHED THEN UPDATE SET * WHEN NOT MATCHED THEN INSERT (id, v) VALUES (s.id, CASE WHEN 1 THEN 2 END) WHEN NOT MATCHED BY SOURCE THEN UPDATE SET v = 0', {
      kind: 'merge', target: { name: ['t'] }, source: '(SELECT 1 AS id) s', sourceName: 's', on: 't.id = s.id',
      clauses: [
        { when: 'matched', condition: 's.d', action: { kind: 'delete' }, start: 63 },
        { when: 'matched', action: { kind: 'update', set: 'all' }, start: 96 },
        { when: 'not-matched', action: { kind: 'insert', columns: ['id', 'v'], values: ['s.id', 'CASE WHEN 1 THEN 2 END'] }, start: 127 },
        { when: 'not-matched-by-source', action: { kind: 'update', set: [{ column: 'v', value: '0' }] }, start: 211 },
      ],
    }],
  ])('%s', (sql, parts) => {
    expect(JSON.parse(JSON.stringify(shown(sql), (key, value: unknown) => (key === 'start' ? undefined : value)))).toEqual(JSON.parse(JSON.stringify(parts, (key, value: unknown) => (key === 'start' ? undefined : value))));
  });

  it.each([
    ['UPDATE t SET', 'name of a column', 12], ['UPDATE t SET x 3', '"="', 15], ['DELETE t', 'FROM', 7], ['INSERT INTO t', 'a query or VALUES', 13], ['DELETE FROM t WHERE (a', 'not closed', 20],
    ['DELETE FROM t WHERE a)', 'too many', 21], ['MERGE INTO t USING (SELECT f(1)) ON true WHEN MATCHED THEN DELETE', 'needs a name', 19], ['MERGE INTO t USING s ON a WHEN NOT MATCHED THEN DELETE', 'INSERT', 48],
    ['DELETE FROM t; DELETE FROM u', 'one at a time', 13], ['MERGE INTO t USING s ON a WHEN NOT MATCHED THEN INSERT (a, b) VALUES (1)', '2 columns and gives 1', 70],
  ])('says where it stops to understand %s', (sql, words, position) => {
    expect(() => readChange(sql)).toThrow(expect.objectContaining({ message: expect.stringContaining(words) as string, details: expect.objectContaining({ position }) as unknown }) as Error);
  });

  it.each([["DELETE FROM t WHERE s = E'a\\' WHERE (' AND x", "s = E'a\\' WHERE (' AND x"], ['DELETE FROM t WHERE /* a /* b */ WHERE ( */ x', 'x'], ['DELETE FROM t WHERE $q1$ ( $q1$ = x', '$q1$ ( $q1$ = x']])('splits %s as the engine does', (sql, where) => {
    expect(shown(sql)).toMatchObject({ where });
  });

  it('leaves queries to the engine\'s parser', () => {
    expect(['SELECT 1', '-- DELETE\nSELECT 1', 'WITH a AS (SELECT 1) SELECT * FROM a', 'delete from t'].map(isChange)).toEqual([false, false, false, true]);
  });
});
