/** A registered table made one of the other open format, in its folder: metadata alone is written. */
import { mustBePossible, type ConversionPlan } from '../../core/convert/conversion';
import { convertToIceberg, planToIceberg, type DeltaSource } from '../../core/convert/delta-to-iceberg';
import { convertToDelta, planToDelta, type IcebergSource } from '../../core/convert/iceberg-to-delta';
import { commitPath, LOG_FOLDER } from '../../core/delta/log';
import { latestState } from '../../core/delta/operations';
import type { LogState } from '../../core/delta/state';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { currentSnapshot } from '../../core/iceberg/metadata';
import { CatalogPointer, memoryCell } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import type { DataFile } from '../../core/scan/plan';
import { joinPath } from '../../core/storage/paths';
import { changeFormat, nameOf, readPointer, type Relation } from '../catalog/relations';
import type { Services } from '../services';
import { randomIds, systemClock } from './lake';
import { writeWithReceipt } from './writes';

export type ConversionServices = Pick<Services, 'database' | 'lake' | 'upkeep' | 'events' | 'receipts'>;

export interface TableConversion {
  from: 'delta' | 'iceberg';
  to: 'delta' | 'iceberg';
  plan: ConversionPlan;
}

export async function planConversion(services: ConversionServices, relation: Relation): Promise<TableConversion> {
  const table = services.lake.table(relation);
  if (table instanceof DeltaTable) return { from: 'delta', to: 'iceberg', plan: planToIceberg(await deltaSource(services, relation, table, await latestState(table))) };
  if (table instanceof IcebergTable) {
    const plan = planToDelta(await icebergSource(table));
    const log = await table.store.listFolder(joinPath(table.root, LOG_FOLDER));
    return { from: 'iceberg', to: 'delta', plan: log.files.length === 0 ? plan : { ...plan, obstacles: [...plan.obstacles, { what: LOG_FOLDER, why: 'a Delta log of before lies in the folder; move it elsewhere, or copy the table into a new folder' }] } };
  }
  throw new LakeError('unsupported', `${nameOf(relation)} is ${relation.format ?? relation.kind}; Delta and Iceberg tables are converted.`, { table: nameOf(relation), ...(relation.format === 'parquet' ? { hint: 'A folder of Parquet files is adopted in place.' } : {}) });
}

/** The name in the catalog then means the table of the other format. The metadata of before stays in the folder. */
export async function convertTable(services: ConversionServices, relation: Relation, who: string): Promise<{ version: number; receiptId: string }> {
  const { database, lake, events } = services;
  const name = nameOf(relation);
  const table = lake.table(relation);
  const storage = lake.storageOf(relation);
  const { to, plan } = await planConversion(services, relation);
  mustBePossible(name, plan);
  const ports = { clock: systemClock, ids: randomIds, who };
  const root = relation.location ?? '';
  const moved = () => new LakeError('conflict', `${name} was written while it was converted, so it stays what it was.`, { table: name, hint: 'Convert it again.' });
  const result = await writeWithReceipt(services, who, `CONVERT ${name} TO ${to.toUpperCase()}`, relation, async () => {
    if (table instanceof DeltaTable) {
      const source = await deltaSource(services, relation, table, await latestState(table));
      const cell = memoryCell();
      const snapshot = await convertToIceberg(source, lake.icebergTable(storage, root, name, new CatalogPointer(storage.store, root, cell, randomIds)), ports);
      if ((await latestState(table)).version !== source.state.version) throw moved();
      await changeFormat(database, relation, undefined, { format: 'iceberg', definition: { kind: 'lake', pointer: 'catalog' }, pointer: await cell.read() }, who);
      return snapshot['sequence-number'] ?? 0;
    }
    const source = await icebergSource(table as IcebergTable);
    const target = new DeltaTable(storage.store, root, name);
    const version = await convertToDelta(source, target, ports);
    try {
      if ((await (table as IcebergTable).current()).path !== source.path) throw moved();
      await changeFormat(database, relation, (await readPointer(database, relation.id)) === undefined ? undefined : source.path, { format: 'delta', definition: { kind: 'lake', pointer: 'files' } }, who);
    } catch (error) {
      await storage.store.delete(commitPath(root, version));
      throw error;
    }
    return version;
  });
  events.tell({ topic: 'catalog' });
  events.tell({ topic: 'table', name });
  return result;
}

export async function deltaSource({ lake, upkeep }: Pick<ConversionServices, 'lake' | 'upkeep'>, relation: Relation, table: DeltaTable, state: LogState): Promise<DeltaSource> {
  const snapshot = await table.snapshot({ kind: 'number', number: BigInt(state.version) });
  const files = await snapshot.files();
  const uncounted = files.filter((file) => file.rows === undefined);
  const storage = lake.storageOf(relation);
  const counted = new Map((await upkeep.withRows(storage, uncounted)).map((file): [string, DataFile] => [file.path, file]));
  const columns = await lake.icebergTable(storage, relation.location ?? '', table.name).columnsOf(files);
  return { name: table.name, state, schema: snapshot.schema, columns, files: files.map((file) => (file.rows === undefined ? { ...file, rows: counted.get(file.path)!.rows! - (file.rowFilter?.count ?? 0) } : file)) };
}

async function icebergSource(table: IcebergTable): Promise<IcebergSource & { path: string }> {
  const { path, metadata } = await table.current();
  const { snapshot, files } = table.stateOf(path, metadata, currentSnapshot(metadata));
  const live = await files.files();
  const other = live.find(({ format }) => format !== undefined);
  if (other) throw new LakeError('unsupported', `${table.name} has a file in the format ${other.format}, which Delta does not know: ${other.path}. Nothing was changed.`, { table: table.name, path: other.path, hint: 'OPTIMIZE the table first, which writes its files as Parquet, then convert it.' });
  return { path, name: table.name, metadata, schema: snapshot.schema, files: live, entryOf: (file) => table.entryOf(file) };
}
