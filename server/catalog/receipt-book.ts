/** Receipts are written behind: an answer does not wait for its own. Whoever reads receipts waits for those on their way. */
import type { Logger } from 'pino';
import { Lru } from '../../core/lru';
import type { Events } from '../events';
import type { Database } from './database';
import { findReceipt, listReceipts, storeReceipts, type Receipt } from './receipts';

const GATHER_MS = 25;
const RECENT = 5000;

export class ReceiptBook {
  #writing: Promise<unknown> = Promise.resolve();
  readonly #waiting: Receipt[] = [];
  readonly #recent = new Lru<true>(RECENT);
  #hurry: (() => void) | undefined;
  #wanted = 0;

  constructor(
    readonly database: Database,
    readonly events: Events,
    readonly log: Logger,
  ) {}

  /** Whether there is a receipt of that id, or one on its way. */
  async has(id: string): Promise<boolean> {
    if (this.#recent.get(id)) return true;
    const [found] = await this.database.query('SELECT 1 FROM receipt WHERE id = $1', [id]);
    return found !== undefined;
  }

  /** Returns at once; receipts are stored in the order in which they are given, those that wait together. */
  put(receipt: Omit<Receipt, 'at'>): void {
    this.#recent.set(receipt.id, true);
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
