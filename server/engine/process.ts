/**
 * An engine process. `query` runs user SQL sealed, one statement at a time; `plan` reads and plans it; `work` runs our own
 * SQL: looking into files, writing tables. They are apart so that one that brings its process down takes no other work with it.
 */
import { ChangeSessions } from './change-sessions';
import { toFailure } from './failures';
import { handlersOf } from './handlers';
import { InstancePool, makeInstance } from './instances';
import type { Ask, Answer } from './messages';
import { Planner } from './planner';
import { RunningQueries } from './run-query';

/** Reading and planning take little; a text that asks for more is done without a plan. */
const PLANNER_MEMORY = '256MB';

// Ctrl-C goes to the whole group of processes; the parent ends us when it is done.
process.on('SIGINT', () => undefined);
process.on('disconnect', () => process.exit(0));

const memory = process.env.ENGINE_MEMORY ?? '1GB';
const threads = Number(process.env.ENGINE_THREADS ?? 2);
const role = process.argv[2];

const own = role === 'work' ? await makeInstance({ memory, threads }) : undefined;
const planner = role === 'query' ? undefined : new Planner((await makeInstance({ memory: PLANNER_MEMORY, threads: 1 })).connection);
await planner?.start();
const { ENGINE_SCRATCH: scratch, ENGINE_SPILL: spillBytes } = process.env;
const pool = role === 'query' ? new InstancePool({ memory, threads, ...(scratch === undefined ? {} : { spill: { folder: scratch, bytes: Number(spillBytes) } }) }, 1) : undefined;

const handlers = handlersOf(own, planner, pool && { queries: new RunningQueries(pool), changes: new ChangeSessions(pool) });

process.on('message', (message: Ask) => {
  const handler = handlers[message.call] as (ask: unknown) => Promise<unknown>;
  Promise.resolve()
    .then(() => handler(message.ask))
    .then(
      (answer) => send({ id: message.id, answer }),
      (error: unknown) => send({ id: message.id, failure: toFailure(error) }),
    );
});
send({ id: 0, answer: 'ready' });

function send(answer: Answer): void {
  // The parent may have gone meanwhile; then nobody waits for the answer.
  if (process.connected) process.send?.(answer, undefined, {}, () => undefined);
}
