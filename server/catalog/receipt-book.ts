/** Receipts are written behind: an answer does not wait for its own. Whoever reads receipts waits for those on their way. */
import type { Logger } from 'pino';
import type { Events } from '../events';
import type { Database } from './database';
import { findReceipt, listReceipts, storeReceipt, type Receipt } from './receipts';

export class ReceiptBook {
  #writing: Promise<unknown> = Promise.resolve();

  constructor(
    readonly database: Database,
    readonly events: Events,
    readonly log: Logger,
  ) {}

  /** Returns at once; receipts are stored in the order in which they are given. */
  put(receipt: Omit<Receipt, 'at'>): void {
    const at = new Date().toISOString();
    this.#writing = this.#writing
      .then(() => storeReceipt(this.database, { ...receipt, at }))
      .then(() => this.events.tell({ topic: 'receipt', id: receipt.id }))
      .catch((error: unknown) => this.log.error({ err: error, receipt }, 'a receipt could not be stored'));
  }

  async list(limit: number, kind?: Receipt['kind']): Promise<Receipt[]> {
    await this.#writing;
    return listReceipts(this.database, limit, kind);
  }

  async find(id: string): Promise<Receipt | undefined> {
    await this.#writing;
    return findReceipt(this.database, id);
  }

  /** Resolves when every receipt given so far is stored. */
  async settled(): Promise<void> {
    await this.#writing;
  }
}
