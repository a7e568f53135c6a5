/** What an Iceberg table's deletes and columns are, asked of the engine. */
import type { EqualityDelete, EqualityRequest, FileColumn, IcebergReaders, RowsFile } from '../../core/iceberg/ports';
import { TRUE } from '../../core/scan/predicate';
import { planScan, type DataFile } from '../../core/scan/plan';
import { field, type Field } from '../../core/schema/types';
import { quoteName } from '../../core/sql/tokens';
import type { RowPositions } from '../../core/values/row-positions';
import type { EngineCalls } from '../engine/engine';
import { quoteList } from '../engine/instances';
import { parquetReader, POSITION } from '../engine/parquet-scan';
import { scanOf } from '../engine/scan-sql';
import { translateError } from '../engine/translate';
import type { OpenStorage } from './lake';
import { namingTheFile } from './blame';
import { rootsOf } from './inspect';
import type { Lease, LocalFiles } from './local-files';
import type { ManifestCache } from './manifest-cache';

/** Columns of position delete files ("Reserved Field IDs"). */
const DELETE_FIELDS: Field[] = [field('file_path', 'string', { id: 2147483546 }), field('pos', 'long', { id: 2147483545 })];
/** Files of which the columns are asked at a time. */
const BATCH = 2000;

export class EngineIcebergReaders implements IcebergReaders {
  constructor(
    readonly engine: EngineCalls,
    readonly local: LocalFiles,
    readonly storage: OpenStorage,
    readonly manifests: ManifestCache,
  ) {}

  manifest(path: string, bytes: number) {
    return this.manifests.read(this.storage, path, bytes);
  }

  /** What the engine complains of is told by the file. */
  async #reading<T>(files: readonly RowsFile[], lease: Lease, work: () => Promise<T>): Promise<T> {
    try {
      return await work();
    } catch (error) {
      const suspects = files.map(({ path, bytes }) => ({ local: lease.pathOf({ path }), name: `${this.storage.storage.name}:${path}`, path, bytes }));
      throw await namingTheFile(translateError(error, { roots: rootsOf(this.storage), copies: lease.copies }), this.engine, suspects);
    } finally {
      lease.release();
    }
  }

  async positions(deletes: readonly RowsFile[]): Promise<Map<string, RowPositions>> {
    const lease = await this.local.lease(this.storage, deletes);
    return this.#reading(deletes, lease, async () => {
      const files = quoteList(deletes.map((each) => lease.pathOf(each)));
      const { rows } = await this.engine.call('run', { sql: `SELECT file_path, list(DISTINCT pos ORDER BY pos) FROM ${parquetReader(DELETE_FIELDS, files, deletes.map(deleteFile), 'field-id')} GROUP BY 1` });
      return new Map(rows.map(([path, list]) => [String(path), positionsOf(list)]));
    });
  }

  /** Null equals null here ("Equality Delete Files"). */
  async matches({ files, deletes, fields }: EqualityRequest): Promise<RowPositions[]> {
    const whole = files.map((file): DataFile => {
      const { rowFilter: _, ...rest } = file;
      return rest;
    });
    const plan = planScan({ kind: 'parquet', match: 'field-id' }, [...fields], whole, TRUE);
    const lease = await this.local.lease(this.storage, [...files, ...deletes]);
    return this.#reading([...files, ...deletes], lease, async () => {
      const { setup, relation } = scanOf({ name: 'deleted', plan, localPath: (file) => lease.pathOf(file), withPositions: true });
      const conditions = bySameColumns(deletes).map(({ ids, group }) => {
        const by = ids.map((id) => fields.find((each) => each.id === id)!);
        const from = parquetReader(by, quoteList(group.map((each) => lease.pathOf(each))), group.map(deleteFile), 'field-id');
        return `EXISTS (SELECT 1 FROM ${from} AS d WHERE ${by.map(({ name }) => `d.${quoteName(name)} IS NOT DISTINCT FROM t.${quoteName(name)}`).join(' AND ')})`;
      });
      const sql = `SELECT ${POSITION.file}, list(${POSITION.row} ORDER BY ${POSITION.row}) FROM ${relation} AS t WHERE ${conditions.join(' OR ')} GROUP BY 1`;
      const { rows } = await this.engine.call('run', { sql: [...setup, sql].join('; ') });
      const found = new Map(rows.map(([number, list]) => [Number(number), positionsOf(list)]));
      return files.map((_, index) => found.get(index) ?? new Uint32Array());
    });
  }

  async columns(files: readonly RowsFile[]): Promise<FileColumn[][]> {
    const all: FileColumn[][] = [];
    for (let from = 0; from < files.length; from += BATCH) {
      const some = files.slice(from, from + BATCH);
      const lease = await this.local.lease(this.storage, some);
      await this.#reading(some, lease, async () => {
        const { rows } = await this.engine.call('run', { sql: `SELECT file_name, name, num_children, field_id FROM parquet_schema(${quoteList(some.map((file) => lease.pathOf(file)))})` });
        const byFile = new Map<string, unknown[][]>();
        for (const row of rows) {
          const list = byFile.get(String(row[0]));
          if (list) list.push(row);
          else byFile.set(String(row[0]), [row]);
        }
        all.push(...some.map((file) => treeOf(byFile.get(lease.pathOf(file)) ?? [])));
      });
    }
    return all;
  }
}

function positionsOf(list: unknown): RowPositions {
  return Uint32Array.from((list as (string | number)[]).map(Number));
}

/** As much of a data file as a reader of it needs. */
function deleteFile({ path, bytes }: { path: string; bytes: number }): DataFile {
  return { path, bytes, partition: {}, constants: {}, partitionStats: () => undefined, stats: () => undefined };
}

function bySameColumns(deletes: readonly EqualityDelete[]): { ids: number[]; group: EqualityDelete[] }[] {
  const groups = new Map<string, { ids: number[]; group: EqualityDelete[] }>();
  for (const each of deletes) {
    const ids = [...each.ids].sort((a, b) => a - b);
    const group = groups.get(ids.join()) ?? { ids, group: [] };
    group.group.push(each);
    groups.set(ids.join(), group);
  }
  return [...groups.values()];
}

/** The engine gives a file's schema in depth-first order, the root first. */
function treeOf(rows: readonly unknown[][]): FileColumn[] {
  let next = 0;
  const take = (): FileColumn => {
    const [, name, children, id] = rows[next++]!;
    return { name: String(name), ...(id === null || id === undefined ? {} : { id: Number(id) }), children: Array.from({ length: Number(children ?? 0) }, take) };
  };
  return rows.length === 0 ? [] : take().children;
}
