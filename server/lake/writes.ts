/** Every write leaves a receipt: what it was asked, which version it made, or why it did not. */
import { randomUUID } from 'node:crypto';
import { LakeError } from '../../core/errors';
import { storeReceipt } from '../catalog/receipts';
import type { Relation } from '../catalog/relations';
import type { Services } from '../services';

export async function writeWithReceipt({ database, events, config }: Pick<Services, 'database' | 'events' | 'config'>, text: string, relation: Relation, write: () => Promise<number>): Promise<{ version: number; receiptId: string }> {
  const started = performance.now();
  const id = randomUUID();
  const table = `${relation.namespace}.${relation.name}`;
  const base = { id, who: config.person, kind: 'write' as const, sql: text, tables: [], rowCount: null, planMs: null, engineMs: null };
  try {
    const version = await write();
    await storeReceipt(database, { ...base, outcome: 'done', written: { table, version }, totalMs: performance.now() - started, problem: null });
    events.tell({ topic: 'receipt', id });
    return { version, receiptId: id };
  } catch (error) {
    const problem = error instanceof LakeError ? error.message : 'An unexpected error.';
    await storeReceipt(database, { ...base, outcome: 'failed', written: { table }, totalMs: performance.now() - started, problem });
    throw error;
  }
}
