/**
 * An engine process. `query` runs user SQL sealed and plans it; `work` runs our own SQL: looking into files, writing
 * tables. They are apart so that a query that brings its process down takes no other work with it.
 */
import { toFailure } from './failures';
import { InstancePool, makeInstance } from './instances';
import type { Ask, Answer, CallName, Calls } from './messages';
import { Planner } from './planner';
import { RunningQueries } from './run-query';
import { chunkRows, converter } from './values';

// Ctrl-C goes to the whole group of processes; the parent ends us when it is done.
process.on('SIGINT', () => undefined);
process.on('disconnect', () => process.exit(0));

const memory = process.env.ENGINE_MEMORY ?? '1GB';
const threads = Number(process.env.ENGINE_THREADS ?? 2);
const isForQueries = process.argv[2] === 'query';

const own = await makeInstance({ memory: isForQueries ? '256MB' : memory, threads });
const planner = new Planner((await makeInstance({ memory: '128MB', threads: 1 })).connection);
await planner.start();
const queries = isForQueries ? new RunningQueries(new InstancePool({ memory, threads })) : undefined;

const handlers: { [Name in CallName]: (ask: Calls[Name]['ask']) => Promise<unknown> } = {
  parse: ({ sql }) => planner.parse(sql),
  plan: ({ sql, tables }) => planner.plan(sql, tables),
  query: (request) => {
    if (!queries) throw new Error('This process runs no user queries.');
    return queries.run(request);
  },
  cancel: async ({ id }) => queries?.cancel(id) ?? false,
  run: async ({ sql }) => {
    const connection = await own.instance.connect();
    try {
      await connection.run("SET TimeZone = 'UTC'");
      const result = await connection.run(sql);
      const converters = result.columnTypes().map(converter);
      const chunks = await result.fetchAllChunks();
      return { columns: result.columnNames(), rows: chunks.flatMap((chunk) => chunkRows(chunk, converters)) };
    } finally {
      connection.closeSync();
    }
  },
};

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
  process.send?.(answer);
}
