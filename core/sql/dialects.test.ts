import { describe, expect, it } from 'vitest';
import { fromDialect, toDialect } from './dialects';

describe('SQL of another dialect', () => {
  it.each([
    ['spark', 'SELECT `a b`, count(*) AS n FROM ns.t WHERE name = "it\'s" GROUP BY `a b`', `SELECT "a b", count(*) AS n FROM ns.t WHERE name = 'it''s' GROUP BY "a b"`],
    ['spark', 'SELECT a / 2 AS half, CAST(b AS STRING) AS b FROM t', 'SELECT a / 2 AS half, CAST(b AS STRING) AS b FROM t'],
    ['trino', 'SELECT "a b" FROM cat.ns.t ORDER BY x LIMIT 3;', 'SELECT "a b" FROM cat.ns.t ORDER BY x LIMIT 3'],
    ['something', 'SELECT a, sum(b) AS b FROM t GROUP BY a', 'SELECT a, sum(b) AS b FROM t GROUP BY a'],
  ])('%s: %s', (dialect, given, ours) => {
    expect(fromDialect(given, dialect)).toEqual({ sql: ours });
  });

  it.each([
    ['spark', 'SELECT explode(x) FROM t', 'explode'], ['spark', 'SELECT concat(a, b) FROM t', 'the function concat'], ['spark', 'SELECT CAST(a AS TIMESTAMP) FROM t', 'a cast to timestamp'],
    ['spark', 'SELECT * FROM t ORDER BY a LIMIT 3', 'an order that says nothing of nulls'], ['spark', 'SELECT row_number() OVER (ORDER BY a) FROM t', 'an order that says nothing of nulls'],
    ['trino', 'SELECT approx_distinct(a) FROM t', 'the function approx_distinct'], ['hive', 'SELECT a FROM t WHERE b RLIKE "x"', 'RLIKE'], ['spark', "SELECT 'a\\\\b' FROM t", 'a text with a backslash'],
  ])('%s: %s is not guessed at', (dialect, given, why) => {
    expect((fromDialect(given, dialect) as { problem: string }).problem.toLowerCase()).toContain(why.toLowerCase());
  });
});

describe('our SQL for other engines', () => {
  it('is offered where it means the same', () => {
    const sql = `SELECT "the day", avg(temp_c) AS temp FROM refined.soundings WHERE depth > 2 AND name <> '"' GROUP BY "the day"`;
    expect(toDialect(sql, 'spark')).toEqual({ sql: sql.replaceAll('"the day"', '`the day`') });
    expect(toDialect(sql, 'trino')).toEqual({ sql });
  });

  it.each(['SELECT a::DATE FROM t', 'SELECT a FROM t QUALIFY row_number() OVER (ORDER BY a NULLS LAST) = 1', 'SELECT * EXCLUDE (a) FROM t', 'SELECT a FROM "bay:x"', 'SELECT a FROM t FOR SYSTEM_VERSION AS OF 3', 'SELECT list_contains(a, 1) FROM t', 'SELECT a[1] FROM t'])('is not where it does not: %s', (sql) => {
    expect(toDialect(sql, 'spark')).toHaveProperty('problem');
  });
});
