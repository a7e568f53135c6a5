/** Engine instances: one for trusted work, and sealed ones for user SQL, made ahead and lent again. */
import { createHash, randomUUID } from 'node:crypto';
import { rmSync } from 'node:fs';
import path from 'node:path';
import { DuckDBInstance, type DuckDBConnection } from '@duckdb/node-api';
import { registerHashes } from './hash-functions';
import type { Allow } from './messages';

export interface Sealed {
  instance: DuckDBInstance;
  connection: DuckDBConnection;
  /** Folder of its own that rows are laid in. */
  scratch?: string;
}

/** Settings of every instance: UTC, no extensions from outside, errors as data. */
const COMMON = `
  SET GLOBAL TimeZone = 'UTC';
  SET GLOBAL errors_as_json = true;
  SET autoinstall_known_extensions = false;
  SET autoload_known_extensions = false;
`;

/** Where an instance may lay rows that its memory does not hold: in a folder of its own below this one, up to so many bytes. */
export interface Spill {
  folder: string;
  bytes: number;
}

export async function makeInstance(options: { memory: string; threads: number; spill?: Spill }): Promise<Sealed> {
  const { memory, threads, spill } = options;
  const scratch = spill && path.join(spill.folder, `${process.pid}-${randomUUID()}`);
  const instance = await DuckDBInstance.create(':memory:', {
    threads: String(threads), memory_limit: memory, temp_directory: scratch ?? '', enable_external_file_cache: 'false',
  });
  const connection = await instance.connect();
  // Given when the instance is made it is shown and not held to (engine 1.5.5).
  await connection.run([COMMON, ...quotaSetting(spill)].join(''));
  registerHashes(connection);
  return { instance, connection, ...(scratch === undefined ? {} : { scratch }) };
}

/** Holds an instance to its quota on disk; again where it is given another folder. */
export function quotaSetting(spill: Spill | undefined): string[] {
  return spill ? [`SET max_temp_directory_size = '${Math.round(spill.bytes / 1e6)}MB'`] : [];
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
    readonly options: { memory: string; threads: number; spill?: Spill },
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

export function dispose({ instance, connection, scratch }: Sealed): void {
  connection.closeSync();
  instance.closeSync();
  if (scratch !== undefined) rmSync(scratch, { recursive: true, force: true });
}

interface Lent extends Sealed {
  key: string;
  uses: number;
}

/** Kept for those who may open the same places. */
const LENT_KEPT = 12;
/** After so many queries an instance is made anew. */
const LENT_USES = 500;

/**
 * Sealed instances that are lent again. All that may be opened is in the key, and is what the query at hand was found to
 * read with the rights of who asks, so nobody is lent what opens more. Each query has a connection of its own: its tables,
 * variables and settings go with it, and after any error the instance goes too.
 */
export class LentInstances {
  readonly #free: Lent[] = [];

  constructor(readonly pool: InstancePool) {}

  /** `settings` are statements that must come before the seal. */
  async take(settings: readonly string[], allow: Allow): Promise<Lent & { session: DuckDBConnection }> {
    const seal = [...settings, sealStatements(allow)].join('; ');
    const key = createHash('sha256').update(seal).digest('base64');
    const at = this.#free.findLastIndex((each) => each.key === key);
    const found = at >= 0 ? this.#free.splice(at, 1)[0]! : await this.#make(seal, key);
    found.uses++;
    return { ...found, session: await found.instance.connect() };
  }

  giveBack({ session, ...lent }: Lent & { session: DuckDBConnection }, isGood: boolean): void {
    session.closeSync();
    if (isGood && lent.uses < LENT_USES) this.#free.push(lent);
    else this.pool.giveBack(lent);
    if (this.#free.length > LENT_KEPT) this.pool.giveBack(this.#free.shift()!);
  }

  async #make(seal: string, key: string): Promise<Lent> {
    const sealed = await this.pool.take();
    try {
      await sealed.connection.run(seal);
      return { ...sealed, key, uses: 0 };
    } catch (error) {
      this.pool.giveBack(sealed);
      throw error;
    }
  }
}
