/**
 * The engine processes that user SQL runs in. Each query, and each statement that makes rows, has a process to itself while
 * it runs: one that does not listen, or takes more memory than it may, is ended, and nobody else's work with it.
 */
import { mkdirSync, readFileSync } from 'node:fs';
import PQueue from 'p-queue';
import { LakeError } from '../../core/errors';
import { Engine, type EngineCalls, type EngineOptions } from './engine';
import { EngineError } from './failures';
import type { CallName, Calls, QueryReply, QueryRequest } from './messages';

export interface FleetOptions extends Pick<EngineOptions, 'threads' | 'scratch' | 'spillBytes' | 'onCrash'> {
  /** Of one query, in bytes. */
  memory: number;
  /** Queries, and statements that make rows, that run at a time; each has its own processes. */
  queries: number;
  changes: number;
  /** Trusted SQL that needs no process of its own. */
  run: EngineCalls['call'];
}

/** So long a process may take to hear that its work is to stop, before it is ended. */
const PATIENCE_MS = 250;
/** A plan that takes longer is done without. */
const PLAN_MS = 3000;
/** The text of a query is looked at for so long at most. */
const PARSE_MS = 5000;
const PLANNERS = 2;
const WATCH_MS = 100;
/** What a process may hold beside the engine's own memory: the program, rows on their way, and what functions take for a moment. */
const BESIDE_BYTES = 1e9;
/** An idle process that holds more is made anew. */
const FAT_BYTES = 7e8;
const PAGE_BYTES = 4096;

/** Processes of one kind, started as they are needed and kept. */
class Processes {
  readonly #idle: Engine[] = [];
  readonly #all = new Set<Engine>();
  readonly #waiting: ((engine: Engine) => void)[] = [];
  readonly #last = new Map<string, Engine>();

  constructor(
    readonly options: EngineOptions,
    readonly most: number,
  ) {}

  async start(): Promise<void> {
    const first = await this.take('');
    this.give(first);
  }

  /** One that worked for the same `key` last, where it is free. */
  async take(key: string): Promise<Engine> {
    const known = this.#idle.indexOf(this.#last.get(key)!);
    const found = known >= 0 ? this.#idle.splice(known, 1)[0] : this.#idle.pop();
    const engine = found ?? (this.#all.size < this.most ? this.#make() : await new Promise<Engine>((resolve) => this.#waiting.push(resolve)));
    if (this.#last.size > 1000) this.#last.clear();
    this.#last.set(key, engine);
    try {
      await engine.start();
      return engine;
    } catch (error) {
      // The next one to take it tries again.
      this.give(engine);
      throw error;
    }
  }

  /** What the work left in its process is not held against the next one. */
  give(engine: Engine): void {
    if (bytesHeldBy(engine) > FAT_BYTES) engine.end(new EngineError('unavailable', 'The process is made anew.'));
    const next = this.#waiting.shift();
    if (next) next(engine);
    else this.#idle.push(engine);
  }

  get pids(): number[] {
    return [...this.#all].flatMap(({ pid }) => (pid === undefined ? [] : [pid]));
  }

  async close(): Promise<void> {
    await Promise.all([...this.#all].map((each) => each.close()));
  }

  #make(): Engine {
    const made = new Engine(this.options);
    this.#all.add(made);
    return made;
  }
}

interface Running {
  /** None while it waits for a process. */
  engine?: Engine;
  /** Gives up waiting for one. */
  leave?: (why: LakeError) => void;
  what: string;
  /** Why it is to end, once that is decided. */
  ending?: LakeError;
  timer?: NodeJS.Timeout;
}

export class Fleet implements EngineCalls {
  readonly #queries: Processes;
  readonly #changes: Processes;
  readonly #planners: Processes;
  readonly #planning = new PQueue({ concurrency: PLANNERS });
  readonly #running = new Map<string, Running>();
  readonly #watch: NodeJS.Timeout;

  constructor(readonly options: FleetOptions) {
    const { memory, threads, scratch, spillBytes, onCrash } = options;
    if (scratch !== undefined) mkdirSync(scratch, { recursive: true });
    const each = { memory: `${Math.round(memory / 1e6)}MB`, threads, scratch, spillBytes, ...(onCrash ? { onCrash } : {}) };
    this.#queries = new Processes({ ...each, role: 'query' }, options.queries);
    this.#changes = new Processes({ ...each, role: 'query' }, options.changes);
    this.#planners = new Processes({ ...each, role: 'plan' }, PLANNERS);
    this.#watch = setInterval(() => this.#watchMemory(), WATCH_MS);
    this.#watch.unref();
  }

  async start(): Promise<void> {
    await Promise.all([this.#queries.start(), this.#planners.start()]);
  }

  async close(): Promise<void> {
    clearInterval(this.#watch);
    await Promise.all([this.#queries.close(), this.#changes.close(), this.#planners.close()]);
  }

  get pids(): number[] {
    return [...this.#planners.pids, ...this.#queries.pids, ...this.#changes.pids];
  }

  parse(sql: string): Promise<unknown> {
    return this.call('parse', { sql });
  }

  call<Name extends CallName>(call: Name, ask: Calls[Name]['ask']): Promise<Calls[Name]['answer']> {
    return this.#route(call, ask) as Promise<Calls[Name]['answer']>;
  }

  async #route(call: CallName, ask: unknown): Promise<unknown> {
    switch (call) {
      case 'parse':
        return this.#look('parse', ask as Calls['parse']['ask'], PARSE_MS);
      case 'plan':
        return this.#look('plan', ask as Calls['plan']['ask'], PLAN_MS);
      case 'query':
        return this.#query(ask as QueryRequest);
      case 'beginChange':
        return this.#begin(ask as Calls['beginChange']['ask']);
      case 'changeStep':
        return this.#step(ask as Calls['changeStep']['ask']);
      case 'progress':
        return this.#running.get((ask as { id: string }).id)?.engine?.call('progress', ask as { id: string }) ?? null;
      case 'endChange':
        return this.#end((ask as { id: string }).id);
      case 'cancel':
        return this.#cancel((ask as { id: string }).id);
      default:
        return this.options.run(call, ask as never);
    }
  }

  /** Text is looked at one at a time in each process, so whoever takes too long is the one whose process ends. */
  #look<Name extends 'parse' | 'plan'>(call: Name, ask: Calls[Name]['ask'], millis: number): Promise<Calls[Name]['answer']> {
    return this.#planning.add(async () => {
      const engine = await this.#planners.take('');
      const timer = setTimeout(() => engine.end(new EngineError('limit', `${call === 'plan' ? 'Planning' : 'Reading'} the statement was stopped after ${millis / 1000} s.`)), millis);
      try {
        return await engine.call(call, ask);
      } finally {
        clearTimeout(timer);
        this.#planners.give(engine);
      }
    });
  }

  /** Known under its id from the first moment, so that a cancel reaches it while it waits for its process too. */
  async #startIn(processes: Processes, { id, sql }: { id: string; sql: string }, what: string): Promise<{ engine: Engine; running: Running }> {
    const running: Running = { what };
    this.#running.set(id, running);
    const taken = processes.take(sql);
    try {
      const engine = await Promise.race([taken, new Promise<never>((_, reject) => (running.leave = reject))]);
      if (running.ending) throw running.ending;
      return { engine, running: Object.assign(running, { engine }) };
    } catch (error) {
      this.#running.delete(id);
      void taken.then((engine) => processes.give(engine), () => undefined);
      throw error;
    }
  }

  async #query(request: QueryRequest): Promise<QueryReply> {
    const { engine, running } = await this.#startIn(this.#queries, request, 'The query');
    // The process stops it by itself; this is for one that cannot.
    running.timer = setTimeout(() => this.#stop(running, 'limit', `The query was stopped after ${request.limits.millis / 1000} s, the time limit.`), request.limits.millis + PATIENCE_MS);
    try {
      return await engine.call('query', request);
    } catch (error) {
      throw running.ending ?? error;
    } finally {
      clearTimeout(running.timer);
      this.#running.delete(request.id);
      this.#queries.give(engine);
    }
  }

  async #begin(ask: Calls['beginChange']['ask']): Promise<boolean> {
    const { engine, running } = await this.#startIn(this.#changes, ask, 'The statement');
    running.timer = setTimeout(() => this.#stop(running, 'limit', 'The statement was stopped at the time limit. Nothing was changed.'), ask.millis + PATIENCE_MS);
    return engine.call('beginChange', ask).catch((error: unknown) => {
      throw running.ending ?? error;
    });
  }

  async #step(ask: Calls['changeStep']['ask']): Promise<Calls['changeStep']['answer']> {
    const running = this.#running.get(ask.id);
    if (!running) throw new EngineError('cancelled', 'The statement was cancelled.');
    if (running.ending) throw running.ending;
    return running.engine!.call('changeStep', ask).catch((error: unknown) => {
      throw running.ending ?? error;
    });
  }

  async #end(id: string): Promise<boolean> {
    const running = this.#running.get(id);
    if (!running) return false;
    clearTimeout(running.timer);
    this.#running.delete(id);
    try {
      return running.ending ? true : await running.engine!.call('endChange', { id });
    } catch {
      // Its process ended, and the session with it.
      return true;
    } finally {
      this.#changes.give(running.engine!);
    }
  }

  async #cancel(id: string): Promise<boolean> {
    const running = this.#running.get(id);
    if (!running) return false;
    const message = `${running.what} was cancelled.${running.what === 'The query' ? '' : ' Nothing was changed.'}`;
    if (!running.engine) {
      running.leave!((running.ending = new LakeError('cancelled', message)));
      return true;
    }
    const isHeard = running.engine.call('cancel', { id }).then(() => undefined, () => undefined);
    setTimeout(() => {
      if (this.#running.get(id) === running) this.#stop(running, 'cancelled', message);
    }, PATIENCE_MS).unref();
    await Promise.race([isHeard, new Promise((resolve) => setTimeout(resolve, PATIENCE_MS))]);
    return true;
  }

  #stop(running: Running, kind: 'limit' | 'cancelled', message: string): void {
    running.ending ??= new LakeError(kind, message);
    running.engine?.end(running.ending);
  }

  /** The engine holds itself to its limit; some functions do not ask it for what they take. */
  #watchMemory(): void {
    for (const running of this.#running.values()) {
      const bytes = running.engine ? bytesHeldBy(running.engine) : 0;
      if (bytes > this.options.memory + BESIDE_BYTES) this.#stop(running, 'limit', `${running.what} was stopped: it took ${(bytes / 1e9).toFixed(1)} GB of memory, where ${((this.options.memory + BESIDE_BYTES) / 1e9).toFixed(1)} GB is the limit. Ask for fewer or smaller values.`);
    }
  }
}

/** So long a look into files may take, and a copy of one. */
const LOOK_MS = 120_000;
const CONVERT_MS = 600_000;
const LOOKS = 2;

/**
 * Engine processes for looking into files that people bring, apart from all that writes: each call has one to itself, which
 * is ended when the file at hand holds it up, takes too much memory, or brings it down.
 */
export class Lookers implements EngineCalls {
  readonly #processes: Processes;
  readonly #calls = new PQueue({ concurrency: LOOKS });

  constructor(readonly options: Pick<FleetOptions, 'memory' | 'threads' | 'onCrash'>) {
    const { memory, threads, onCrash } = options;
    this.#processes = new Processes({ role: 'work', memory: `${Math.round(memory / 1e6)}MB`, threads, ...(onCrash ? { onCrash } : {}) }, LOOKS);
  }

  parse(sql: string): Promise<unknown> {
    return this.call('parse', { sql });
  }

  /** One of its processes, so that the first look need not wait for it. */
  start(): Promise<void> {
    return this.#processes.start();
  }

  close(): Promise<void> {
    return this.#processes.close();
  }

  call<Name extends CallName>(call: Name, ask: Calls[Name]['ask']): Promise<Calls[Name]['answer']> {
    return this.#calls.add(async () => {
      const engine = await this.#processes.take('');
      const millis = ['convert', 'unpack', 'container'].includes(call) ? CONVERT_MS : LOOK_MS;
      const timer = setTimeout(() => engine.end(new EngineError('limit', `Looking into it was stopped after ${millis / 1000} s.`)), millis);
      const watch = setInterval(() => {
        if (bytesHeldBy(engine) > this.options.memory + BESIDE_BYTES) engine.end(new EngineError('limit', 'Looking into it was stopped, since it takes more memory than it may.'));
      }, WATCH_MS);
      try {
        return await engine.call(call, ask);
      } catch (error) {
        if (error instanceof LakeError && error.kind === 'unavailable') throw new EngineError('Invalid Input', 'Reading it brought the reader down, most likely since its values are nested too deep. Take it out of the folder, or have it written otherwise.');
        throw error;
      } finally {
        clearTimeout(timer);
        clearInterval(watch);
        this.#processes.give(engine);
      }
    });
  }
}

/** Of memory, the program itself with it; 0 where the system does not tell. */
function bytesHeldBy({ pid }: Engine): number {
  if (pid === undefined) return 0;
  try {
    return Number(readFileSync(`/proc/${pid}/statm`, 'utf8').split(' ')[1]) * PAGE_BYTES;
  } catch {
    return 0;
  }
}
