/** Long work with progress, cancel and a durable record. */
import { randomUUID } from 'node:crypto';
import { LakeError } from '../../core/errors';
import type { Database } from '../catalog/database';
import type { Events } from '../events';

export interface Job {
  id: string;
  kind: string;
  title: string;
  state: 'running' | 'done' | 'failed' | 'cancelled' | 'interrupted';
  who: string;
  startedAt: string;
  finishedAt: string | null;
  done: number;
  total: number | null;
  message: string;
  log: { at: string; text: string }[];
  result: Record<string, unknown> | null;
}

export interface JobContext {
  id: string;
  signal: AbortSignal;
  progress(done: number, total: number | undefined, message?: string): void;
  log(text: string): void;
  /** Throws when somebody asked to stop. */
  check(): void;
}

const COLUMNS = `id, kind, title, state, who, started_at AS "startedAt", finished_at AS "finishedAt", done::float8 AS done, total::float8 AS total, message, log, result`;
/** Progress is told to pages at most this often. */
const TELL_EVERY_MS = 150;

export class Jobs {
  readonly #running = new Map<string, { job: Job; abort: AbortController }>();

  constructor(
    readonly database: Database,
    readonly events: Events,
    readonly onError: (error: unknown, job: Job) => void,
  ) {}

  /** Work that a stop or a crash cut off is said to be so. */
  async markInterrupted(): Promise<void> {
    await this.database.query("UPDATE job SET state = 'interrupted', finished_at = now(), message = 'The server stopped while this ran.' WHERE state = 'running'");
  }

  /** Starts the work and returns at once; `finished` settles with its outcome. */
  async start(kind: string, title: string, who: string, work: (context: JobContext) => Promise<Record<string, unknown>>): Promise<{ job: Job; finished: Promise<Job> }> {
    const job: Job = { id: randomUUID(), kind, title, state: 'running', who, startedAt: new Date().toISOString(), finishedAt: null, done: 0, total: null, message: '', log: [], result: null };
    await this.database.query("INSERT INTO job (id, kind, title, state, who, started_at) VALUES ($1, $2, $3, 'running', $4, $5)", [job.id, kind, title, who, job.startedAt]);
    const abort = new AbortController();
    this.#running.set(job.id, { job, abort });
    this.#tell(job);
    return { job, finished: this.#run(job, abort, work) };
  }

  cancel(id: string): boolean {
    const running = this.#running.get(id);
    running?.abort.abort();
    return running !== undefined;
  }

  cancelAll(): void {
    for (const { abort } of this.#running.values()) abort.abort();
  }

  /** Running ones first, with what they are doing this moment. */
  async list(limit: number): Promise<Job[]> {
    const stored = await this.database.query<Job>(`SELECT ${COLUMNS} FROM job ORDER BY started_at DESC LIMIT $1`, [limit]);
    return stored.map((job) => this.#running.get(job.id)?.job ?? job);
  }

  async find(id: string): Promise<Job | undefined> {
    const [stored] = await this.database.query<Job>(`SELECT ${COLUMNS} FROM job WHERE id = $1`, [id]);
    return this.#running.get(id)?.job ?? stored;
  }

  async #run(job: Job, abort: AbortController, work: (context: JobContext) => Promise<Record<string, unknown>>): Promise<Job> {
    let told = 0;
    const context: JobContext = {
      id: job.id,
      signal: abort.signal,
      progress: (done, total, message) => {
        Object.assign(job, { done, total: total ?? null, ...(message === undefined ? {} : { message }) });
        if (Date.now() - told < TELL_EVERY_MS) return;
        told = Date.now();
        this.#tell(job);
      },
      log: (text) => job.log.push({ at: new Date().toISOString(), text }),
      check: () => {
        if (abort.signal.aborted) throw new LakeError('cancelled', 'Stopped.');
      },
    };
    try {
      job.result = await work(context);
      job.state = 'done';
    } catch (error) {
      job.state = abort.signal.aborted ? 'cancelled' : 'failed';
      job.message = error instanceof LakeError ? error.message : abort.signal.aborted ? 'Stopped.' : 'An unexpected error; the server log has more.';
      context.log(job.message);
      if (!abort.signal.aborted) this.onError(error, job);
    }
    job.finishedAt = new Date().toISOString();
    this.#running.delete(job.id);
    await this.database.query(
      'UPDATE job SET state = $2, finished_at = $3, done = $4, total = $5, message = $6, log = $7, result = $8 WHERE id = $1',
      [job.id, job.state, job.finishedAt, job.done, job.total, job.message, JSON.stringify(job.log), job.result && JSON.stringify(job.result)],
    ).catch(() => undefined); // the catalog may be closing; `markInterrupted` says so at the next start
    this.#tell(job);
    return job;
  }

  #tell(job: Job): void {
    this.events.tell({ topic: 'job', job: { ...job, log: job.log.slice(-20) } });
  }
}
