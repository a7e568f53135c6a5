/** A registered table made one of the other open format, in its folder: metadata alone is written. */
import type { ConversionPlan } from '../../core/convert/conversion';
import { convertToIceberg, planToIceberg, type DeltaSource } from '../../core/convert/delta-to-iceberg';
import { convertToDelta, planToDelta, type IcebergSource } from '../../core/convert/iceberg-to-delta';
import { latestState } from '../../core/delta/operations';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { currentSnapshot } from '../../core/iceberg/metadata';
import { CatalogPointer } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import type { DataFile } from '../../core/scan/plan';
import { LATEST } from '../../core/table/contract';
import { changeFormat, nameOf, type Relation } from '../catalog/relations';
import type { Services } from '../services';
import { randomIds, systemClock } from './lake';
import { writeWithReceipt } from './writes';

type ConversionServices = Pick<Services, 'database' | 'lake' | 'upkeep' | 'events' | 'receipts' | 'config'>;

export interface TableConversion {
  from: 'delta' | 'iceberg';
  to: 'delta' | 'iceberg';
  plan: ConversionPlan;
}

export async function planConversion(services: ConversionServices, relation: Relation): Promise<TableConversion> {
  const table = services.lake.table(relation);
  if (table instanceof DeltaTable) return { from: 'delta', to: 'iceberg', plan: planToIceberg(await deltaSource(services, relation, table)) };
  if (table instanceof IcebergTable) return { from: 'iceberg', to: 'delta', plan: planToDelta(await icebergSource(table)) };
  throw new LakeError('unsupported', `${nameOf(relation)} is ${relation.format ?? relation.kind}; Delta and Iceberg tables are converted.`, { table: nameOf(relation), ...(relation.format === 'parquet' ? { hint: 'A folder of Parquet files is adopted in place.' } : {}) });
}

/** The name in the catalog then means the table of the other format. The metadata of before stays in the folder. */
export async function convertTable(services: ConversionServices, relation: Relation): Promise<{ version: number; receiptId: string }> {
  const { database, lake, events, config } = services;
  const name = nameOf(relation);
  const table = lake.table(relation);
  const storage = lake.storageOf(relation);
  const { to } = await planConversion(services, relation);
  const ports = { clock: systemClock, ids: randomIds, who: config.person };
  const root = relation.location ?? '';
  const result = await writeWithReceipt(services, `CONVERT ${name} TO ${to.toUpperCase()}`, relation, async () => {
    if (table instanceof DeltaTable) {
      let current: string | undefined;
      const cell = { read: async () => current, swap: async (expected: string | undefined, next: string) => {
        if (expected !== current) return false;
        current = next;
        return true;
      } };
      const source = await deltaSource(services, relation, table);
      const made = lake.icebergTable(storage, root, name, new CatalogPointer(storage.store, root, cell, randomIds));
      const snapshot = await convertToIceberg(source, made, ports);
      await changeFormat(database, relation, { format: 'iceberg', definition: { kind: 'lake', pointer: 'catalog' }, pointer: current }, config.person);
      return snapshot['sequence-number'] ?? 0;
    }
    const version = await convertToDelta(await icebergSource(table as IcebergTable), new DeltaTable(storage.store, root, name), ports);
    await changeFormat(database, relation, { format: 'delta', definition: { kind: 'lake', pointer: 'files' } }, config.person);
    return version;
  });
  events.tell({ topic: 'catalog' });
  events.tell({ topic: 'table', name });
  return result;
}

async function deltaSource({ lake, upkeep }: ConversionServices, relation: Relation, table: DeltaTable): Promise<DeltaSource> {
  const [state, snapshot] = [await latestState(table), await table.snapshot(LATEST)];
  const files = await snapshot.files();
  const uncounted = files.filter((file) => file.rows === undefined);
  const counted = new Map((await upkeep.withRows(lake.storageOf(relation), uncounted)).map((file): [string, DataFile] => [file.path, file]));
  return { name: table.name, state, schema: snapshot.schema, files: files.map((file) => (file.rows === undefined ? { ...file, rows: counted.get(file.path)!.rows! - (file.rowFilter?.count ?? 0) } : file)) };
}

async function icebergSource(table: IcebergTable): Promise<IcebergSource> {
  const { path, metadata } = await table.current();
  const { snapshot, files } = table.stateOf(path, metadata, currentSnapshot(metadata));
  return { name: table.name, metadata, schema: snapshot.schema, files: await files.files(), entryOf: (file) => table.entryOf(file) };
}
