/** The rows of a user's query at hand in a sealed instance, which takes further steps over them. */
import { mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import type { Identity } from '../access/access';
import type { ReceiptTable } from '../catalog/receipts';
import { TIME_FACTOR } from '../change/changes';
import type { Writing } from '../change/write-files';
import { EngineError } from '../engine/failures';
import { translateError } from '../engine/translate';
import { openScans, type OpenScans } from '../query/open-scans';
import { prepareQuery, receiptTable } from '../query/prepare';
import type { Queries } from '../query/queries';

export interface SealedRows {
  step: Writing['step'];
  /** Folder that the instance may write to. */
  scratch: string;
  /** The query, as SQL that runs in a step. */
  rows: string;
  tables: ReceiptTable[];
}

/** `id`: for `Queries.cancel`. Waits for its turn among queries. */
export function withSealedRows<T>(queries: Queries, { id, sql, as }: { id: string; sql: string; as: Identity }, work: (rows: SealedRows) => Promise<T>): Promise<T> {
  return queries.queue.add(async () => {
    const scratch = path.join(queries.config.home, 'scratch', 'writes', id);
    const prepared = await prepareQuery(await queries.resolver(as).resolve(sql), queries.statements, queries.roots);
    mkdirSync(scratch, { recursive: true });
    const { engine } = queries;
    let scans: OpenScans | undefined;
    try {
      scans = await openScans(prepared.tables, queries, scratch);
      const rows = prepared.compile(scans.relations).sql;
      await engine.call('beginChange', { id, sql: rows, allow: { ...scans.allow, folders: [...(scans.allow.folders ?? []), scratch] }, millis: queries.config.queryMillis * TIME_FACTOR, spill: path.join(scratch, 'spill') });
      const step = (text: string, setup: string[] = []) => engine.call('changeStep', { id, setup, sql: text });
      await step('SELECT 1', scans.setup);
      return await work({ step, scratch, rows, tables: prepared.tables.map(receiptTable) });
    } catch (error) {
      if (!(error instanceof EngineError)) throw error;
      const names = new Map(prepared.tables.map(({ standIn, source }) => [standIn, source.name]));
      // Positions are those of SQL that the user never saw.
      throw translateError(new EngineError(error.kind, error.message), { roots: queries.roots, ...(scans ? { copies: scans.copies } : {}), names });
    } finally {
      await engine.call('endChange', { id }).catch(() => undefined);
      await scans?.release();
      rmSync(scratch, { recursive: true, force: true });
    }
  });
}
