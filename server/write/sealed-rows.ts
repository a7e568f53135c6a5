/** The rows of a user's query at hand in a sealed instance, which takes further steps over them. */
import path from 'node:path';
import { nameOfIdentity, type Identity } from '../access/access';
import type { ReceiptTable } from '../catalog/receipts';
import type { Writing } from '../change/write-files';
import { prepareQuery, receiptTable } from '../query/prepare';
import type { Queries } from '../query/queries';
import { withInstance } from '../query/sealed-instance';

export interface SealedRows {
  step: Writing['step'];
  /** Folder that the instance may write to. */
  scratch: string;
  /** The query, as SQL that runs in a step. */
  rows: string;
  tables: ReceiptTable[];
}

/** `id`: for `Queries.cancel`. Waits for its turn among statements that make rows. */
export function withSealedRows<T>(queries: Queries, { id, sql, as }: { id: string; sql: string; as: Identity }, work: (rows: SealedRows) => Promise<T>): Promise<T> {
  return queries.lanes.changes.run(nameOfIdentity(as), async () => {
    const scratch = path.join(queries.config.home, 'scratch', 'writes', id);
    const prepared = await prepareQuery(await queries.resolver(as).resolve(sql), queries.statements, queries.roots);
    return withInstance(queries, { id, scratch, prepared, tables: prepared.tables }, async ({ step, rows }) => {
      await step('SELECT 1');
      return work({ step, scratch, rows, tables: prepared.tables.map(receiptTable) });
    });
  }, queries.underWay.signalOf(id));
}
