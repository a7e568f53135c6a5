/** The HTTP API as the command line calls it. */

/** What the server said no to, with its hint. */
export class ServerProblem extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly hint?: string,
  ) {
    super(message);
  }
}

/** No server answered. */
export class NoServer extends Error {}

export class Client {
  constructor(
    readonly url: string,
    readonly token: string | undefined,
  ) {}

  get<T>(path: string): Promise<T> {
    return this.#ask<T>('GET', path);
  }

  post<T>(path: string, body: unknown = {}): Promise<T> {
    return this.#ask<T>('POST', path, body);
  }

  async #ask<T>(method: string, path: string, body?: unknown): Promise<T> {
    const headers = { ...(this.token === undefined ? {} : { authorization: `Bearer ${this.token}` }), ...(body === undefined ? {} : { 'content-type': 'application/json' }) };
    const response = await fetch(`${this.url}/api${path}`, { method, headers, ...(body === undefined ? {} : { body: JSON.stringify(body) }) }).catch((error: unknown) => {
      throw new NoServer(`No server answers at ${this.url} (${((error as Error).cause as Error | undefined)?.message ?? (error as Error).message}). Start it with npm start, or name another with --url.`);
    });
    const answer = (await response.json().catch(() => ({}))) as T & { detail?: string; hint?: string };
    if (!response.ok) throw new ServerProblem(answer.detail ?? `The server answered ${response.status}.`, response.status, answer.hint);
    return answer;
  }
}
