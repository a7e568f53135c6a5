/** Queries and changes over tables of one folder, without a catalog database: for tests of what SQL does to tables. */
import path from 'node:path';
import { createDeltaTable, type NewTable } from '../../core/delta/operations';
import type { Identity } from '../access/access';
import type { CheckpointIndexes } from '../../core/delta/live-files';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { fullOptions } from '../../core/folder/read-options';
import { FolderTable } from '../../core/folder/table';
import { createIcebergTable, type NewTable as NewIcebergTable } from '../../core/iceberg/operations';
import { FilePointer } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import { parseTypeName } from '../../core/schema/type-names';
import { field } from '../../core/schema/types';
import { quoteText } from '../../core/sql/tokens';
import type { LakeTable } from '../../core/table/contract';
import type { ReceiptBook } from '../catalog/receipt-book';
import type { Receipt } from '../catalog/receipts';
import type { RelationNames } from '../catalog/relation-names';
import type { Relation } from '../catalog/relations';
import { Changes, type ChangeResult } from '../change/changes';
import type { Config } from '../config';
import type { EngineCalls } from '../engine/engine';
import type { Events } from '../events';
import { EngineIndexes, localizer } from '../lake/checkpoint-indexes';
import { DeltaUpkeep } from '../lake/delta-upkeep';
import { EngineIcebergReaders } from '../lake/iceberg-readers';
import { IcebergUpkeep } from '../lake/iceberg-upkeep';
import { ManifestCache } from '../lake/manifest-cache';
import type { FilesAsTable } from '../lake/files-as-table';
import { randomIds, systemClock, type Lake, type OpenStorage } from '../lake/lake';
import { LocalFiles } from '../lake/local-files';
import { Queries } from '../query/queries';
import type { LakeStore } from '../storage/lake-store';
import { asStorage, temporaryFolder } from './lake-tools';

const TESTER: Identity = { kind: 'person', name: 'tester' };

export class SqlBench {
  readonly #home = temporaryFolder();
  readonly #tables = new Map<string, LakeTable>();
  readonly #indexes: CheckpointIndexes | undefined;
  readonly #manifests: ManifestCache;
  readonly storage: OpenStorage;
  readonly receipts: Omit<Receipt, 'at'>[] = [];
  readonly queries: Queries;
  readonly changes: Changes;
  readonly upkeep: DeltaUpkeep;
  readonly icebergUpkeep: IcebergUpkeep;

  /** `indexFromBytes`: checkpoints of so many bytes are read by an index. Tables are named `bay.name` and lie in the folder `name` of the store. */
  constructor(readonly store: LakeStore, readonly engine: EngineCalls, options: { indexFromBytes?: number } = {}) {
    const storage = asStorage(store);
    this.storage = storage;
    this.#manifests = new ManifestCache(path.join(this.#home.path, 'manifests'));
    const lake = {
      storages: () => [storage], storageOf: () => storage, storage: () => storage,
      table: (relation: Relation) => this.table(relation.name),
    } as unknown as Lake;
    const names = {
      get: async (namespace: string, name: string) => {
        if (!this.#tables.has(name)) throw new LakeError('not-found', `There is no table ${namespace}.${name}.`);
        return { namespace, name, definition: { kind: 'table' } } as unknown as Relation;
      },
    } as unknown as RelationNames;
    const receipts = { put: (receipt: Omit<Receipt, 'at'>) => this.receipts.push(receipt), settled: async () => undefined, has: async () => false } as unknown as ReceiptBook;
    const config = { home: this.#home.path, queryMillis: 60_000 } as Config;
    this.queries = new Queries(lake, {} as FilesAsTable, engine, names, receipts, config, new LocalFiles(path.join(this.#home.path, 'cache'), 1e9));
    if (options.indexFromBytes !== undefined) this.#indexes = new EngineIndexes(engine, path.join(this.#home.path, 'indexes'), localizer(this.queries.local, () => [storage]), options.indexFromBytes);
    this.upkeep = new DeltaUpkeep(engine, this.queries.local, config, { warn: (error: unknown) => { throw error; } });
    this.icebergUpkeep = new IcebergUpkeep(engine, this.queries.local, config);
    this.changes = new Changes(this.queries, this.upkeep, receipts, { tell: () => undefined } as unknown as Events, config);
  }

  table(name: string): LakeTable {
    return this.#tables.get(name)!;
  }

  delta(name: string): DeltaTable {
    return this.table(name) as DeltaTable;
  }

  async create(name: string, options: NewTable): Promise<DeltaTable> {
    const table = this.open(name);
    await createDeltaTable(table, options, { clock: systemClock, ids: randomIds, who: 'tester' });
    return table;
  }

  /** A table that stands in the folder already, or one that is about to be made. */
  open(name: string): DeltaTable {
    const table = new DeltaTable(this.store, name, `bay.${name}`, this.#indexes);
    this.#tables.set(name, table);
    return table;
  }

  /** The Parquet files of a folder as a table, with the columns of its first file. */
  async openFolder(name: string): Promise<FolderTable> {
    const files = (await this.store.list(name)).filter(({ path: file }) => file.endsWith('.parquet'));
    const { rows } = await this.engine.call('run', { sql: `DESCRIBE SELECT * FROM read_parquet(${quoteText(path.join(this.store.root!, files[0]!.path))})` });
    const fields = rows.map(([column, type]) => field(String(column), parseTypeName(String(type))));
    const log = { all: async () => [], record: async () => ({ version: 1, at: 0, files }) };
    const table = new FolderTable(this.store, name, `bay.${name}`, { pattern: '*.parquet', options: fullOptions({ format: 'parquet' }), fields, partitionColumns: [] }, log);
    this.#tables.set(name, table);
    return table;
  }

  iceberg(name: string): IcebergTable {
    return this.table(name) as IcebergTable;
  }

  async createIceberg(name: string, options: NewIcebergTable): Promise<IcebergTable> {
    const table = this.openIceberg(name);
    await createIcebergTable(table, options, { clock: systemClock, ids: randomIds, who: 'tester' });
    return table;
  }

  /** As `open`, followed by its own files. */
  openIceberg(name: string): IcebergTable {
    const readers = new EngineIcebergReaders(this.engine, this.queries.local, this.storage, this.#manifests);
    const table = new IcebergTable(this.store, name, `bay.${name}`, new FilePointer(this.store, name), readers);
    this.#tables.set(name, table);
    return table;
  }

  async rows(sql: string): Promise<unknown[][]> {
    return (await this.queries.run({ sql, maxRows: 1_000_000, as: TESTER })).rows;
  }

  run(sql: string): Promise<ChangeResult> {
    return this.changes.run({ sql, as: TESTER });
  }

  /** The counts of a change by name. */
  async count(sql: string): Promise<Record<string, unknown>> {
    const { columns, rows } = await this.run(sql);
    return Object.fromEntries(columns.map(({ name }, index) => [name, rows[0]![index]]));
  }

  remove(): void {
    this.#home.remove();
  }
}
