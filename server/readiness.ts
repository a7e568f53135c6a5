/** Whether the server is ready, and what it is doing until then. */
export class Readiness {
  #state: { ready: true } | { ready: false; doing: string; done: number; total: number } = { ready: false, doing: 'Starting', done: 0, total: 1 };

  get state() {
    return this.#state;
  }

  progress(doing: string, done: number, total: number): void {
    this.#state = { ready: false, doing, done, total };
  }

  ready(): void {
    this.#state = { ready: true };
  }
}
