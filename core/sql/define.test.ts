/** Statements that define are read into what they say, written back as SQL, and refused with the place of what is wrong. */
import { describe, expect, it } from 'vitest';
import { isDefinition, readDefinition } from './define';
import { createTableSql } from './table-sql';

const TABLE = `CREATE TABLE refined.soundings (
  buoy_id varchar NOT NULL COMMENT 'The buoy''s name',
  taken_at timestamptz,
  place struct(lat double NOT NULL COMMENT 'degrees north', lon double),
  tags varchar[],
  levels map(varchar, decimal(10,2)),
  "first" fixed(16),
  PRIMARY KEY (buoy_id)
)
COMMENT 'Ten-minute readings'
PARTITION BY (day(taken_at), bucket(16, buoy_id), buoy_id)
ORDER BY (taken_at, place.lat)
WITH (
  format = 'iceberg',
  write.target-file-size-bytes = '1000000',
  'own name' = 'x'
)`;

describe('a definition', () => {
  it('of a table is read whole and written back the same', () => {
    const read = readDefinition(TABLE);
    if (read.kind !== 'create-table') throw new Error(read.kind);
    expect(read.table).toMatchObject({ namespace: 'refined', name: 'soundings' });
    expect(read.definition.columns[2]!.type).toMatchObject({ fields: [{ name: 'lat', required: true, comment: 'degrees north' }, { name: 'lon', required: false }] });
    expect(read.definition.partitionBy).toEqual([{ source: 'taken_at', transform: 'day' }, { source: 'buoy_id', transform: 'bucket[16]' }, { source: 'buoy_id', transform: 'identity' }]);
    expect(createTableSql('refined.soundings', read.definition)).toBe(TABLE);
  });

  it.each<[string, object]>([
    ['CREATE NAMESPACE IF NOT EXISTS office.fleet COMMENT \'x\' WITH (location = \'bay:landing/fleet\')', { kind: 'create-namespace', namespace: 'office.fleet', ifNotExists: true, comment: 'x', options: { location: 'bay:landing/fleet' } }],
    ['DROP NAMESPACE IF EXISTS office CASCADE;', { kind: 'drop-namespace', namespace: 'office', ifExists: true, cascade: true }],
    ['create table a.b.c WITH (format = delta) AS SELECT 1 AS one', { kind: 'create-table', table: { namespace: 'a.b', name: 'c' }, definition: { options: { format: 'delta' } }, source: { start: 44, end: 59 } }],
    ['CREATE TABLE a.t WITH (location = \'bay:old/t\')', { kind: 'create-table', definition: { columns: [], options: { location: 'bay:old/t' } } }],
    ['CREATE OR REPLACE VIEW a.v AS WITH x AS (SELECT 1) SELECT * FROM x', { kind: 'create-view', orReplace: true, view: { name: 'v' } }],
    ['DROP TABLE IF EXISTS a."odd name" KEEP FILES', { kind: 'drop', what: 'table', name: { name: 'odd name' }, ifExists: true, keepFiles: true }],
    ['UNDROP TABLE a.t', { kind: 'undrop', name: { name: 't' } }],
    ['ALTER TABLE a.t ADD COLUMN place.depth double COMMENT \'m\' AFTER lat', { change: { change: { kind: 'add', within: 'place', column: { name: 'depth', comment: 'm' }, place: { after: 'lat' } } } }],
    ['ALTER TABLE a.t ALTER COLUMN n SET DATA TYPE bigint', { change: { change: { kind: 'widen', column: 'n', type: { kind: 'long' } } } }],
    ['ALTER TABLE a.t ALTER n DROP NOT NULL', { change: { change: { kind: 'optional', column: 'n' } } }],
    ['ALTER TABLE a.t ALTER n FIRST', { change: { change: { kind: 'move', place: { after: null } } } }],
    ['ALTER TABLE a.t RENAME COLUMN n TO m', { change: { change: { kind: 'rename', column: 'n', to: 'm' } } }],
    ['ALTER TABLE a.t RENAME TO a.u', { change: { kind: 'rename', to: { name: 'u' } } }],
    ['ALTER TABLE a.t SET PROPERTIES (write.delete.mode = \'merge-on-read\', x = -1)', { change: { kind: 'properties', properties: { 'write.delete.mode': 'merge-on-read', x: '-1' } } }],
    ['ALTER TABLE a.t RESET PROPERTIES (a.b, "c")', { change: { kind: 'properties', properties: { 'a.b': null, c: null } } }],
    ['ALTER TABLE a.t ADD PARTITION FIELD truncate(4, name)', { change: { kind: 'partitioning', add: [{ source: 'name', transform: 'truncate[4]' }] } }],
    ['ALTER TABLE a.t SET ORDER BY (x, y)', { change: { kind: 'order', by: ['x', 'y'] } }],
    ['SHOW TABLES IN a.b', { kind: 'show', what: 'tables', namespace: 'a.b' }],
    ['SHOW DROPPED TABLES', { kind: 'show', what: 'dropped' }],
    ['show files of a.t', { kind: 'show', what: 'files', of: { namespace: 'a', name: 't' } }],
    ['SHOW CREATE TABLE a.t', { kind: 'show', what: 'create' }],
    ['DESCRIBE a.t', { kind: 'show', what: 'describe' }],
  ])('%s is understood', (sql, meant) => {
    expect(isDefinition(sql)).toBe(true);
    expect(readDefinition(sql)).toMatchObject(meant);
  });

  it.each([
    ['CREATE TABLE t (a integer)', /"t" needs its namespace before it/, 13],
    ['CREATE TABLE a.t (a wibble)', /The type "wibble" is not one/, 20],
    ['CREATE TABLE a.t', /Expected columns in parentheses, AS and a query, or the location of a table that stands, found the end/, 16],
    ['CREATE TABLE a.t (x integer) AS SELECT 1', /takes its columns from it/, 13],
    ['CREATE TABLE a.t (x integer) PARTITION BY (weekly(x))', /weekly is no partition transform/, 43],
    ['CREATE TABLE a.t (x integer) PARTITION BY (bucket(x))', /Expected a whole number: bucket\(16, column\), found "x"/, 50],
    ['CREATE TABLE a.t (x integer) ELSEWHERE', /Expected the end of the statement, found "ELSEWHERE"/, 29],
    ['CREATE INDEX i', /Expected NAMESPACE, TABLE or VIEW, found "INDEX"/, 7],
    ['ALTER TABLE a.t ADD COLUMN x integer NOT NULL', /must allow nulls/, 37],
    ['ALTER TABLE a.t EXPLODE', /Expected ADD, DROP, RENAME/, 16],
    ['SHOW ME', /Expected NAMESPACES, TABLES, VIEWS/, 5],
    ['DROP TABLE a.t; DROP TABLE a.u', /found several/, 14],
  ])('%s is refused with the place', (sql, message, position) => {
    expect(() => readDefinition(sql)).toThrow(expect.objectContaining({ kind: 'bad-request', message: expect.stringMatching(message), details: expect.objectContaining({ position }) }) as Error);
  });

  it('is told from queries and changes', () => {
    expect(['SELECT 1', 'INSERT INTO a.t VALUES (1)', 'WITH x AS (SELECT 1) FROM x'].map(isDefinition)).toEqual([false, false, false]);
  });
});
