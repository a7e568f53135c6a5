/** Receipts are written behind: an answer does not wait for its own. Whoever reads receipts waits for those on their way. */
import type { Logger } from 'pino';
import type { Events } from '../events';
import type { Database } from './database';
import { findReceipt, listReceipts, storeReceipts, type Receipt } from './receipts';

const GATHER_MS = 25;

export class ReceiptBook {
  #writing: Promise<unknown> = Promise.resolve();
  readonly #waiting: Receipt[] = [];
  #hurry: (() => void) | undefined;
  #wanted = 0;

  constructor(
    readonly database: Database,
    readonly events: Events,
    readonly log: Logger,
  ) {}

  /** Returns at once; receipts are stored in the order in which they are given, those that wait together. */
  put(receipt: Omit<Receipt, 'at'>): void {
    this.#waiting.push({ ...receipt, at: new Date().toISOString() });
    if (this.#waiting.length === 1) this.#writing = this.#writing.then(() => this.#gather()).then(() => this.#store());
  }

  /** A moment, in which more may come. */
  #gather(): Promise<void> {
    return new Promise((resolve) => {
      const done = () => {
        clearTimeout(timer);
        this.#hurry = undefined;
        resolve();
      };
      const timer = setTimeout(done, GATHER_MS);
      if (this.#wanted > 0) done();
      else this.#hurry = done;
    });
  }

  /** What is on its way is stored now. */
  async #stored(): Promise<void> {
    this.#wanted++;
    this.#hurry?.();
    await this.#writing.finally(() => this.#wanted--);
  }

  async #store(): Promise<void> {
    const receipts = this.#waiting.splice(0);
    // One that the database does not take must not take the others with it.
    const isStored = receipts.length > 1 && (await storeReceipts(this.database, receipts).then(() => true, () => false));
    for (const receipt of receipts) {
      try {
        if (!isStored) await storeReceipts(this.database, [receipt]);
        this.events.tell({ topic: 'receipt', id: receipt.id });
      } catch (error) {
        this.log.error({ err: error, receipt }, 'a receipt could not be stored');
      }
    }
  }

  async list(limit: number, kind?: Receipt['kind']): Promise<Receipt[]> {
    await this.#stored();
    return listReceipts(this.database, limit, kind);
  }

  async find(id: string): Promise<Receipt | undefined> {
    await this.#stored();
    return findReceipt(this.database, id);
  }

  /** Resolves when every receipt given so far is stored. */
  async settled(): Promise<void> {
    await this.#stored();
  }
}
