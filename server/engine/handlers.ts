/** What an engine does for each call. */
import type { Sealed } from './instances';
import type { CallName, Calls } from './messages';
import type { Planner } from './planner';
import type { RunningQueries } from './run-query';
import { chunkRows, converter } from './values';

export type Handlers = { [Name in CallName]: (ask: Calls[Name]['ask']) => Promise<unknown> };

/** `own` runs trusted SQL; `queries` is absent in a process that runs no user SQL. */
export function handlersOf(own: Sealed, planner: Planner, queries: RunningQueries | undefined): Handlers {
  return {
    parse: ({ sql }) => planner.parse(sql),
    plan: ({ sql, tables }) => planner.plan(sql, tables),
    query: async (request) => {
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
}
