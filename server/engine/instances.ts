/** Engine instances: one for trusted work, and one-use ones made ahead for user SQL. */
import { DuckDBInstance, type DuckDBConnection } from '@duckdb/node-api';

export interface Sealed {
  instance: DuckDBInstance;
  connection: DuckDBConnection;
}

/** Settings of every instance: UTC, no extensions from outside, no spilling to disk, errors as data. */
const COMMON = `
  SET TimeZone = 'UTC';
  SET errors_as_json = true;
  SET autoinstall_known_extensions = false;
  SET autoload_known_extensions = false;
`;

export async function makeInstance(options: { memory: string; threads: number }): Promise<Sealed> {
  const instance = await DuckDBInstance.create(':memory:', { threads: String(options.threads), memory_limit: options.memory, temp_directory: '' });
  const connection = await instance.connect();
  await connection.run(COMMON);
  return { instance, connection };
}

export function quoteList(texts: readonly string[]): string {
  return `[${texts.map((text) => `'${text.replaceAll("'", "''")}'`).join(', ')}]`;
}

/** From here on the instance opens only what is allowed, and nobody can change that. */
export function sealStatements(allow: { files: string[] } | { folders: string[] }): string {
  const list = 'files' in allow ? `SET allowed_paths = ${quoteList(allow.files)}` : `SET allowed_directories = ${quoteList(allow.folders.map((folder) => `${folder}/`))}`;
  return `${list}; SET enable_external_access = false; SET lock_configuration = true`;
}

/** Keeps `ahead` instances ready, since making one takes longer than a small query. */
export class InstancePool {
  readonly #ready: Promise<Sealed>[] = [];

  constructor(
    readonly options: { memory: string; threads: number },
    readonly ahead = 3,
  ) {
    this.#fill();
  }

  async take(): Promise<Sealed> {
    const next = this.#ready.shift() ?? this.#make();
    // Making the next one waits, so that it does not compete with the query that was asked for.
    setTimeout(() => this.#fill(), 50).unref();
    return next;
  }

  async #make(): Promise<Sealed> {
    const made = await makeInstance(this.options);
    await made.connection.run(WARM_UP);
    return made;
  }

  #fill(): void {
    while (this.#ready.length < this.ahead) this.#ready.push(this.#make());
  }
}

/** A first query pays for parts of the engine that come up on demand; this one pays ahead. */
const WARM_UP = 'SELECT a, count(*), avg(b) FROM (SELECT i::VARCHAR AS a, i::DOUBLE AS b FROM range(10) numbers(i)) WHERE b > 1 GROUP BY a ORDER BY a LIMIT 3';

export function dispose({ instance, connection }: Sealed): void {
  connection.closeSync();
  instance.closeSync();
}
