/** "Idempotency-Key": a request that is sent again with the same key gets the answer of the first time. */
import { createHash } from 'node:crypto';
import type { RequestHandler, Response } from 'express';
import type { Database } from '../catalog/database';
import { ProtocolError } from './errors';

/** So long an answer is kept, as the configuration tells clients. */
export const KEY_LIFETIME = 'PT1H';
const LIFETIME_MS = 3_600_000;
const KEY = /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/i;

export class RepeatableAnswers {
  readonly #running = new Map<string, Promise<unknown>>();

  constructor(readonly database: Database) {}

  /** `raw` gives the body as it was sent, `caller` whose request it is. */
  handler(raw: (response: Response) => string, caller: (response: Response) => string): RequestHandler {
    return async (request, response, next) => {
      const key = request.headers['idempotency-key'];
      if (key === undefined || request.method === 'GET' || request.method === 'HEAD') return next();
      if (typeof key !== 'string' || !KEY.test(key)) throw new ProtocolError(400, 'BadRequestException', 'The idempotency key must be a UUID.');
      const id = `${caller(response)} ${key}`;
      const before = this.#running.get(id);
      const release = this.#hold(id);
      await before;
      const asked = createHash('sha256').update(`${request.method} ${request.originalUrl}\n${raw(response)}`).digest('hex');
      const [known] = await this.database.query<{ request: string; status: number; body: string }>('SELECT request, status, body FROM repeatable_answer WHERE key = $1 AND token_id = $2 AND at > $3', [key, caller(response), new Date(Date.now() - LIFETIME_MS)]);
      if (known) {
        release();
        if (known.request !== asked) throw new ProtocolError(422, 'UnprocessableEntityException', 'The idempotency key was used for another request.');
        response.status(known.status);
        return known.body === '' ? void response.end() : void response.type('json').send(known.body);
      }
      this.#keepAnswer(response, release, (status, body) => this.#store(key, caller(response), asked, status, body));
      next();
    };
  }

  /** Whoever comes with the same key waits until what is returned is called. */
  #hold(id: string): () => void {
    let done: () => void = () => undefined;
    const running = new Promise<void>((resolve) => {
      done = resolve;
    });
    this.#running.set(id, running);
    return () => {
      if (this.#running.get(id) === running) this.#running.delete(id);
      done();
    };
  }

  /** Answers that may come out otherwise the next time are not kept. */
  #keepAnswer(response: Response, release: () => void, store: (status: number, body: string) => Promise<void>): void {
    let body = '';
    const send = response.send.bind(response);
    response.send = (sent?: unknown) => {
      if (typeof sent === 'string') body = sent;
      return send(sent);
    };
    response.once('close', () => {
      const isFinal = response.writableFinished && response.statusCode < 500 && response.statusCode !== 401;
      void (isFinal ? store(response.statusCode, body).catch(() => undefined) : Promise.resolve()).then(release);
    });
  }

  async #store(key: string, caller: string, asked: string, status: number, body: string): Promise<void> {
    await this.database.query('INSERT INTO repeatable_answer (key, token_id, request, status, body) VALUES ($1, $2, $3, $4, $5) ON CONFLICT (key, token_id) DO UPDATE SET request = $3, status = $4, body = $5, at = now()', [key, caller, asked, status, body]);
    await this.database.query('DELETE FROM repeatable_answer WHERE at < $1', [new Date(Date.now() - 2 * LIFETIME_MS)]);
  }
}
