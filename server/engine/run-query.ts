/** Runs one user query in a sealed instance, under limits. */
import { open, type FileHandle } from 'node:fs/promises';
import type { DuckDBConnection } from '@duckdb/node-api';
import { EngineError } from './failures';
import { LentInstances, type InstancePool } from './instances';
import { optimizerSettings } from './optimizer-faults';
import { PAGE_ROWS, type QueryReply, type QueryRequest, type ResultColumn } from './messages';
import { chunkRows, converter, ResultBudget, shownType } from './values';

interface Running {
  connection?: DuckDBConnection;
  stop?: 'cancelled' | 'time';
  interrupting?: NodeJS.Timeout;
}

/** An interrupt that comes just before the engine begins is lost, so it is said again until the query has ended. */
export const INTERRUPT_EVERY_MS = 50;

export class RunningQueries {
  readonly #running = new Map<string, Running>();

  readonly #lent: LentInstances;

  constructor(pool: InstancePool) {
    this.#lent = new LentInstances(pool);
  }

  cancel(id: string): boolean {
    return this.#interrupt(id, 'cancelled');
  }

  async run(request: QueryRequest): Promise<QueryReply> {
    const state: Running = {};
    this.#running.set(request.id, state);
    const timer = setTimeout(() => this.#interrupt(request.id, 'time'), request.limits.millis);
    let lent: Awaited<ReturnType<LentInstances['take']>> | undefined;
    let isGood = false;
    try {
      const started = performance.now();
      lent = await this.#lent.take(optimizerSettings(request.sql), request.allow);
      state.connection = lent.session;
      // In one call: each costs about a millisecond of its own.
      if (request.setup.length > 0) await lent.session.run(request.setup.join('; '));
      if (state.stop) throw new Error('INTERRUPT');
      const reply = await collect(lent.session, request);
      isGood = true;
      return { ...reply, millis: performance.now() - started };
    } catch (error) {
      if (state.stop === 'time') throw new EngineError('limit', `The query was stopped after ${request.limits.millis / 1000} s, the time limit.`);
      if (state.stop === 'cancelled') throw new EngineError('cancelled', 'The query was cancelled.');
      throw error;
    } finally {
      clearTimeout(timer);
      clearInterval(state.interrupting);
      this.#running.delete(request.id);
      if (lent) this.#lent.giveBack(lent, isGood && state.stop === undefined);
    }
  }

  #interrupt(id: string, why: 'cancelled' | 'time'): boolean {
    const state = this.#running.get(id);
    if (!state) return false;
    state.stop ??= why;
    state.connection?.interrupt();
    state.interrupting ??= setInterval(() => state.connection?.interrupt(), INTERRUPT_EVERY_MS);
    return true;
  }
}

async function collect(connection: DuckDBConnection, request: QueryRequest): Promise<Omit<QueryReply, 'millis'>> {
  const result = await connection.stream(request.sql);
  const types = result.columnTypes();
  const columns: ResultColumn[] = result.columnNames().map((name, index) => ({ name, type: shownType(types[index]!) }));
  const converters = types.map(converter);
  const sink = request.keepIn ? await PageFile.create(request.keepIn) : undefined;
  const { limits } = request;
  const first: unknown[][] = [];
  let rowCount = 0;
  const budget = new ResultBudget(limits.resultBytes);
  let truncated = false;
  try {
    for (let chunk = await result.fetchChunk(); chunk && chunk.rowCount > 0; chunk = await result.fetchChunk()) {
      let rows = chunkRows(chunk, converters, budget);
      if (rowCount + rows.length > limits.rows) {
        rows = rows.slice(0, limits.rows - rowCount);
        truncated = true;
      }
      rowCount += rows.length;
      if (!sink) {
        first.push(...rows);
      } else {
        if (first.length < PAGE_ROWS) first.push(...rows.slice(0, PAGE_ROWS - first.length));
        await sink.add(rows);
      }
      if (truncated) break;
    }
    return { columns, rows: first, rowCount, truncated, pages: sink ? await sink.finish() : [] };
  } finally {
    await sink?.close();
  }
}

/** Pages of rows as JSON, one after the other; offsets tell where each begins. */
class PageFile {
  readonly #offsets = [0];
  #pending: unknown[][] = [];
  #written = 0;

  private constructor(readonly file: FileHandle) {}

  static async create(path: string): Promise<PageFile> {
    return new PageFile(await open(path, 'w'));
  }

  async add(rows: unknown[][]): Promise<void> {
    this.#pending.push(...rows);
    while (this.#pending.length >= PAGE_ROWS) await this.#write(this.#pending.splice(0, PAGE_ROWS));
  }

  async finish(): Promise<number[]> {
    if (this.#pending.length > 0) await this.#write(this.#pending.splice(0));
    return this.#offsets;
  }

  async close(): Promise<void> {
    await this.file.close();
  }

  async #write(rows: unknown[][]): Promise<void> {
    const bytes = Buffer.from(JSON.stringify(rows));
    await this.file.write(bytes);
    this.#written += bytes.length;
    this.#offsets.push(this.#written);
  }
}
