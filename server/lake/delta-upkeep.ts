/** Upkeep of Delta tables as it is run: checkpoints after commits, compaction through the engine, clearing of files and of the log. */
import { randomUUID } from 'node:crypto';
import { mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import type { Logger } from 'pino';
import { isCheckpointDue, writeCheckpoint, type CheckpointPorts } from '../../core/delta/checkpoint-write';
import { checkLog, provedState, repairLog, type LogReport, type Repaired, type RepairWish } from '../../core/delta/log-check';
import { changeRows, latestState } from '../../core/delta/operations';
import { targetFileBytes } from '../../core/delta/properties';
import { rowTrackingColumns } from '../../core/delta/row-tracking';
import { mappingMode, schemaOf } from '../../core/delta/schema';
import type { LogState } from '../../core/delta/state';
import { DeltaTable } from '../../core/delta/table';
import { planCompaction, planLogExpiry, planVacuum, vacuum, type CompactionGroup, type CompactionOptions, type VacuumPlan } from '../../core/delta/upkeep';
import { planScan, type DataFile } from '../../core/scan/plan';
import { TRUE } from '../../core/scan/predicate';
import type { Field } from '../../core/schema/types';
import { quoteName } from '../../core/sql/tokens';
import type { WrittenFile } from '../../core/table/written-file';
import { perFile } from '../change/new-rows';
import { columnPartitions, writeFiles } from '../change/write-files';
import type { Config } from '../config';
import type { EngineCalls } from '../engine/engine';
import { quoteList } from '../engine/instances';
import { POSITION } from '../engine/parquet-scan';
import { loadRowFilters, scanOf } from '../engine/scan-sql';
import { EngineActionFiles } from './action-files';
import { randomIds, systemClock, type OpenStorage } from './lake';
import { laidOut, type Layout } from './layout';
import type { LocalFiles } from './local-files';
import type { LakeStore } from '../storage/lake-store';

/** Nothing that is written here takes longer; files younger than this may belong to a write that runs. */
const LONGEST_WRITE_MS = 2 * 3_600_000;

export interface CompactionWish extends Omit<CompactionOptions, 'everyFile'> {
  layout?: Layout;
}

export interface CompactionOutcome {
  version: number | null;
  filesBefore: number;
  filesAfter: number;
  bytesBefore: number;
  bytesAfter: number;
}

export class DeltaUpkeep {
  constructor(
    readonly engine: EngineCalls,
    readonly local: LocalFiles,
    readonly config: Pick<Config, 'home'>,
    readonly log: Pick<Logger, 'warn'>,
  ) {}

  /** Writes the checksum, and sums the log up when it is time. Both only help readers, so failing to write them fails nothing. */
  async afterCommit(table: DeltaTable, storage: OpenStorage): Promise<void> {
    try {
      await table.settled();
      const log = await table.newest();
      const { memory } = log;
      const last = Math.max(memory.summedUp, ...log.checkpoints.keys());
      if (!isCheckpointDue(await table.state(log.latest, log), last)) return;
      // Nobody else of this process begins with the same.
      memory.summedUp = log.latest;
      await this.#checkpointAt(table, storage, log.latest);
    } catch (error) {
      this.log.warn({ err: error, table: table.name }, 'a checkpoint could not be written');
    }
  }

  async checkpoint(table: DeltaTable, storage: OpenStorage): Promise<{ version: number; path: string }> {
    return this.#checkpointAt(table, storage, (await table.newest()).latest);
  }

  /** From what storage has, and not from what is remembered. */
  async #checkpointAt(table: DeltaTable, { store }: OpenStorage, version: number): Promise<{ version: number; path: string }> {
    const state = await provedState(table, version, () => new DeltaTable(store, table.root, table.name, table.indexes));
    return { version, path: await writeCheckpoint(table, state, this.#checkpointPorts(store)) };
  }

  #checkpointPorts(store: LakeStore): CheckpointPorts {
    return { files: new EngineActionFiles(this.engine, store, path.join(this.config.home, 'scratch', 'checkpoints')), clock: systemClock, ids: randomIds };
  }

  /** Whether checkpoints and checksums say what the commits say, and which versions are whole. */
  checkLog(table: DeltaTable): Promise<LogReport> {
    return checkLog(table);
  }

  repairLog(table: DeltaTable, { store }: OpenStorage, wish: RepairWish, who: string): Promise<Repaired> {
    return repairLog(table, { ...this.#checkpointPorts(store), who }, wish);
  }

  planVacuum(table: DeltaTable, retentionMs?: number): Promise<VacuumPlan> {
    return planVacuum(table, { now: Date.now(), longestWriteMs: LONGEST_WRITE_MS, ...(retentionMs === undefined ? {} : { retentionMs }) });
  }

  async vacuum(table: DeltaTable, retentionMs: number | undefined, agreed: { toBreak: boolean }): Promise<VacuumPlan> {
    const plan = await this.planVacuum(table, retentionMs);
    await vacuum(table, plan, agreed);
    return plan;
  }

  async expireLog(table: DeltaTable, run: boolean): Promise<{ files: number; oldestVersion: number }> {
    const { paths, oldestVersion } = await planLogExpiry(table, Date.now());
    if (run) for (const each of paths) await table.store.delete(each);
    return { files: paths.length, oldestVersion };
  }

  /** Parquet files with the number of their rows, from their footers. */
  async withRows(storage: OpenStorage, files: readonly DataFile[]): Promise<DataFile[]> {
    if (files.length === 0) return [];
    const lease = await this.local.lease(storage, files);
    try {
      const { rows } = await this.engine.call('run', { sql: `SELECT file_name, num_rows FROM parquet_file_metadata(${quoteList(files.map((file) => lease.pathOf(file)))})` });
      const counts = new Map(rows.map(([file, count]) => [String(file), Number(count)]));
      return files.map((file) => ({ ...file, rows: counts.get(lease.pathOf(file))! }));
    } finally {
      lease.release();
    }
  }

  /** What compaction would put together, and what that would come to. */
  async planCompaction(table: DeltaTable, wish: CompactionWish): Promise<CompactionGroup[]> {
    return planCompaction(table, await latestState(table), { ...wish, everyFile: wish.layout !== undefined });
  }

  async compact(table: DeltaTable, storage: OpenStorage, wish: CompactionWish, who: string): Promise<CompactionOutcome> {
    const base = await latestState(table);
    const groups = await planCompaction(table, base, { ...wish, everyFile: wish.layout !== undefined });
    const replaced = groups.flatMap((group) => group.keys);
    const bytesBefore = groups.reduce((sum, group) => sum + group.bytes, 0);
    if (replaced.length === 0) return { version: null, filesBefore: 0, filesAfter: 0, bytesBefore: 0, bytesAfter: 0 };
    const scratch = path.join(this.config.home, 'scratch', randomUUID());
    mkdirSync(scratch, { recursive: true });
    try {
      const files: WrittenFile[] = [];
      for (const group of groups) files.push(...(await this.#rewrite(table, base, storage, group, wish, scratch)));
      const bytesAfter = files.reduce((sum, file) => sum + file.bytes, 0);
      const version = await changeRows(table, {
        base, replaced, files, operation: 'OPTIMIZE',
        parameters: { predicate: '[]', zOrderBy: JSON.stringify(wish.layout?.kind === 'z-order' ? wish.layout.columns : []), ...(wish.layout?.kind === 'sort' ? { sortBy: JSON.stringify(wish.layout.columns) } : {}), auto: 'false' },
        metrics: { numRemovedFiles: replaced.length, numAddedFiles: files.length, numRemovedBytes: bytesBefore, numAddedBytes: bytesAfter },
      }, { clock: systemClock, ids: randomIds, who });
      await this.afterCommit(table, storage);
      return { version, filesBefore: replaced.length, filesAfter: files.length, bytesBefore, bytesAfter };
    } finally {
      rmSync(scratch, { recursive: true, force: true });
    }
  }

  async #rewrite(table: DeltaTable, base: LogState, storage: OpenStorage, group: CompactionGroup, wish: CompactionWish, scratch: string): Promise<WrittenFile[]> {
    const { metadata } = base;
    const schema = schemaOf(metadata, table.name);
    const mode = mappingMode(metadata.configuration, table.name);
    const tracking = rowTrackingColumns(metadata);
    const live = await base.files.get(group.keys);
    const adds = group.keys.map((key) => live.get(key)!);
    const files = adds.map((add) => table.dataFile(add, schema, metadata.partitionColumns));
    const extra: Field[] = tracking ? [tracking.id, tracking.version].map((name) => ({ name, type: { kind: 'long' }, required: false })) : [];
    const plan = planScan({ kind: 'parquet', match: mode === 'id' ? 'field-id' : 'name' }, [...schema.fields, ...extra], files, TRUE);
    const lease = await this.local.forPlan(storage, plan);
    try {
      const { setup, relation } = scanOf({ name: 'c', plan, localPath: (file) => lease.pathOf(file), rows: await loadRowFilters(plan), withPositions: tracking !== undefined });
      const columns = schema.fields.map((each) => quoteName(each.name));
      if (tracking) {
        const numbers = new Map(adds.map((add, number) => [number, { baseRowId: Number(add.baseRowId ?? 0), version: Number(add.defaultRowCommitVersion ?? 0) }]));
        const of = (pick: 'baseRowId' | 'version') => perFile(numbers, `${POSITION.file}::INTEGER`, (file) => file[pick]);
        columns.push(`coalesce(${quoteName(tracking.id)}, ${of('baseRowId')} + ${POSITION.row}) AS ${quoteName(tracking.id)}`, `coalesce(${quoteName(tracking.version)}, ${of('version')}) AS ${quoteName(tracking.version)}`);
      }
      const rows = `SELECT ${columns.join(', ')} FROM ${laidOut(relation, wish.layout, schema.fields, table.name)}`;
      const step = (sql: string, before: string[] = []) => this.engine.call('run', { sql: [...before, sql].join('; ') });
      return await writeFiles({ step: (sql) => step(sql, setup), scratch, store: storage.store }, {
        rows, fields: schema.fields, partitions: columnPartitions(schema.fields, metadata.partitionColumns), partition: table.partitionOf(adds[0]!, schema, metadata.partitionColumns).constants, extra: extra.map(({ name, type }) => ({ name, type })), folder: table.root, withIds: mode !== 'none',
        targetBytes: wish.targetBytes ?? targetFileBytes(metadata.configuration),
      });
    } finally {
      lease.release();
    }
  }
}
