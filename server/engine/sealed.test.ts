/** User SQL runs sealed, under limits; what it does to itself it does to nobody else. */
import { randomUUID } from 'node:crypto';
import { mkdirSync, symlinkSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import type { QueryRequest } from './messages';

let engine: LocalEngine;
const folder = temporaryFolder();
const inside = path.join(folder.path, 'in');
beforeAll(async () => {
  mkdirSync(inside);
  writeFileSync(path.join(inside, 'a.csv'), 'x\n1\n2\n');
  writeFileSync(path.join(folder.path, 'secret.csv'), 'x\n42\n');
  symlinkSync(path.join(folder.path, 'secret.csv'), path.join(inside, 'link.csv'));
  engine = await LocalEngine.start('100MB');
});
afterAll(folder.remove);

const run = (sql: string, more: Partial<QueryRequest> = {}) =>
  engine.call('query', { id: randomUUID(), setup: [], sql, allow: { folders: [inside] }, limits: { rows: 1000, resultBytes: 1e6, millis: 20_000 }, ...more });

describe('the seal', () => {
  it('lets the allowed files be read', async () => {
    expect((await run(`SELECT sum(x) FROM read_csv('${inside}/a.csv')`)).rows).toEqual([[3]]);
  });

  it.each([
    ['a file beside', () => `SELECT * FROM read_csv('${folder.path}/secret.csv')`],
    ['a path with ..', () => `SELECT * FROM read_csv('${inside}/../secret.csv')`],
    ['a link that leads out', () => `SELECT * FROM read_csv('${inside}/link.csv')`],
    ['a listing', () => `SELECT * FROM glob('${folder.path}/*')`],
    ['writing', () => `COPY (SELECT 1) TO '${folder.path}/out.csv'`],
    ['attaching a database', () => `ATTACH '${folder.path}/x.db'`],
    ['installing an extension', () => 'INSTALL httpfs'],
    ['changing a setting', () => 'SET enable_external_access = true'],
    ['lifting the memory limit', () => "SET memory_limit = '10GB'"],
  ])('keeps out %s', async (_, sql) => {
    await expect(run(sql())).rejects.toThrow(/permission|disabled|not allowed|locked|cannot|No files found/i);
  });

  it('holds for exact files as for folders', async () => {
    await expect(run(`SELECT * FROM read_csv('${folder.path}/secret.csv')`, { allow: { files: [`${inside}/a.csv`] } })).rejects.toThrow();
  });

  it('leaves nothing behind for the next query', async () => {
    await run('CREATE TEMP TABLE mine AS SELECT 1');
    await expect(run('SELECT * FROM mine')).rejects.toThrow('mine');
  });
});

const FOREVER = 'SELECT count(*) FROM range(1000000000000) a';

describe('limits', () => {
  it('stop a query at its time, and others go on', async () => {
    const slow = run(FOREVER, { limits: { rows: 10, resultBytes: 1e6, millis: 300 } });
    expect((await run('SELECT 7')).rows).toEqual([[7]]);
    await expect(slow).rejects.toMatchObject({ kind: 'limit', message: expect.stringContaining('0.3 s, the time limit') });
  });

  it('stop a query that somebody cancels', async () => {
    const id = randomUUID();
    const running = expect(run(FOREVER, { id })).rejects.toMatchObject({ kind: 'cancelled' });
    while (!(await engine.call('cancel', { id }))) await new Promise((resolve) => setTimeout(resolve, 5));
    await running;
  });

  it('stop a query that would fill the memory, and the engine goes on', async () => {
    await expect(run('SELECT list(x) FROM (SELECT x, random() AS r FROM range(50000000) t(x) ORDER BY r)')).rejects.toMatchObject({ kind: 'Out of Memory' });
    expect((await run('SELECT 7')).rows).toEqual([[7]]);
  });

  it('cut the rows at their number and say so', async () => {
    const reply = await run('SELECT x FROM range(100) t(x)', { limits: { rows: 30, resultBytes: 1e6, millis: 5000 } });
    expect([reply.rowCount, reply.truncated]).toEqual([30, true]);
    expect((await run('SELECT x FROM range(30) t(x)', { limits: { rows: 30, resultBytes: 1e6, millis: 5000 } })).truncated).toBe(false);
  });

  it('stop a result that is too large', async () => {
    await expect(run("SELECT repeat('x', 100000) FROM range(100)")).rejects.toMatchObject({ kind: 'limit', message: expect.stringContaining('1 MB') });
  });
});

it('gives values exactly', async () => {
  const sql = `SELECT 9007199254740993::BIGINT, 12345678901234567890::HUGEINT, 1.50::DECIMAL(10,2), 'nan'::DOUBLE, '-inf'::FLOAT, encode('hi'), TIMESTAMP '2026-03-14 06:00:00.5', TIMESTAMPTZ '2026-03-14 06:00:00+02',
    DATE '1969-12-31', TIME '06:00:00', {'a': [1, NULL], 'b': MAP {'k': 9007199254740993}}, NULL, true, 'NaN', '550e8400-e29b-41d4-a716-446655440000'::UUID, TIMESTAMP_NS '2026-03-14 06:00:00.123456789', INTERVAL 3 DAY, 12.77::FLOAT, 16777217::FLOAT, 3.4028235e38::FLOAT, 1.17549435e-38::FLOAT`;
  expect((await run(sql)).rows[0]).toEqual([
    '9007199254740993', '12345678901234567890', '1.50', 'NaN', '-Infinity', 'aGk=', '2026-03-14T06:00:00.500000', '2026-03-14T04:00:00Z',
    '1969-12-31', '06:00:00', { a: [1, null], b: { k: '9007199254740993' } }, null, true, 'NaN', '550e8400-e29b-41d4-a716-446655440000', '2026-03-14T06:00:00.123456789', '3 days', 12.77, 16777216, 3.4028235e38, 1.1754944e-38,
  ]);
});
