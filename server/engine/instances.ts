/** Engine instances: one for trusted work, and one-use ones made ahead for user SQL. */
import { DuckDBInstance, type DuckDBConnection } from '@duckdb/node-api';
import { registerHashes } from './hash-functions';
import type { Allow } from './messages';

export interface Sealed {
  instance: DuckDBInstance;
  connection: DuckDBConnection;
}

/** Settings of every instance: UTC, no extensions from outside, no spilling to disk, errors as data. */
const COMMON = `
  SET GLOBAL TimeZone = 'UTC';
  SET errors_as_json = true;
  SET autoinstall_known_extensions = false;
  SET autoload_known_extensions = false;
`;

export async function makeInstance(options: { memory: string; threads: number }): Promise<Sealed> {
  const instance = await DuckDBInstance.create(':memory:', { threads: String(options.threads), memory_limit: options.memory, temp_directory: '' });
  const connection = await instance.connect();
  await connection.run(COMMON);
  registerHashes(connection);
  return { instance, connection };
}

export function quoteList(texts: readonly string[]): string {
  return `[${texts.map((text) => `'${text.replaceAll("'", "''")}'`).join(', ')}]`;
}

/** From here on the instance opens only what is allowed, and nobody can change that. */
export function sealStatements({ files = [], folders = [] }: Allow): string {
  const allowed = [
    ...(files.length > 0 || folders.length === 0 ? [`SET allowed_paths = ${quoteList(files)}`] : []),
    ...(folders.length > 0 ? [`SET allowed_directories = ${quoteList(folders.map((folder) => `${folder}/`))}`] : []),
  ];
  return [...allowed, 'SET enable_external_access = false', 'SET lock_configuration = true'].join('; ');
}

/** Queries in a row that find an instance ready. */
const AHEAD = 10;
/** Kept ready while a query runs. */
const FEW = 2;
/** So long after the last query instances are made again, so as not to compete with those that follow at once. */
const IDLE_MS = 60;

/** Keeps instances ready, since making one takes longer than a small query. */
export class InstancePool {
  readonly #ready: Promise<Sealed>[] = [];
  #idle: NodeJS.Timeout | undefined;
  #inUse = 0;

  constructor(
    readonly options: { memory: string; threads: number },
    readonly ahead = AHEAD,
  ) {
    this.#fillWhenIdle();
  }

  async take(): Promise<Sealed> {
    this.#inUse++;
    const next = this.#ready.shift() ?? this.#make();
    this.#fillWhenIdle();
    return next;
  }

  /** Takes the used one down, which takes a few milliseconds: the answer goes first. */
  giveBack(used: Sealed): void {
    this.#inUse--;
    setImmediate(() => dispose(used));
    this.#fillWhenIdle();
  }

  async #make(): Promise<Sealed> {
    const made = await makeInstance(this.options);
    await made.connection.run(WARM_UP);
    return made;
  }

  #fillWhenIdle(): void {
    clearTimeout(this.#idle);
    // While a long query runs a few are kept for others beside it.
    if (this.#ready.length >= (this.#inUse > 0 ? FEW : this.ahead)) return;
    this.#idle = setTimeout(() => {
      const next = this.#make();
      this.#ready.push(next);
      next.then(() => this.#fillWhenIdle(), () => this.#ready.splice(this.#ready.indexOf(next), 1));
    }, IDLE_MS);
    this.#idle.unref();
  }
}

/** A first query pays for parts of the engine that come up on demand; this one pays ahead. */
const WARM_UP = 'SELECT a, count(*), avg(b) FROM (SELECT i::VARCHAR AS a, i::DOUBLE AS b FROM range(10) numbers(i)) WHERE b > 1 GROUP BY a ORDER BY a LIMIT 3';

function dispose({ instance, connection }: Sealed): void {
  connection.closeSync();
  instance.closeSync();
}
