/** Many people at once, and what long work of some does to short work of others. */
import { millis, type Claim } from './lib/measure';
import type { Running } from './lib/server';

const PEOPLE = 50;
const SECONDS = 20;
const TABLES = 5;

interface Load {
  eventLoop: { longestMs: number };
}

export async function benchPeople(server: Running): Promise<Claim[]> {
  const ask = (sql: string) => server.post<{ rows: unknown[][] }>('/query', { sql, maxRows: 100 });
  const { rows: tables } = await ask('SHOW TABLES');
  const some: string[] = [];
  for (const [namespace, name] of tables as [string, string][]) {
    if (some.length >= TABLES) break;
    const answered = await ask(`SELECT count(*) FROM "${namespace}"."${name}"`).catch(() => undefined);
    if (answered && Number(answered.rows[0]![0]) < 200_000) some.push(`"${namespace}"."${name}"`);
  }
  await server.get<Load>('/load?beginAnew=true');
  const times: number[] = [];
  let failed = 0;
  const until = performance.now() + SECONDS * 1000;
  await Promise.all(Array.from({ length: PEOPLE }, async (_, person) => {
    for (let n = 0; performance.now() < until; n++) {
      const started = performance.now();
      await ask(`SELECT count(*), ${person} AS person, ${n % 20} AS n FROM ${some[(person + n) % some.length]}`).then(() => times.push(performance.now() - started), () => failed++);
    }
  }));
  const { eventLoop } = await server.get<Load>('/load?beginAnew=true');
  times.sort((a, b) => a - b);
  const p95 = times[Math.floor(times.length * 0.95)]!;
  const rate = times.length / SECONDS;
  const claims: Claim[] = [
    { what: `${PEOPLE} people asking small queries at once, p95`, limit: 'at most 1 s', measured: `${millis(p95)}, median ${millis(times[Math.floor(times.length / 2)]!)}, ${failed} failed`, reference: 'fixed', holds: p95 <= 1000 && failed === 0 },
    { what: 'The same: queries a second', limit: '200 or more', measured: rate.toFixed(0), reference: 'fixed', holds: rate >= 200 },
    { what: 'The same: longest stop of the event loop', limit: '50 ms', measured: millis(eventLoop.longestMs), reference: 'fixed', holds: eventLoop.longestMs <= 50 },
  ];
  const long = ['INSERT INTO people_long.t SELECT i FROM range(200000000) r(i)', 'SELECT count(DISTINCT i) FROM range(400000000) r(i)', 'SELECT count(DISTINCT i + 1) FROM range(400000000) r(i)', 'INSERT INTO people_long.t SELECT i + 1 FROM range(200000000) r(i)'];
  await ask('CREATE NAMESPACE IF NOT EXISTS people_long');
  await ask('CREATE TABLE IF NOT EXISTS people_long.t (i BIGINT)');
  const ids = long.map((_, index) => `00000000-0000-4000-8000-${String(Date.now() % 1e9).padStart(11, '0')}${index}`);
  const going = long.map((sql, index) => server.post('/query', { sql, maxRows: 1, id: ids[index] }).catch(() => undefined));
  await new Promise((resolve) => setTimeout(resolve, 1000));
  const waits: number[] = [];
  for (let n = 0; n < 20; n++) {
    const started = performance.now();
    await ask(`SELECT ${n}`);
    waits.push(performance.now() - started);
  }
  const worst = Math.max(...waits);
  claims.push({ what: '`SELECT 1` beside two long inserts and two long queries, the slowest of 20', limit: 'at most 2 s', measured: millis(worst), reference: 'fixed', holds: worst <= 2000 });
  let slowest = 0;
  for (const id of ids) {
    const started = performance.now();
    await server.post(`/query/${id}/cancel`, {});
    slowest = Math.max(slowest, performance.now() - started);
  }
  await Promise.all(going);
  claims.push({ what: 'Cancelling each of them, the slowest answer', limit: 'at most 300 ms', measured: millis(slowest), reference: 'fixed', holds: slowest <= 300 });
  return claims;
}
