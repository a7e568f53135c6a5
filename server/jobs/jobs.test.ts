import { beforeAll, describe, expect, it } from 'vitest';
import { pino } from 'pino';
import { LakeError } from '../../core/errors';
import { ReceiptBook } from '../catalog/receipt-book';
import type { Database } from '../catalog/database';
import { Events, type HarborEvent } from '../events';
import { testDatabase } from '../testing/database';
import { Jobs, type Job } from './jobs';

let database: Database;
beforeAll(async () => {
  database = await testDatabase();
});

function make() {
  const events = new Events();
  const told: HarborEvent[] = [];
  events.listen((event) => told.push(event));
  const errors: unknown[] = [];
  return { jobs: new Jobs(database, events, (error) => errors.push(error)), told, errors };
}
const stored = async (id: string) => (await database.query<Job>('SELECT state, message, done::int, result FROM job WHERE id = $1', [id]))[0];

describe('a job', () => {
  it('tells its progress and keeps its outcome', async () => {
    const { jobs, told } = make();
    const { job, finished } = await jobs.start('crawl', 'Crawl x', 'Ada', async (context) => {
      context.progress(3, 10, 'x/a');
      context.log('half way');
      return { files: 10 };
    });
    expect((await jobs.list(5)).find((each) => each.id === job.id)!.who).toBe('Ada');
    await finished;
    expect(await stored(job.id)).toMatchObject({ state: 'done', done: 3, result: { files: 10 } });
    expect(told.filter((event) => event.topic === 'job').map((event) => (event as { job: Job }).job.state)).toEqual(expect.arrayContaining(['running', 'done']));
  });

  it('keeps the reason of a failure, but nothing internal', async () => {
    const { jobs, errors } = make();
    const known = await (await jobs.start('crawl', 'a', 'Ada', async () => { throw new LakeError('bad-file', 'a.csv is cut short.'); })).finished;
    const unknown = await (await jobs.start('crawl', 'b', 'Ada', async () => { throw new Error('secret: /home/x'); })).finished;
    expect([known.state, known.message, unknown.message]).toEqual(['failed', 'a.csv is cut short.', 'An unexpected error; the server log has more.']);
    expect(errors.length).toBe(2);
  });

  it('stops when it is cancelled', async () => {
    const { jobs } = make();
    const { job, finished } = await jobs.start('crawl', 'c', 'Ada', async (context) => {
      for (;;) {
        await new Promise((resolve) => setImmediate(resolve));
        context.check();
      }
    });
    expect(jobs.cancel(job.id)).toBe(true);
    expect((await finished).state).toBe('cancelled');
    expect(jobs.cancel(job.id)).toBe(false);
  });

  it('that a stop cut off is said to be so at the next start', async () => {
    const { jobs } = make();
    const { job } = await jobs.start('crawl', 'd', 'Ada', () => new Promise(() => undefined));
    await make().jobs.markInterrupted();
    expect(await stored(job.id)).toMatchObject({ state: 'interrupted' });
  });
});

describe('the book of receipts', () => {
  const receipt = (n: number, more = {}) => ({ id: `00000000-0000-4000-8000-00000000000${n}`, who: 'Ada', kind: 'query' as const, outcome: 'done' as const, sql: `SELECT ${n}`, tables: [], written: null, rowCount: 1, planMs: 1, engineMs: 1, totalMs: 2, problem: null, ...more });

  it('shows every receipt that was put before it is asked, newest first', async () => {
    const events = new Events();
    const told: string[] = [];
    events.listen((event) => event.topic === 'receipt' && told.push(event.id));
    const book = new ReceiptBook(database, events, pino({ level: 'silent' }));
    for (const n of [1, 2, 3]) {
      book.put(receipt(n, n === 3 ? { kind: 'write' } : {}));
      await new Promise((resolve) => setTimeout(resolve, 2));
    }
    expect((await book.list(10)).map((each) => each.sql)).toEqual(['SELECT 3', 'SELECT 2', 'SELECT 1']);
    expect((await book.list(10, 'query')).length).toBe(2);
    expect((await book.find(receipt(2).id))!.sql).toBe('SELECT 2');
    expect(told.length).toBe(3);
  });

  it('goes on after one that cannot be stored', async () => {
    const book = new ReceiptBook(database, new Events(), pino({ level: 'silent' }));
    book.put(receipt(4, { id: 'not a uuid' }));
    book.put(receipt(5));
    expect((await book.list(1))[0]!.sql).toBe('SELECT 5');
  });
});
