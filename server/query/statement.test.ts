/** The gate and the references, through the engine's own parser. */
import { beforeAll, describe, expect, it } from 'vitest';
import { LakeError } from '../../core/errors';
import { spliceReferences } from '../../core/sql/splice';
import { readStatement } from '../../core/sql/statement';
import { LocalEngine } from '../testing/local-engine';

let engine: LocalEngine;
beforeAll(async () => {
  engine = await LocalEngine.start();
});
const references = async (sql: string) => (await readStatement(sql, engine)).references.map(({ name, alias, asOf }) => [name.join('.'), alias, asOf.kind === 'number' ? Number(asOf.number) : asOf.kind === 'time' ? new Date(asOf.at).toISOString() : 'now']);

describe('table references', () => {
  it.each([
    ['SELECT * FROM refined.bottles', [['refined.bottles', undefined, 'now']]],
    ['SELECT * FROM a.b AS x, "c d"."e.f" y', [['a.b', 'x', 'now'], ['c d.e.f', 'y', 'now']]],
    ['SELECT * FROM t FOR SYSTEM_VERSION AS OF 8 WHERE x', [['t', undefined, 8]]],
    ['SELECT * FROM t FOR SYSTEM_VERSION AS OF 8 AS s', [['t', 's', 8]]],
    ['SELECT * FROM t AS s for system_version as of 8', [['t', 's', 8]]],
    ["SELECT * FROM t FOR SYSTEM_TIME AS OF TIMESTAMP '2026-03-14 06:00' s", [['t', 's', '2026-03-14T06:00:00.000Z']]],
    ["SELECT * FROM t FOR SYSTEM_TIME AS OF '2026-03-14T06:00+02:00'", [['t', undefined, '2026-03-14T04:00:00.000Z']]],
    ['SELECT a.b.t.x FROM a.b.t', [['a.b.t', undefined, 'now']]],
    ['SELECT * FROM t AS x AT (VERSION => 3)', [['t', 'x', 3]]],
    ["SELECT * FROM t AT (TIMESTAMP => TIMESTAMP '2026-03-14')", [['t', undefined, '2026-03-14T00:00:00.000Z']]],
    ['SELECT (SELECT max(x) FROM u) FROM t WHERE EXISTS (FROM v)', [['t', undefined, 'now'], ['u', undefined, 'now'], ['v', undefined, 'now']]],
    ['WITH t AS (SELECT 1) SELECT * FROM t', []],
    ['SELECT unnest(list), unnest(s, recursive := true) FROM t', [['t', undefined, 'now']]],
    ["PIVOT t ON c IN ('x', 'y') USING sum(d) GROUP BY e", [['t', undefined, 'now']]],
    ["FROM t PIVOT (sum(d) FOR c IN ('x', 'y')) WHERE true", [['t', undefined, 'now']]],
    ['UNPIVOT t ON c, d INTO NAME n VALUE v', [['t', undefined, 'now']]],
    ['WITH t AS (SELECT * FROM t) SELECT * FROM t', [['t', undefined, 'now']]],
    ['WITH RECURSIVE r AS (SELECT 1 AS n UNION ALL SELECT n + 1 FROM r WHERE n < 3) SELECT * FROM r JOIN t ON true', [['t', undefined, 'now']]],
    ["SELECT 'FROM x FOR SYSTEM_VERSION AS OF 1' -- FOR SYSTEM_VERSION AS OF 2\nFROM t", [['t', undefined, 'now']]],
    ['SELECT "größe" FROM "straße"."t" WHERE \'ü\' = \'ü\' AND EXISTS (SELECT 1 FROM u FOR SYSTEM_VERSION AS OF 4)', [['straße.t', undefined, 'now'], ['u', undefined, 4]]],
  ])('of %s', async (sql, expected) => {
    expect((await references(sql)).sort()).toEqual(expected.sort());
  });

  it('of files with the way in which they are read', async () => {
    const statement = await readStatement("SELECT files.a FROM files('bay:landing/*.txt', format => 'fixed', skip => 2, header => true, null_texts => ['n/a', '-']) JOIN t ON true", engine);
    expect(statement.references[0]).toMatchObject({ name: ['bay:landing/*.txt'], options: { format: 'fixed', skip: 2, header: true, null_texts: ['n/a', '-'] } });
    expect(spliceReferences(statement, ['__r0', '__r1']).sql).toBe('SELECT files.a FROM __r0 AS "files" JOIN __r1 AS "t" ON true');
  });

  it('are put in place, keeping the name that columns are written with', async () => {
    const statement = await readStatement("SELECT bottles.site, refined.bottles.site, 'refined.bottles' FROM refined.bottles FOR SYSTEM_VERSION AS OF 3 WHERE bottles.x > 1", engine);
    expect(spliceReferences(statement, ['__r0']).sql.replace(/ +/g, ' ')).toBe(`SELECT bottles.site, "bottles".site, 'refined.bottles' FROM __r0 AS "bottles" WHERE bottles.x > 1`);
  });

  it('take the place of a table in a nested namespace, before its columns too', async () => {
    const statement = await readStatement('SELECT a.b.t.x FROM a.b.t WHERE t.x > 1', engine);
    expect(spliceReferences(statement, ['__r0']).sql).toBe('SELECT "t".x FROM __r0 AS "t" WHERE t.x > 1');
  });

  it('keep positions of the user\'s text', async () => {
    const statement = await readStatement('SELECT "ü", nope FROM refined.bottles', engine);
    const spliced = spliceReferences(statement, ['"__r0"']);
    expect(spliced.originalPosition(Buffer.from(spliced.sql).indexOf('nope'))).toBe(12);
  });
});

describe('the gate', () => {
  it.each([
    ['', 'There is no query', undefined],
    ['SELECT 1; SELECT 2', 'found 2 statements', undefined],
    ['  DROP TABLE x', 'starts with DROP', 2],
    ["COPY t TO '/tmp/x'", 'starts with COPY', 0],
    ["ATTACH '/etc/passwd'", 'starts with ATTACH', 0],
    ['PRAGMA database_list', 'PRAGMA', 0],
    ['SET memory_limit = \'1GB\'', 'starts with SET', 0],
    ["SELECT * FROM read_csv('/etc/passwd')", 'The table function read_csv', 14],
    ["SELECT * FROM '/etc/passwd'", 'no-such-thing', undefined],
    ["SELECT * FROM files(getenv('HOME'))", 'begins with the place of the files', 14],
    ["SELECT * FROM files('bay:x', delimiter => getenv('HOME'))", 'is written as name => value', 42],
    ["SELECT * FROM query('SELECT 1')", 'The table function query', 14],
    ['SELECT * FROM duckdb_settings()', 'The table function duckdb_settings', 14],
    ["SELECT getenv('HOME')", 'The function getenv', 7],
    ["SELECT x FROM t WHERE read_text('/etc/passwd') IS NULL", 'The function read_text', 22],
    ["SELECT current_setting('memory_limit')", 'The function current_setting', 7],
    ['SELECT sum(x) OVER (ORDER BY getvariable(\'a\')) FROM t', 'The function getvariable', 29],
    ['SELECT * FROM t WHERE x = $1', 'A parameter', undefined],
    ['DESCRIBE t', 'cannot be used', undefined],
    ['SELECT * FROM t FOR SYSTEM_VERSION AS OF x', 'Expected a version number', 41],
    ["SELECT * FROM t FOR SYSTEM_TIME AS OF 'yesterday'", '"yesterday" is not a time', 38],
    ['SELECT * FROM t FOR SYSTEM_VERSION AS OF 1 AS x AT (VERSION => 2)', 'two states at once', undefined],
    ['SELECT * FROM (SELECT 1) FOR SYSTEM_VERSION AS OF 1', 'right after a table', 25],
    ['SELECT 1 + FROM t', 'yntax error', 11],
  ])('stops %s', async (sql, words, position) => {
    const error = await readStatement(sql, engine).catch((problem: unknown) => problem);
    if (words === 'no-such-thing') {
      // A path in place of a table is only a name to us, which the catalog does not have.
      expect(error).toMatchObject({ references: [{ name: ['/etc/passwd'] }] });
      return;
    }
    expect(error).toBeInstanceOf(LakeError);
    expect((error as LakeError).message).toContain(words);
    if (position !== undefined) expect((error as LakeError).details.position).toBe(position);
  });
});
