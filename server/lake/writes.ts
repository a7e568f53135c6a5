/** Every write leaves a receipt: what it was asked, which version it made, or why it did not. */
import { randomUUID } from 'node:crypto';
import { LakeError } from '../../core/errors';
import type { Relation } from '../catalog/relations';
import type { Services } from '../services';

export async function writeWithReceipt({ receipts }: Pick<Services, 'receipts'>, who: string, text: string, relation: Relation, write: () => Promise<number>): Promise<{ version: number; receiptId: string }> {
  const started = performance.now();
  const id = randomUUID();
  const table = `${relation.namespace}.${relation.name}`;
  const base = { id, who, kind: 'write' as const, sql: text, tables: [], rowCount: null, planMs: null, engineMs: null };
  try {
    const version = await write();
    receipts.put({ ...base, outcome: 'done', written: { table, version }, totalMs: performance.now() - started, problem: null });
    return { version, receiptId: id };
  } catch (error) {
    const problem = error instanceof LakeError ? error.message : 'An unexpected error.';
    receipts.put({ ...base, outcome: 'failed', written: { table }, totalMs: performance.now() - started, problem });
    throw error;
  } finally {
    // A write is answered only when its receipt is kept too.
    await receipts.settled();
  }
}
