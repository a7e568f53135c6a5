/** Tables of a prepared query at hand in a sealed instance of the engine, for steps of ours that make new rows or files. */
import { mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { EngineError } from '../engine/failures';
import type { RunReply } from '../engine/messages';
import { translateError } from '../engine/translate';
import { namingTheFile } from '../lake/blame';
import { openScans, type OpenScans } from './open-scans';
import type { PlannedTable, PreparedQuery } from './prepare';
import type { Queries } from './queries';

/** Changes may take longer than queries. */
const TIME_FACTOR = 6;

export interface Sealed {
  /** For `Queries.cancel`. */
  id: string;
  /** Folder that the instance may write to; removed in the end. */
  scratch: string;
  prepared: PreparedQuery;
  /** What is read in the places of the prepared tables. */
  tables: readonly PlannedTable[];
}

export interface OpenInstance {
  scans: OpenScans;
  /** The query, as SQL that runs in a step. */
  rows: string;
  step: (sql: string, setup?: string[]) => Promise<RunReply>;
}

/** What the engine complains of is told in the user's names. */
export async function withInstance<T>(queries: Pick<Queries, 'engine' | 'config' | 'roots' | 'local' | 'shapes'>, { id, scratch, prepared, tables }: Sealed, work: (open: OpenInstance) => Promise<T>): Promise<T> {
  const { engine } = queries;
  mkdirSync(scratch, { recursive: true });
  let scans: OpenScans | undefined;
  try {
    scans = await openScans(tables, queries, scratch);
    const rows = prepared.compile(scans.relations).sql;
    const allow = { ...scans.allow, folders: [...(scans.allow.folders ?? []), scratch] };
    const millis = queries.config.queryMillis * TIME_FACTOR;
    await engine.call('beginChange', { id, sql: rows, allow, millis, spill: path.join(scratch, 'spill') });
    let ahead = scans.setup;
    const step = (sql: string, setup: string[] = []) => {
      const first = [...ahead, ...setup];
      ahead = [];
      return engine.call('changeStep', { id, setup: first, sql });
    };
    return await work({ scans, rows, step });
  } catch (error) {
    if (!(error instanceof EngineError)) throw error;
    const names = new Map(tables.map(({ standIn, source }) => [standIn, source.name]));
    // Positions are those of SQL that the user never saw.
    throw await namingTheFile(translateError(new EngineError(error.kind, error.message), { roots: queries.roots, ...(scans ? { copies: scans.copies } : {}), names }), engine, scans?.suspects ?? []);
  } finally {
    // The answer does not wait for the instance to be taken down.
    void engine.call('endChange', { id }).catch(() => undefined);
    await scans?.release();
    rmSync(scratch, { recursive: true, force: true });
  }
}
