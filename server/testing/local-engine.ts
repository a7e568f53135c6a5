/** An engine inside the test's own process, for tests of what stands on one. */
import { ChangeSessions } from '../engine/change-sessions';
import { toFailure, EngineError } from '../engine/failures';
import { handlersOf, type Handlers } from '../engine/handlers';
import type { EngineCalls } from '../engine/engine';
import type { CallName, Calls } from '../engine/messages';
import { Planner } from '../engine/planner';
import { InstancePool, makeInstance, type Sealed } from '../engine/instances';
import { RunningQueries } from '../engine/run-query';

const MEMORY = '300MB';

export class LocalEngine implements EngineCalls {
  private constructor(readonly handlers: Handlers) {}

  static async start(memory = MEMORY): Promise<LocalEngine> {
    const own: Sealed = await makeInstance({ memory: '1GB', threads: 2 });
    const planner = new Planner((await makeInstance({ memory: '128MB', threads: 1 })).connection);
    await planner.start();
    const pool = new InstancePool({ memory, threads: 2 }, 1);
    return new LocalEngine(handlersOf(own, planner, { queries: new RunningQueries(pool), changes: new ChangeSessions(pool) }));
  }

  async call<Name extends CallName>(call: Name, ask: Calls[Name]['ask']): Promise<Calls[Name]['answer']> {
    try {
      return (await (this.handlers[call] as (ask: unknown) => Promise<unknown>)(ask)) as Calls[Name]['answer'];
    } catch (error) {
      const { kind, message, position } = toFailure(error);
      throw new EngineError(kind, message, position);
    }
  }

  parse(sql: string): Promise<unknown> {
    return this.call('parse', { sql });
  }
}
