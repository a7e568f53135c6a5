/** The API's handle on an engine process: calls with answers, restart after a crash. */
import { fork, type ChildProcess } from 'node:child_process';
import path from 'node:path';
import { LakeError } from '../../core/errors';
import type { SqlTree } from '../../core/sql/statement';
import { childEnvironment, programFile } from '../program-files';
import { EngineError } from './failures';
import type { Answer, CallName, Calls, EngineFailure } from './messages';

interface Waiting {
  resolve: (answer: unknown) => void;
  reject: (error: Error) => void;
}

export interface EngineOptions {
  /** `query` runs user SQL sealed, `plan` reads and plans it, `work` runs our own SQL. */
  role: 'query' | 'plan' | 'work';
  /** As the engine reads it, for example `2GB`; for one query. */
  memory: string;
  threads: number;
  /** Where queries lay what their memory does not hold, and how much of it. */
  scratch?: string;
  spillBytes?: number;
  onCrash?: (message: string) => void;
}

/** What users of an engine need of it; a process, or in tests an instance beside the test. */
export interface EngineCalls extends SqlTree {
  call<Name extends CallName>(call: Name, ask: Calls[Name]['ask']): Promise<Calls[Name]['answer']>;
}

export class Engine implements EngineCalls {
  #child: ChildProcess | undefined;
  #ready: Promise<void> | undefined;
  #closed = false;
  #nextId = 1;
  readonly #waiting = new Map<number, Waiting>();

  constructor(readonly options: EngineOptions) {}

  /** Starts the process; also done by the first call. */
  start(): Promise<void> {
    this.#ready ??= this.#spawn();
    return this.#ready;
  }

  async call<Name extends CallName>(call: Name, ask: Calls[Name]['ask']): Promise<Calls[Name]['answer']> {
    if (this.#closed) throw new LakeError('unavailable', 'The server is stopping, so there is no answer.');
    await this.start();
    const id = this.#nextId++;
    return new Promise((resolve, reject) => {
      this.#waiting.set(id, { resolve: resolve as (answer: unknown) => void, reject });
      this.#child!.send({ id, call, ask }, (error) => {
        if (error && this.#waiting.delete(id)) reject(new LakeError('unavailable', 'The engine is being restarted. Try again in a moment.'));
      });
    });
  }

  parse(sql: string): Promise<unknown> {
    return this.call('parse', { sql });
  }

  get pid(): number | undefined {
    return this.#child?.pid;
  }

  /** Ends the process at once; whoever waits for it is told so. The next call starts another. */
  end(why: Error): void {
    const child = this.#child;
    if (!child) return;
    this.#child = undefined;
    this.#ready = undefined;
    this.#rejectAll(why);
    child.kill('SIGKILL');
    if (!this.#closed) void this.start().catch(() => undefined);
  }

  #rejectAll(why: Error): void {
    const lost = [...this.#waiting.values()];
    this.#waiting.clear();
    for (const each of lost) each.reject(why);
  }

  async close(): Promise<void> {
    this.#closed = true;
    this.#rejectAll(new LakeError('unavailable', 'The server is stopping, so there is no answer.'));
    const child = this.#child;
    if (!child || child.exitCode !== null) return;
    await new Promise<void>((resolve) => {
      child.once('exit', () => resolve());
      if (child.connected) child.disconnect();
      setTimeout(() => child.kill('SIGKILL'), 2000).unref();
    });
  }

  #spawn(): Promise<void> {
    const child = fork(path.join(programFile('server'), 'engine-process.js'), [this.options.role], {
      env: childEnvironment({ ENGINE_MEMORY: this.options.memory, ENGINE_THREADS: String(this.options.threads), ...(this.options.scratch === undefined ? {} : { ENGINE_SCRATCH: this.options.scratch, ENGINE_SPILL: String(this.options.spillBytes ?? 0) }) }),
      stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
      // Plans hold integers beyond 2^53, which JSON messages cannot carry.
      serialization: 'advanced',
    });
    this.#child = child;
    return new Promise((resolve, reject) => {
      this.#waiting.set(0, { resolve: () => resolve(), reject });
      child.on('message', (message: Answer) => this.#onAnswer(message));
      child.on('exit', (code, signal) => {
        if (this.#child === child) this.#onExit(code, signal);
      });
    });
  }

  #onAnswer(message: Answer): void {
    const waiting = this.#waiting.get(message.id);
    this.#waiting.delete(message.id);
    if ('failure' in message) waiting?.reject(asError(message.failure));
    else waiting?.resolve(message.answer);
  }

  /** Whoever waited is told; the next call starts a new process. */
  #onExit(code: number | null, signal: string | null): void {
    this.#ready = undefined;
    this.#child = undefined;
    if (this.#closed) return;
    this.options.onCrash?.(`The ${this.options.role} engine ended (${signal ?? `code ${code}`}) and is started again.`);
    this.#rejectAll(new LakeError('unavailable', 'The engine process ended while it worked on this, so there is no answer. It has been started again, and other work goes on.', { hint: 'Try it once more. If it ends again, what it asks for is more than the engine can do: ask for fewer rows or columns, or for smaller values.' }));
    void this.start().catch(() => undefined);
  }
}

function asError(failure: EngineFailure): Error {
  return new EngineError(failure.kind, failure.message, failure.position);
}
