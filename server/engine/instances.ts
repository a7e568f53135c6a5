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
    const next = this.#ready.shift() ?? makeInstance(this.options);
    // Making the next one waits, so that it does not compete with the query that was asked for.
    setTimeout(() => this.#fill(), 50).unref();
    return next;
  }

  #fill(): void {
    while (this.#ready.length < this.ahead) this.#ready.push(makeInstance(this.options));
  }
}

export function dispose({ instance, connection }: Sealed): void {
  connection.closeSync();
  instance.closeSync();
}
