/** The catalog protocol served over a folder, with a catalog database in the test's own process. */
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { randomBytes } from 'node:crypto';
import path from 'node:path';
import express from 'express';
import type { Grant } from '../access/access';
import { Tokens } from '../access/tokens';
import type { Receipt } from '../catalog/receipts';
import { RelationNames } from '../catalog/relation-names';
import { Events } from '../events';
import { icebergRouter } from '../iceberg-rest/router';
import { GivingWay } from '../lake/giving-way';
import { Lake } from '../lake/lake';
import type { Queries } from '../query/queries';
import type { Services } from '../services';
import { Secrets } from '../storage/secrets';
import { testDatabase } from './database';
import { temporaryFolder } from './lake-tools';

export class RestBench {
  readonly folder = temporaryFolder();
  readonly receipts: Omit<Receipt, 'at'>[] = [];
  readonly told: unknown[] = [];
  #server!: Server;
  url = '';
  services!: Services;

  static async start(): Promise<RestBench> {
    const bench = new RestBench();
    const database = await testDatabase();
    const events = new Events();
    events.listen((event) => bench.told.push(event));
    const lake = new Lake(database, new Secrets(bench.folder.path));
    await lake.addStorage({ name: 'bay', kind: 'folder', location: bench.folder.path, settings: null, secret: null } as never, 'tester');
    const quiet = { error: console.error, warn: () => undefined, info: () => undefined };
    bench.services = {
      names: new RelationNames(database, events), database, events, lake, log: quiet, givingWay: new GivingWay(), config: { person: 'tester' }, tokens: new Tokens(database, randomBytes(32)),
      receipts: { put: (receipt: Omit<Receipt, 'at'>) => bench.receipts.push(receipt) },
      upkeep: { withRows: async (_storage: unknown, files: unknown[]) => files },
      queries: { columnsOf: async () => [{ name: 'n', type: 'bigint' }] } as unknown as Queries,
    } as unknown as Services;
    const app = express();
    app.use('/iceberg', icebergRouter(bench.services));
    bench.#server = createServer(app);
    await new Promise<void>((resolve) => void bench.#server.listen(0, '127.0.0.1', resolve));
    bench.url = `http://127.0.0.1:${(bench.#server.address() as AddressInfo).port}/iceberg`;
    return bench;
  }

  get lakeFolder(): string {
    return path.join(this.folder.path);
  }

  async token(...grants: Grant[]): Promise<string> {
    return (await this.services.tokens.issue({ name: `for ${grants.map(({ on, right }) => `${right} ${on}`).join(', ')}`, grants, expiresAt: null }, 'tester')).text;
  }

  /** The status, the body as text and parsed, and the headers. */
  // eslint-disable-next-line @typescript-eslint/no-explicit-any -- tests look into bodies of every shape
  async ask(method: string, at: string, options: { token?: string; body?: unknown; headers?: Record<string, string> } = {}): Promise<{ status: number; text: string; body: any; headers: Headers }> {
    const response = await fetch(`${this.url}${at}`, {
      method, headers: { ...(options.token === undefined ? {} : { authorization: `Bearer ${options.token}` }), ...(options.body === undefined ? {} : { 'content-type': 'application/json' }), ...options.headers },
      ...(options.body === undefined ? {} : { body: typeof options.body === 'string' ? options.body : JSON.stringify(options.body) }),
    });
    const text = await response.text();
    let body: unknown;
    try {
      body = text === '' ? undefined : JSON.parse(text);
    } catch {
      body = undefined;
    }
    return { status: response.status, text, body, headers: response.headers };
  }

  async stop(): Promise<void> {
    await new Promise((resolve) => {
      this.#server.close(resolve);
      this.#server.closeAllConnections();
    });
    this.folder.remove();
  }
}
