/** The server's settings, from environment variables and the command line; every problem is reported at once. */
import os from 'node:os';
import path from 'node:path';
import Joi from 'joi';

export interface Config {
  home: string;
  port: number;
  host: string;
  /** Nobody is known by the machine that they sit at: every request to the API carries a token. */
  needsToken: boolean;
  /** Who is named in revisions, receipts and commits until there are accounts. */
  person: string;
  engineMemory: string;
  engineThreads: number;
  queryMillis: number;
  /** Of local copies of files that lie elsewhere, or that the engine cannot read as they are. */
  cacheBytes: number;
  /** Of rows that one query may lay on disk, where its memory does not hold them. */
  spillBytes: number;
  /** Dropped managed tables can come back for so many days. */
  trashDays: number;
  demo: boolean;
  /** Multiplies the demo's soundings, for benchmarks. */
  scale: number;
}

const variables = Joi.object({
  KIND_HARBOR_HOME: Joi.string().default('./harbor-data'),
  KIND_HARBOR_PORT: Joi.number().port().default(4780),
  KIND_HARBOR_HOST: Joi.string().hostname().default('127.0.0.1'),
  KIND_HARBOR_NEEDS_TOKEN: Joi.boolean().default(false),
  KIND_HARBOR_PERSON: Joi.string().trim().max(80).default(() => os.userInfo().username || 'local person'),
  KIND_HARBOR_ENGINE_MEMORY: Joi.string().pattern(/^\d+(\.\d+)?\s?(MB|GB)$/i, 'a size such as 500MB or 2GB').default('2GB'),
  KIND_HARBOR_ENGINE_THREADS: Joi.number().integer().min(1).max(256).default(() => Math.max(1, os.availableParallelism())),
  KIND_HARBOR_QUERY_SECONDS: Joi.number().positive().max(86_400).default(300),
  KIND_HARBOR_TRASH_DAYS: Joi.number().integer().min(0).max(3650).default(7),
  KIND_HARBOR_SPILL_GB: Joi.number().min(0).max(100_000).default(10),
  KIND_HARBOR_CACHE_GB: Joi.number().positive().max(100_000).default(10),
}).unknown(true);

/** An address that only this machine reaches. */
export function isLoopback(address: string): boolean {
  return address === 'localhost' || address === '::1' || /^(::ffff:)?127\.\d+\.\d+\.\d+$/i.test(address);
}

/** Of a size such as 500MB. */
export function bytesOf(size: string): number {
  return Number.parseFloat(size) * (size.endsWith('GB') ? 1e9 : 1e6);
}

export class ConfigError extends Error {}

export function readConfig(env: NodeJS.ProcessEnv, args: readonly string[]): Config {
  const problems: string[] = [];
  const own = Object.fromEntries(Object.entries(env).filter(([name]) => name.startsWith('KIND_HARBOR_')));
  const { value, error } = variables.validate(own, { abortEarly: false, convert: true });
  problems.push(...(error?.details.map((detail) => detail.message.replaceAll('"', '')) ?? []));
  let demo = true;
  let scale = 1;
  for (let i = 0; i < args.length; i++) {
    if (args[i] === '--empty') demo = false;
    else if (args[i] === '--scale' && /^[1-9]\d{0,2}$/.test(args[i + 1] ?? '')) scale = Number(args[++i]);
    else problems.push(args[i] === '--scale' ? '--scale needs a whole number from 1 to 999' : `${args[i]} is not an option; --empty and --scale N are`);
  }
  if (!error && !isLoopback(value.KIND_HARBOR_HOST) && !value.KIND_HARBOR_NEEDS_TOKEN) {
    problems.push(`KIND_HARBOR_HOST is ${value.KIND_HARBOR_HOST}, where other machines can reach it, and nobody signs in yet. Set KIND_HARBOR_NEEDS_TOKEN=true, so that every request must carry a token (issue one first, on the page Access at 127.0.0.1), or leave KIND_HARBOR_HOST at 127.0.0.1`);
  }
  if (problems.length > 0) throw new ConfigError(`Kind Harbor cannot start: ${problems.join('; ')}.`);
  return {
    home: path.resolve(value.KIND_HARBOR_HOME),
    port: value.KIND_HARBOR_PORT,
    host: value.KIND_HARBOR_HOST,
    needsToken: value.KIND_HARBOR_NEEDS_TOKEN,
    person: value.KIND_HARBOR_PERSON,
    engineMemory: value.KIND_HARBOR_ENGINE_MEMORY.replace(/\s/g, '').toUpperCase(),
    engineThreads: value.KIND_HARBOR_ENGINE_THREADS,
    queryMillis: value.KIND_HARBOR_QUERY_SECONDS * 1000,
    cacheBytes: value.KIND_HARBOR_CACHE_GB * 1e9,
    spillBytes: value.KIND_HARBOR_SPILL_GB * 1e9,
    trashDays: value.KIND_HARBOR_TRASH_DAYS,
    demo,
    scale,
  };
}
