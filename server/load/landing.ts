/** A whole database copied to a folder of the lake, one Parquet file a table, many at a time; both sides are counted. */
import { randomUUID } from 'node:crypto';
import { mkdir, rm } from 'node:fs/promises';
import path from 'node:path';
import PQueue from 'p-queue';
import { LakeError } from '../../core/errors';
import { TRUE } from '../../core/scan/predicate';
import { quoteText } from '../../core/sql/tokens';
import { joinPath } from '../../core/storage/paths';
import { LATEST } from '../../core/table/contract';
import { nameOfIdentity, type Identity } from '../access/access';
import type { EngineCalls } from '../engine/engine';
import { scanOf } from '../engine/scan-sql';
import type { Job, JobContext } from '../jobs/jobs';
import type { OpenStorage } from '../lake/lake';
import type { Services } from '../services';
import { DatabaseStore } from '../sources/database-store';
import type { ObjectKind, SourceDriver, SourceObject } from '../sources/driver';
import { fetchRows } from '../sources/fetch';
import { SourceTable } from '../sources/source-table';
import type { PostgresSettings } from '../sources/postgres';

export interface LandingRequest {
  /** `schema.table` of those that are wanted; patterns with `*` too. All tables where there are none. */
  tables: string[];
  kinds: ObjectKind[];
  /** Another database of the same server; that of the storage where absent. */
  database?: string;
  /** In place of names: a query whose rows name the tables, in one column as `schema.table` or in two. */
  query?: string;
  /** Where the tables go: `storage` and a folder in it. */
  to: { storage: string; folder: string };
  /** Tables at a time: 1 to 50. */
  atOnce: number;
}

export interface LandedTable {
  /** As the source spells it: `schema.table`. */
  table: string;
  path: string;
  rowsAtSource: number | null;
  rowsInLake: number | null;
  difference: number | null;
  bytes: number;
  millis: number;
  /** Nothing was there before. */
  isNew: boolean;
  /** Columns that were not in the file before. */
  newColumns: string[];
  problem: string | null;
}

export interface LandingResult {
  tables: LandedTable[];
  rows: number;
  failed: number;
}

const FILE = 'rows.parquet';

type LandingServices = Pick<Services, 'lake' | 'jobs' | 'events' | 'config' | 'queries'>;
/** Names that a query may give. */
const MOST_TABLES = 5000;

export class Landings {
  constructor(
    readonly services: LandingServices,
    readonly engine: EngineCalls,
  ) {}

  /** What would be copied, and where to; those that nothing was copied of before are new. */
  async plan(source: OpenStorage, request: LandingRequest, as: Identity): Promise<{ table: string; kind: ObjectKind; rows: number | null; path: string; isNew: boolean }[]> {
    const { store } = this.services.lake.storage(request.to.storage);
    const objects = await this.#wanted(source, request, as);
    const there = new Set((await store.list(request.to.folder)).map((file) => file.path));
    return objects.map((each) => ({ table: nameOf(each), kind: each.kind, rows: each.rows, path: placeOf(source, request, each), isNew: !there.has(placeOf(source, request, each)) }));
  }

  /** Starts the run and returns at once. One table's failure leaves the others. */
  async start(source: OpenStorage, request: LandingRequest, as: Identity): Promise<{ job: Job; finished: Promise<Job> }> {
    const target = this.services.lake.storage(request.to.storage);
    if (target.store instanceof DatabaseStore) throw new LakeError('bad-request', `${target.storage.name} is a database; tables are landed in a folder or a bucket.`);
    const objects = await this.#wanted(source, request, as);
    if (objects.length === 0) throw new LakeError('not-found', `${source.storage.name} has no table that fits ${request.tables.join(', ') || 'the kinds that are wanted'}.`);
    return this.services.jobs.start('landing', `Land ${source.storage.name} in ${request.to.storage}:${request.to.folder}`, nameOfIdentity(as), (context) => this.#run(source, target, request, objects, context));
  }

  async #run(source: OpenStorage, target: OpenStorage, request: LandingRequest, objects: readonly SourceObject[], context: JobContext): Promise<Record<string, unknown>> {
    const scratch = path.join(this.services.config.home, 'scratch', `landing-${randomUUID()}`);
    await mkdir(scratch, { recursive: true });
    const queue = new PQueue({ concurrency: request.atOnce });
    const landed: LandedTable[] = [];
    try {
      await Promise.all(objects.map((object) => queue.add(async () => {
        if (context.signal.aborted) return;
        const done = await this.#land(source, target, request, object, scratch);
        landed.push(done);
        context.progress(landed.length, objects.length, done.table);
        context.log(done.problem ? `${done.table}: ${done.problem}` : `${done.table}: ${done.rowsInLake} rows, ${done.bytes} bytes`);
      })));
      context.check();
    } finally {
      await rm(scratch, { recursive: true, force: true });
    }
    landed.sort((a, b) => (a.table < b.table ? -1 : 1));
    return { tables: landed, rows: landed.reduce((sum, each) => sum + (each.rowsInLake ?? 0), 0), failed: landed.filter((each) => each.problem !== null).length } satisfies LandingResult;
  }

  async #wanted(source: OpenStorage, request: LandingRequest, as: Identity): Promise<SourceObject[]> {
    const driver = driverOf(source, request);
    if (request.query === undefined) return wanted(driver, request);
    const { rows, columns } = await this.services.queries.run({ sql: request.query, as, maxRows: MOST_TABLES });
    if (columns.length < 1 || columns.length > 2) throw new LakeError('bad-request', `The query that names tables gives ${columns.length} columns; it is one (schema.table) or two (schema, table).`);
    const objects = new Map((await driver.objects()).map((each) => [nameOf(each), each]));
    const names = rows.map((row) => row.map(String).join('.'));
    const missing = names.filter((name) => !objects.has(name));
    if (missing.length > 0) throw new LakeError('not-found', `${source.storage.name} has no table ${missing.slice(0, 5).join(', ')}${missing.length > 5 ? `, and ${missing.length - 5} more` : ''}, which the query names. Names are matched as the database spells them.`);
    return [...new Set(names)].map((name) => objects.get(name)!);
  }

  async #land(source: OpenStorage, target: OpenStorage, request: LandingRequest, object: SourceObject, scratch: string): Promise<LandedTable> {
    const started = performance.now();
    const table = nameOf(object);
    const place = placeOf(source, request, object);
    const base: LandedTable = { table, path: place, rowsAtSource: null, rowsInLake: null, difference: null, bytes: 0, millis: 0, isNew: true, newColumns: [], problem: null };
    try {
      const driver = driverOf(source, request);
      const plan = await (await new SourceTable(driver, object, table).snapshot(LATEST)).plan(TRUE);
      const before = await this.#columnsBefore(target, place, scratch);
      const fetched = await fetchRows(scratch, plan, undefined, table);
      const out = path.join(scratch, `${randomUUID()}.parquet`);
      try {
        const { setup, relation } = scanOf({ name: 'landed', plan: fetched.plan, localPath: () => fetched.file });
        await this.engine.call('run', { sql: [...setup, `COPY (SELECT * FROM ${relation}) TO ${quoteText(out)} (FORMAT parquet, COMPRESSION zstd)`].join('; ') });
        const { rows: [counted] } = await this.engine.call('run', { sql: `SELECT num_rows FROM parquet_file_metadata(${quoteText(out)})` });
        const rowsAtSource = await driver.count(object);
        const rowsInLake = Number(counted![0]);
        await target.store.putFile(place, out);
        const bytes = (await target.store.head(place))?.bytes ?? 0;
        const newColumns = before === undefined ? [] : plan.fields.map(({ name }) => name).filter((name) => !before.includes(name));
        return { ...base, rowsAtSource, rowsInLake, difference: rowsInLake - rowsAtSource, bytes, isNew: before === undefined, newColumns, millis: performance.now() - started };
      } finally {
        await fetched.remove();
        await rm(out, { force: true });
      }
    } catch (error) {
      return { ...base, millis: performance.now() - started, problem: error instanceof LakeError ? error.message : 'An unexpected error; the server log has more.' };
    }
  }

  /** Of the file that stands there; undefined for none. */
  async #columnsBefore({ store }: OpenStorage, place: string, scratch: string): Promise<string[] | undefined> {
    if (!(await store.head(place))) return undefined;
    const here = (await store.localPaths?.([place]))?.get(place);
    const local = here ?? path.join(scratch, `${randomUUID()}.before.parquet`);
    if (here === undefined) await store.fetchFile(place, local);
    const { rows } = await this.engine.call('run', { sql: `SELECT name FROM parquet_schema(${quoteText(local)}) OFFSET 1` });
    return rows.map(([name]) => String(name));
  }
}

function driverOf({ store, storage }: OpenStorage, { database }: Pick<LandingRequest, 'database'>): SourceDriver {
  if (store instanceof DatabaseStore) return database === undefined ? store.driver : store.driver.inDatabase(database);
  throw new LakeError('bad-request', `${storage.name} is no database.`);
}

function nameOf({ schema, name }: SourceObject): string {
  return `${schema}.${name}`;
}

/** `{folder}/{database}/{schema}/{table}/`; names as the source spells them. */
function placeOf({ storage }: OpenStorage, { to, database: wanted }: LandingRequest, { schema, name }: SourceObject): string {
  const database = wanted ?? (storage.settings as PostgresSettings).database;
  return joinPath(to.folder, ...[database, schema, name].map(asStep), FILE);
}

/** Nothing that a path would read otherwise. */
function asStep(name: string): string {
  return name.replace(/[/\\\0]/g, '_').replace(/^\.+/, '_');
}

async function wanted(driver: SourceDriver, { tables, kinds }: LandingRequest): Promise<SourceObject[]> {
  const patterns = tables.map((each) => new RegExp(`^${each.split('*').map((part) => part.replace(/[.+?^${}()|[\]\\]/g, '\\$&')).join('.*')}$`, 'i'));
  return (await driver.objects()).filter((each) => (kinds.length === 0 || kinds.includes(each.kind)) && (patterns.length === 0 || patterns.some((pattern) => pattern.test(nameOf(each)))));
}

