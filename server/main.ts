/** Starts the server: one clear sentence when it cannot, a line for each step when it can. */
import { Cron } from 'croner';
import { mkdirSync, rmSync } from 'node:fs';
import os from 'node:os';
import { createServer, type Server } from 'node:http';
import path from 'node:path';
import { pino } from 'pino';
import { createApp } from './app';
import { Tokens } from './access/tokens';
import { Database } from './catalog/database';
import { ReceiptBook } from './catalog/receipt-book';
import { FindIndex } from './catalog/find-index';
import { RelationNames } from './catalog/relation-names';
import { listRelations } from './catalog/relations';
import { bytesOf, ConfigError, readConfig, type Config } from './config';
import { additionsOf } from './crawl/after-run';
import { LakeError } from '../core/errors';
import { Changes } from './change/changes';
import { Crawler } from './crawl/crawler';
import { registerFinding } from './crawl/register';
import { Schedules } from './crawl/schedules';
import { Definitions } from './define/definitions';
import { emptyTrash } from './define/trash';
import { makeDemo } from './demo/make-demo';
import { Engine } from './engine/engine';
import { Fleet, Lookers } from './engine/fleet';
import { EventLoopWatch } from './event-loop';
import { Events } from './events';
import { lockHome } from './home-lock';
import { Jobs } from './jobs/jobs';
import { ColumnKeeper } from './lake/column-keeper';
import { EngineIndexes, localizer } from './lake/checkpoint-indexes';
import { DeltaUpkeep } from './lake/delta-upkeep';
import { FilesAsTable } from './lake/files-as-table';
import { EngineIcebergReaders } from './lake/iceberg-readers';
import { GivingWay } from './lake/giving-way';
import { IcebergUpkeep } from './lake/iceberg-upkeep';
import { Inspector } from './lake/inspect';
import { Lake } from './lake/lake';
import { Containers } from './lake/containers';
import { LocalFiles } from './lake/local-files';
import { ManifestCache } from './lake/manifest-cache';
import { Landings } from './load/landing';
import { Loads } from './load/load';
import type { LaneSize } from './query/lanes';
import { Queries } from './query/queries';
import { Readiness } from './readiness';
import type { Services } from './services';
import { startStandIns } from './standins/start-stand-ins';
import { Secrets } from './storage/secrets';
import { Uploads } from './storage/uploads';
import { FileWrites } from './write/file-writes';

/** So long requests under way have to end when the server stops. */
const DRAIN_MS = 4000;

export async function main(args: readonly string[]): Promise<void> {
  const stops: (() => Promise<void> | void)[] = [];
  let stopping = false;
  const stop = async (code: number) => {
    if (stopping) return;
    stopping = true;
    setTimeout(() => process.exit(code), 10_000).unref();
    for (const each of stops.reverse()) await Promise.resolve(each()).catch(() => undefined);
    process.exit(code);
  };
  for (const signal of ['SIGINT', 'SIGTERM'] as const) process.on(signal, () => void stop(Number(process.exitCode ?? 0)));
  try {
    await start(args, (each) => stops.push(each));
  } catch (error) {
    console.error(error instanceof ConfigError ? error.message : `Kind Harbor cannot start: ${(error as Error).message}`);
    if (!(error instanceof ConfigError) && process.env.KIND_HARBOR_DEBUG) console.error(error);
    await stop(1);
  }
}

async function start(args: readonly string[], onStop: (stop: () => Promise<void> | void) => void): Promise<void> {
  const config = readConfig(process.env, args);
  const say = (line: string) => console.log(line);
  makeHome(config.home);
  onStop(lockHome(config.home));
  const log = pino({ level: process.env.KIND_HARBOR_LOG ?? 'info' }, pino.destination({ dest: path.join(config.home, 'server.log'), sync: true, mkdir: true }));
  // A fault of ours in work that nobody waits for any more must not end what others wait for.
  process.on('unhandledRejection', (error) => log.error({ err: error }, 'work that nobody waited for failed'));
  const readiness = new Readiness();
  const app = createApp({ hosts: hostsOf(config), log, readiness });
  const server = await listen(createServer(app.express), config);
  onStop(() => new Promise((resolve) => {
    server.close(() => resolve());
    server.closeAllConnections();
  }));

  const spillFolder = path.join(config.home, 'scratch', 'spill');
  rmSync(spillFolder, { recursive: true, force: true });
  const onCrash = (message: string) => log.error(message);
  const workEngine = new Engine({ role: 'work', memory: config.engineMemory, threads: config.engineThreads, onCrash });
  onStop(() => workEngine.close());
  const lookers = new Lookers({ memory: bytesOf(config.engineMemory), threads: config.engineThreads, onCrash });
  onStop(() => lookers.close());
  const lanes = laneSizes(config);
  const queryEngine = new Fleet({
    memory: bytesOf(config.engineMemory), threads: config.engineThreads, scratch: spillFolder, spillBytes: config.spillBytes, onCrash,
    queries: lanes.queries.quick + lanes.queries.long, changes: lanes.changes.quick + lanes.changes.long, run: (call, ask) => lookers.call(call, ask),
  });
  onStop(() => queryEngine.close());
  const [database] = await Promise.all([Database.open(config.home, say, onStop), queryEngine.start(), workEngine.start(), lookers.start()]);
  const eventLoop = new EventLoopWatch();
  onStop(() => eventLoop.stop());
  const events = new Events();
  database.onLost = () => {
    console.error('Kind Harbor ends: the process of its catalog ended four times within a minute. Its log, server.log in the data folder, has more; start again when the machine has memory and disk to spare.');
    log.error('the process of the catalog ended too often');
    process.exitCode = 1;
    process.emit('SIGTERM');
  };
  database.onChange = () => events.tell({ topic: 'catalog' });
  const jobs = new Jobs(database, events, (error, job) => log.error({ err: error, job: job.id }, `${job.title} failed`));
  await jobs.markInterrupted();
  onStop(() => jobs.cancelAll());
  const secrets = new Secrets(config.home);
  await secrets.mustFit(database);
  const lake = new Lake(database, secrets);
  await lake.open();
  const local = new LocalFiles(path.join(config.home, 'cache'), config.cacheBytes, lookers);
  lake.containers = new Containers(path.join(config.home, 'unpacked'), config.cacheBytes, lookers);
  const inspector = new Inspector(lookers, local);
  const files = new FilesAsTable(lake, inspector);
  const names = new RelationNames(database, events);
  const receipts = new ReceiptBook(database, events, log);
  onStop(() => receipts.settled());
  const queries = new Queries(lake, files, queryEngine, names, receipts, config, local, log, lanes);
  lake.indexes = new EngineIndexes(workEngine, path.join(config.home, 'indexes'), localizer(local, () => lake.storages()));
  const manifests = new ManifestCache(path.join(config.home, 'manifests'));
  onStop(() => manifests.close());
  lake.icebergReaders = (storage) => new EngineIcebergReaders(workEngine, local, storage, manifests);
  const upkeep = new DeltaUpkeep(workEngine, local, config, log);
  const givingWay = new GivingWay();
  const changes = new Changes(queries, upkeep, receipts, events, config, givingWay);
  const columns = new ColumnKeeper(database, lake, queries, events, log);
  const tokens = new Tokens(database, secrets.keyFor('tokens'));
  const crawler = new Crawler(lake, inspector, jobs, events, {
    database, statements: queries.statements,
    identityOf: (token) => tokens.identityOf(token),
    async registerAdditions(runId, as) {
      const additions = await additionsOf(database, runId, await listRelations(database));
      // One whose name is taken, say, stays for somebody to decide on.
      const done = await Promise.all(additions.map((each) => registerFinding(database, each, as).then(() => 1, (error: unknown) => {
        if (error instanceof LakeError) return 0;
        throw error;
      })));
      if (additions.length > 0) events.tell({ topic: 'catalog' });
      return done.reduce<number>((sum, each) => sum + each, 0);
    },
  });
  const tools = { database, lake, queries, changes, files, upkeep, events, receipts, config };
  const services: Services = {
    config, log, database, events, jobs, lake, inspector, files, queryEngine, workEngine, eventLoop, readiness,
    tokens, names, receipts, local, uploads: new Uploads(path.join(config.home, 'uploads')),
    queries, changes, givingWay, definitions: new Definitions(tools), loads: new Loads(tools), landings: new Landings({ lake, jobs, events, config, queries }, workEngine), writes: new FileWrites(tools), upkeep, icebergUpkeep: new IcebergUpkeep(workEngine, local, config),
    columns, find: new FindIndex(database, events), crawler, schedules: new Schedules(database, crawler, { kind: 'person', name: `${config.person}, by schedule` }, log),
  };
  if (config.demo) {
    await makeDemo(services, say);
    await startStandIns(services, onStop);
  }
  app.serve(services, () => database.isUp);
  await services.schedules.refresh();
  void emptyTrash(services);
  const trash = new Cron('17 * * * *', { timezone: 'UTC', protect: true, unref: true, catch: (error) => log.error({ err: error }, 'emptying the trash') }, async () => void (await emptyTrash(services)));
  onStop(async () => trash.stop());
  onStop(() => services.schedules.stop());
  // Whoever waits for an answer gets one before anything is taken down, and what they did a receipt.
  onStop(async () => {
    await Promise.all([queryEngine.close(), lookers.close()]);
    await app.drained(DRAIN_MS);
  });
  readiness.ready();
  await crawler.resume();
  events.tell({ topic: 'catalog' });
  say(`Kind Harbor is at http://${config.host.includes(':') ? `[${config.host}]` : config.host}:${config.port}`);
}

/** As many at a time as six tenths of this machine's memory hold, and never fewer than let short work pass long work. */
function laneSizes({ engineMemory }: Config): { queries: LaneSize; changes: LaneSize } {
  const fitting = Math.floor((os.totalmem() * 0.6) / bytesOf(engineMemory));
  return fitting >= 9 ? { queries: { quick: 3, long: 3 }, changes: { quick: 2, long: 1 } } : { queries: { quick: 2, long: 2 }, changes: { quick: 1, long: 1 } };
}

function makeHome(home: string): void {
  try {
    mkdirSync(home, { recursive: true });
  } catch (error) {
    throw new ConfigError(`The data folder ${home} cannot be made: ${(error as NodeJS.ErrnoException).code}. Set KIND_HARBOR_HOME to a folder that can be written.`);
  }
}

function hostsOf({ host, port, needsToken }: Config): Set<string> | 'any' {
  if (needsToken) return 'any';
  const names = new Set([host.includes(':') ? `[${host}]` : host, '127.0.0.1', 'localhost']);
  return new Set([...names].map((name) => `${name}:${port}`.toLowerCase()));
}

function listen(server: Server, { host, port }: Config): Promise<Server> {
  return new Promise((resolve, reject) => {
    server.once('error', (error: NodeJS.ErrnoException) => {
      const taken = error.code === 'EADDRINUSE';
      reject(new ConfigError(taken ? `Port ${port} on ${host} is taken. Stop what uses it, or set KIND_HARBOR_PORT to another.` : `The server cannot listen on ${host}:${port} (${error.code}).`));
    });
    server.listen(port, host, () => resolve(server));
  });
}
