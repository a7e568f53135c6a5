/** The processes of user SQL: what one query does to its own process, and that nobody else feels it. */
import { readdirSync } from 'node:fs';
import path from 'node:path';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { temporaryFolder } from '../testing/lake-tools';
import { Fleet } from './fleet';
import type { QueryReply } from './messages';

vi.setConfig({ testTimeout: 120_000 });
const folder = temporaryFolder();
let fleet: Fleet;
beforeAll(async () => {
  fleet = new Fleet({ memory: 200e6, threads: 2, queries: 2, changes: 1, scratch: path.join(folder.path, 'spill'), spillBytes: 200e6, run: () => Promise.reject(new Error('not here')) });
  await fleet.start();
}, 60_000);
afterAll(async () => {
  await fleet.close();
  folder.remove();
});

const query = (sql: string, id: string = randomUUID(), millis = 60_000): Promise<QueryReply> => fleet.call('query', { id, sql, setup: [], allow: {}, limits: { rows: 100_000, resultBytes: 20e6, millis } });
const seven = async () => (await query('SELECT 7')).rows;
/** Neither hears an interrupt nor comes to an end. */
const DEAF = "SELECT levenshtein(repeat('a', 150000), repeat('b', 150000))";
const DEAF_WHEN_RUN = "SELECT levenshtein(repeat('a', 150000 + i::INTEGER), repeat('b', 150000)) FROM range(1) r(i)";

describe('a query that does not listen', () => {
  it('is cancelled all the same, and a neighbour is answered meanwhile', async () => {
    const id = randomUUID();
    const deaf = query(DEAF_WHEN_RUN, id).catch((error: unknown) => error);
    expect(await seven()).toEqual([[7]]);
    expect(await fleet.call('cancel', { id })).toBe(true);
    expect(await deaf).toMatchObject({ kind: 'cancelled', message: 'The query was cancelled.' });
    expect(await seven()).toEqual([[7]]);
    expect(await fleet.call('cancel', { id })).toBe(false);
  });

  it('is cancelled while it waits for a process, at once', async () => {
    const deaf = ['one', 'two'].map((id) => query(DEAF_WHEN_RUN, id).catch((error: unknown) => error));
    const waiting = query('SELECT 7', 'three').catch((error: unknown) => error);
    expect(await fleet.call('cancel', { id: 'three' })).toBe(true);
    expect(await waiting).toMatchObject({ kind: 'cancelled', message: 'The query was cancelled.' });
    await Promise.all(['one', 'two'].map((id) => fleet.call('cancel', { id })));
    await Promise.all(deaf);
    expect(await seven()).toEqual([[7]]);
    expect(await seven()).toEqual([[7]]);
  });

  it('is stopped at the time limit', async () => {
    await expect(query(DEAF_WHEN_RUN, randomUUID(), 500)).rejects.toMatchObject({ kind: 'limit', message: 'The query was stopped after 0.5 s, the time limit.' });
    expect(await seven()).toEqual([[7]]);
  });

  it('holds planning up for nobody', async () => {
    const deaf = fleet.call('plan', { sql: DEAF, tables: [] }).catch((error: unknown) => error);
    expect(await fleet.call('plan', { sql: 'SELECT 1 + 1', tables: [] })).toBeTruthy();
    expect(await deaf).toMatchObject({ kind: 'limit' });
    expect(await fleet.call('plan', { sql: 'SELECT 1 + 1', tables: [] })).toBeTruthy();
  });
});

describe('a query that takes too much', () => {
  it('of a result is refused while its rows are made: in all, and in one value', async () => {
    await expect(query("SELECT repeat('x', 1000000) FROM range(1000)")).rejects.toMatchObject({ kind: 'limit', message: expect.stringContaining('over 20 MB') });
    await expect(query("SELECT repeat('x', 40000000)")).rejects.toMatchObject({ kind: 'limit', message: expect.stringContaining('over 32 MB, the limit for one') });
    expect(await seven()).toEqual([[7]]);
  });

  it('of memory beside what the engine counts is ended, with its process', async () => {
    await expect(query("SELECT length(repeat(repeat('x', 1000000), 3000))")).rejects.toMatchObject({ kind: 'limit', message: expect.stringContaining('GB of memory') });
    expect(await seven()).toEqual([[7]]);
  });

  it('that brings its process down says that it can be tried again, and a neighbour goes on', async () => {
    const neighbour = query('SELECT count(*) FROM range(3000000000) r(i) WHERE i % 7 = 3', 'neighbour').then(({ rows }) => rows, (error: unknown) => error);
    // The engine (1.5.5) runs out of stack here.
    await expect(query("SELECT json_structure(repeat('[', 3000000) || repeat(']', 3000000))")).rejects.toMatchObject({ kind: 'unavailable', details: { hint: expect.stringContaining('once more') } });
    await fleet.call('cancel', { id: 'neighbour' });
    expect(await neighbour).toMatchObject({ kind: 'cancelled' });
    expect(await seven()).toEqual([[7]]);
  });
});

describe('rows that memory does not hold', () => {
  const WIDE = 'SELECT count(*) FROM (SELECT DISTINCT i, hash(i) AS h, i::VARCHAR || \'-a long text that takes room\' AS t FROM range(ROWS) r(i))';

  it('are laid on disk, in a folder that goes with them', async () => {
    expect((await query(WIDE.replace('ROWS', '2500000'))).rows).toEqual([[2_500_000]]);
    for (const each of readdirSync(path.join(folder.path, 'spill'))) expect(readdirSync(path.join(folder.path, 'spill', each))).toEqual([]);
  });

  it('are refused where they are more than the quota', async () => {
    await expect(query("SELECT count(*) FROM (SELECT DISTINCT uuid()::VARCHAR || uuid()::VARCHAR FROM range(20000000))")).rejects.toMatchObject({ kind: 'Out of Memory', message: expect.stringContaining('max_temp_directory_size') });
    expect(await seven()).toEqual([[7]]);
  });
});

it('an instance that is lent again holds nothing of the query before', async () => {
  const reply = async (sql: string, setup: string[] = []) => (await fleet.call('query', { id: randomUUID(), sql, setup, allow: {}, limits: { rows: 10, resultBytes: 1e6, millis: 10_000 } })).rows;
  for (let n = 0; n < 4; n++) {
    expect(await reply("SELECT getvariable('mine'), (SELECT count(*) FROM duckdb_tables()), (SELECT count(*) FROM duckdb_views() WHERE NOT internal), (SELECT count(*) FROM duckdb_prepared_statements())", [])).toEqual([[null, 0, 0, 0]]);
    expect(await reply('SELECT * FROM left_behind', ["SET VARIABLE mine = 'secret'", 'CREATE TEMP TABLE left_behind AS SELECT 1 AS a', 'PREPARE p AS SELECT 1', 'SELECT setseed(0.5)'])).toEqual([[1]]);
  }
  const random = async () => (await reply('SELECT random()'))[0]![0];
  expect(await random()).not.toBe(await random());
});
