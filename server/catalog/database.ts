/** The API's handle on the catalog database: plain SQL with parameters, transactions one at a time. */
import { fork, type ChildProcess } from 'node:child_process';
import { existsSync, readdirSync, readFileSync, renameSync, rmSync } from 'node:fs';
import path from 'node:path';
import { LakeError } from '../../core/errors';
import { ConfigError } from '../config';
import { childEnvironment, programFile } from '../program-files';
import type { CatalogAnswer, CatalogAsk } from './messages';

export type Row = Record<string, unknown>;

export interface Sql {
  /** Rows as objects; times arrive as ISO text, bigint columns as numbers, jsonb parsed. */
  query<T = Row>(sql: string, params?: unknown[]): Promise<T[]>;
  /** Says that the catalog was changed: listeners are told when the change stands, and only then. */
  noteChange?(): void;
}

/** Very many rows, which come as one text in a part of the time that they take one by one. Times arrive as the database writes them. */
export async function manyRows<T>(sql: Sql, query: string, params: unknown[]): Promise<T[]> {
  const [found] = await sql.query<{ rows: string }>(`SELECT coalesce(json_agg(t), '[]')::text AS rows FROM (${query}) t`, params);
  return JSON.parse(found!.rows) as T[];
}

export class DatabaseError extends Error {
  constructor(
    message: string,
    readonly code?: string,
  ) {
    super(message);
  }
}

/** PostgreSQL's code for a broken unique constraint. */
export const UNIQUE_VIOLATION = '23505';
/** And for something that is still referred to. */
export const FOREIGN_KEY_VIOLATION = '23503';

/** All of `work` happens or none; `onChange` is told once it stands, if it noted a change. */
export async function inTransaction<T>(query: Sql['query'], onChange: () => void, work: (sql: Sql) => Promise<T>): Promise<T> {
  let isChanged = false;
  const noteChange = () => {
    isChanged = true;
  };
  await query('BEGIN');
  let result: T;
  try {
    result = await work({ query, noteChange });
    await query('COMMIT');
  } catch (error) {
    // A process that ended has nothing to take back.
    await query('ROLLBACK').catch(() => undefined);
    throw error;
  }
  if (isChanged) onChange();
  return result;
}

/** A process that ends more often than this, in so long, is not started again. */
const RESTARTS = 3;
const RESTARTS_WITHIN_MS = 60_000;

const ended = () => new LakeError('unavailable', 'The process of the catalog ended while it worked on this. It is being started again; try again in a moment.');

export class Database implements Sql {
  #child: ChildProcess | undefined;
  #nextId = 1;
  #closed = false;
  /** Told of every committed change of the catalog, whoever made it and whatever failed after it. */
  onChange: () => void = () => undefined;
  readonly #waiting = new Map<number, { resolve: (answer: CatalogAnswer) => void; reject: (error: Error) => void }>();
  #turn: Promise<unknown> = Promise.resolve();
  /** When its process ended by itself, in milliseconds since the epoch. */
  readonly #ends: number[] = [];
  #starting: Promise<void> | undefined;
  /** The process ends too often to go on. */
  onLost: () => void = () => undefined;

  private constructor(readonly folder: string) {}

  /** False while the process is started again. */
  get isUp(): boolean {
    return this.#child !== undefined && this.#starting === undefined;
  }

  /** Opens the database in the data folder, making it first when it is new. `onStop` is told how to close it. */
  static async open(home: string, say: (line: string) => void, onStop: (stop: () => Promise<void>) => void): Promise<Database> {
    const folder = path.join(home, 'catalog');
    if (!existsSync(folder)) {
      say('Making the catalog database …');
      const making = `${folder}.making`;
      rmSync(making, { recursive: true, force: true });
      await new Promise<void>((resolve, reject) => {
        const child = fork(path.join(programFile('server'), 'catalog-process.js'), ['create', making], { env: childEnvironment({}) });
        child.on('exit', (code) => (code === 0 ? resolve() : reject(new ConfigError(`The catalog database could not be made in ${folder}.`))));
      });
      renameSync(making, folder);
    }
    // Without this file the database would be made anew in the folder, and what it knew would be gone without a word.
    if (!existsSync(path.join(folder, 'PG_VERSION'))) throw damaged(folder);
    const database = new Database(folder);
    onStop(() => database.close());
    await database.#start();
    await database.#migrate();
    return database;
  }

  get pid(): number | undefined {
    return this.#child?.pid;
  }

  async query<T = Row>(sql: string, params: unknown[] = []): Promise<T[]> {
    return this.#inTurn(() => this.#send<T>(sql, params));
  }

  noteChange(): void {
    this.onChange();
  }

  /** Runs `work` with nothing in between; all of it happens or none. */
  async transaction<T>(work: (sql: Sql) => Promise<T>): Promise<T> {
    return this.#inTurn(() => inTransaction((sql, params = []) => this.#send(sql, params), () => this.onChange(), work));
  }

  async close(): Promise<void> {
    const child = this.#child;
    this.#closed = true;
    if (!child || child.exitCode !== null || child.signalCode !== null) return;
    await new Promise<void>((resolve) => {
      child.once('exit', () => resolve());
      if (child.connected) child.disconnect();
      setTimeout(() => child.kill('SIGKILL'), 5000).unref();
    });
  }

  #inTurn<T>(work: () => Promise<T>): Promise<T> {
    const next = this.#turn.then(work, work);
    this.#turn = next.catch(() => undefined);
    return next;
  }

  async #send<T>(sql: string, params: unknown[]): Promise<T[]> {
    const answer = await this.#ask({ id: this.#nextId++, sql, params: params.map(plainParameter) });
    return 'rows' in answer ? (answer.rows as T[]) : [];
  }

  async #ask(ask: CatalogAsk): Promise<CatalogAnswer> {
    if (this.#starting) await this.#starting;
    if (this.#closed) throw new LakeError('unavailable', 'The server is stopping.');
    if (!this.#child?.connected) throw ended();
    const answer = await new Promise<CatalogAnswer>((resolve, reject) => {
      this.#waiting.set(ask.id, { resolve, reject });
      this.#child!.send(ask, (error) => {
        if (error && this.#waiting.delete(ask.id)) reject(ended());
      });
    });
    if ('failure' in answer) throw new DatabaseError(answer.failure.message, answer.failure.code);
    return answer;
  }

  #start(): Promise<void> {
    const child = fork(path.join(programFile('server'), 'catalog-process.js'), ['serve', this.folder], { env: childEnvironment({}), stdio: ['ignore', 'ignore', 'ignore', 'ipc'] });
    this.#child = child;
    return new Promise((resolve, reject) => {
      const fail = () => reject(damaged(this.folder));
      let isReady = false;
      child.on('message', (answer: CatalogAnswer) => {
        if (answer.id === 0) {
          if ('failure' in answer) return fail();
          isReady = true;
          return resolve();
        }
        this.#waiting.get(answer.id)?.resolve(answer);
        this.#waiting.delete(answer.id);
      });
      child.on('exit', (_code, signal) => {
        if (this.#closed) reject(new ConfigError('The start was ended before the catalog was open. Nothing is wrong with it.'));
        else if (signal) reject(new ConfigError(`The process of the catalog was ended (${signal}) before it was open. Nothing is wrong with the catalog; start again.`));
        else fail();
        for (const each of this.#waiting.values()) each.reject(this.#closed ? new LakeError('unavailable', 'The server is stopping.') : ended());
        this.#waiting.clear();
        if (!this.#closed && isReady) this.#startAgain();
      });
    });
  }

  /** What it had answered stands in its files; what it was at is told to whoever asked. */
  #startAgain(): void {
    const now = Date.now();
    this.#ends.push(now);
    if (this.#ends.filter((at) => now - at < RESTARTS_WITHIN_MS).length > RESTARTS) return this.onLost();
    this.#starting = this.#start();
    this.#starting.then(() => {
      this.#starting = undefined;
    }, () => {
      if (!this.#closed) this.onLost();
    });
  }

  async #migrate(): Promise<void> {
    await this.query('CREATE TABLE IF NOT EXISTS migration (name text PRIMARY KEY, at timestamptz NOT NULL DEFAULT now())');
    const done = new Set((await this.query<{ name: string }>('SELECT name FROM migration')).map(({ name }) => name));
    const folder = path.join(programFile('server'), 'migrations');
    for (const name of readdirSync(folder).sort()) {
      if (done.has(name)) continue;
      const script = readFileSync(path.join(folder, name), 'utf8');
      await this.#ask({ id: this.#nextId++, script: `BEGIN; ${script}; INSERT INTO migration (name) VALUES ('${name.replaceAll("'", "''")}'); COMMIT;` });
    }
  }
}

function damaged(folder: string): ConfigError {
  return new ConfigError(`The catalog in ${folder} cannot be opened: its files are damaged. Put back a copy of the data folder, or move it away to start anew; the lake's tables can be crawled again.`);
}

/** Over the process border dates go as ISO text. */
function plainParameter(value: unknown): unknown {
  return value instanceof Date ? value.toISOString() : value;
}
