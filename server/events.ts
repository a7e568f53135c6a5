import { EventEmitter } from 'node:events';

/** What pages are told so that they follow by themselves. They fetch what they show; events only say what moved. */
export type HarborEvent =
  | { topic: 'job'; job: unknown }
  | { topic: 'catalog' }
  | { topic: 'columns'; name: string }
  | { topic: 'storage'; storage: string; folder: string }
  | { topic: 'table'; name: string }
  | { topic: 'receipt'; id: string }
  | { topic: 'crawl'; runId: number };

export class Events {
  readonly #emitter = new EventEmitter().setMaxListeners(0);

  tell(event: HarborEvent): void {
    this.#emitter.emit('event', event);
  }

  /** Returns the function that ends the subscription. */
  listen(onEvent: (event: HarborEvent) => void): () => void {
    this.#emitter.on('event', onEvent);
    return () => this.#emitter.off('event', onEvent);
  }
}
