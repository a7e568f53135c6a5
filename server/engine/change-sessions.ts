/** Statements that make new rows of a table: several steps in one sealed one-use instance, which may also write to one scratch folder. */
import { quoteText } from '../../core/sql/tokens';
import { EngineError } from './failures';
import { quotaSetting, sealStatements, type InstancePool, type Sealed } from './instances';
import type { Calls, ChangeStep, RunReply } from './messages';
import { optimizerSettings } from './optimizer-faults';
import { INTERRUPT_EVERY_MS } from './run-query';
import { chunkRows, converter } from './values';

interface Session {
  sealed: Sealed;
  stop?: 'cancelled' | 'time';
  timer: NodeJS.Timeout;
  interrupting?: NodeJS.Timeout;
}

export class ChangeSessions {
  readonly #open = new Map<string, Session>();

  constructor(readonly pool: InstancePool) {}

  /** The seal comes first: what is set up may be the user's own words. */
  async begin({ id, allow, millis, spill, sql }: Calls['beginChange']['ask']): Promise<boolean> {
    const sealed = await this.pool.take();
    const session: Session = { sealed, timer: setTimeout(() => this.#interrupt(id, 'time'), millis) };
    this.#open.set(id, session);
    await sealed.connection.run([...optimizerSettings(sql), 'SET enable_progress_bar = true', 'SET enable_progress_bar_print = false', `SET temp_directory = ${quoteText(spill)}`, ...quotaSetting(this.pool.options.spill), sealStatements(allow)].join('; '));
    return true;
  }

  async step({ id, setup, sql }: ChangeStep): Promise<RunReply> {
    const session = this.#open.get(id);
    if (!session) throw new EngineError('cancelled', 'The statement was cancelled.');
    try {
      const { connection } = session.sealed;
      if (setup.length > 0) await connection.run(setup.join('; '));
      if (session.stop) throw new Error('INTERRUPT');
      const result = await connection.run(sql);
      const converters = result.columnTypes().map(converter);
      const chunks = await result.fetchAllChunks();
      return { columns: result.columnNames(), rows: chunks.flatMap((chunk) => chunkRows(chunk, converters)) };
    } catch (error) {
      if (session.stop === 'time') throw new EngineError('limit', 'The statement was stopped at the time limit. Nothing was changed.');
      if (session.stop === 'cancelled') throw new EngineError('cancelled', 'The statement was cancelled. Nothing was changed.');
      throw error;
    }
  }

  end(id: string): boolean {
    const session = this.#open.get(id);
    if (!session) return false;
    clearTimeout(session.timer);
    clearInterval(session.interrupting);
    this.#open.delete(id);
    this.pool.giveBack(session.sealed);
    return true;
  }

  /** Of the step that runs, as the engine reckons it; null for what is not open. */
  progress(id: string): { rows: number; of: number } | null {
    const session = this.#open.get(id);
    if (!session) return null;
    const { rows_processed: rows, total_rows_to_process: of } = session.sealed.connection.progress;
    return { rows: Number(rows), of: Number(of) };
  }

  cancel(id: string): boolean {
    return this.#interrupt(id, 'cancelled');
  }

  #interrupt(id: string, why: 'cancelled' | 'time'): boolean {
    const session = this.#open.get(id);
    if (!session) return false;
    session.stop ??= why;
    session.sealed.connection.interrupt();
    // An interrupt that comes between two steps is lost, so it is said again until the session ends.
    session.interrupting ??= setInterval(() => session.sealed.connection.interrupt(), INTERRUPT_EVERY_MS);
    return true;
  }
}
