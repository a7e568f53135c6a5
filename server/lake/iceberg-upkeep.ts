/** Upkeep of Iceberg tables that writes rows: data files put together, rows that were deleted left out for good. */
import { randomUUID } from 'node:crypto';
import { mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { newDataFile } from '../../core/iceberg/data-files';
import { keyOf, commitSnapshot } from '../../core/iceberg/snapshot-commit';
import { planRewrite, type RewriteGroup } from '../../core/iceberg/rewrite';
import { parseSchema } from '../../core/iceberg/schema';
import { schemaOf, versionOf } from '../../core/iceberg/metadata';
import type { IcebergTable } from '../../core/iceberg/table';
import { TRUE } from '../../core/scan/predicate';
import { planScan } from '../../core/scan/plan';
import type { Field } from '../../core/schema/types';
import { quoteName } from '../../core/sql/tokens';
import type { WrittenFile } from '../../core/table/written-file';
import { branchState, filesWanted, lineageFields, type BranchState } from '../change/iceberg-change';
import { perFile, type RowOrigin } from '../change/new-rows';
import { writeFiles } from '../change/write-files';
import type { Config } from '../config';
import type { EngineCalls } from '../engine/engine';
import { POSITION } from '../engine/parquet-scan';
import { loadRowFilters, scanOf } from '../engine/scan-sql';
import { randomIds, systemClock, type OpenStorage } from './lake';
import { laidOut, type Layout } from './layout';
import type { LocalFiles } from './local-files';

export interface RewriteRequest {
  layout?: Layout;
  targetBytes?: number;
  /** Only files of which rows are deleted. */
  onlyDeletes?: boolean;
  branch?: string;
}

export interface RewriteOutcome {
  version: number | null;
  filesBefore: number;
  filesAfter: number;
  bytesBefore: number;
  bytesAfter: number;
  deleteFilesRemoved: number;
}

const TARGET_BYTES = 128 * 1024 * 1024;

export class IcebergUpkeep {
  constructor(
    readonly engine: EngineCalls,
    readonly local: LocalFiles,
    readonly config: Pick<Config, 'home'>,
  ) {}

  /** What would be put together. */
  async plan(table: IcebergTable, request: RewriteRequest): Promise<RewriteGroup[]> {
    const base = await branchState(table, request.branch ?? 'main');
    return this.#groups(table, base, request);
  }

  async rewrite(table: IcebergTable, storage: OpenStorage, request: RewriteRequest, who: string): Promise<RewriteOutcome> {
    const base = await branchState(table, request.branch ?? 'main');
    const groups = await this.#groups(table, base, request);
    const old = groups.flatMap((group) => group.files);
    const bytesBefore = groups.reduce((sum, group) => sum + group.bytes, 0);
    if (old.length === 0) return { version: null, filesBefore: 0, filesAfter: 0, bytesBefore: 0, bytesAfter: 0, deleteFilesRemoved: 0 };
    const scratch = path.join(this.config.home, 'scratch', randomUUID());
    mkdirSync(scratch, { recursive: true });
    try {
      const files: WrittenFile[] = [];
      for (const group of groups) files.push(...(await this.#write(table, base, storage, group, request, scratch)));
      const { metadata } = base;
      const entries = old.map((file) => table.entryOf(file));
      const deletes = await needlessDeletes(table, base, new Set(old));
      const { snapshot, metadata: after } = await commitSnapshot(table, {
        branch: base.branch, operation: 'replace',
        // As old as what was read, so that equality deletes of rows that come later still count.
        added: files.map((file) => ({ file: newDataFile(table.store.uri, file, metadata, table.name), specId: metadata['default-spec-id'], sequenceNumber: metadata['last-sequence-number'] ?? 0 })),
        removed: [...entries.map((entry) => ({ file: entry.file, specId: entry.spec['spec-id'] })), ...deletes],
        read: { snapshotId: base.head?.['snapshot-id'], files: new Set(entries.map((entry) => entry.file.path)), schemaId: metadata['current-schema-id'] },
      }, { clock: systemClock, ids: randomIds, who });
      return { version: versionOf(after, snapshot), filesBefore: old.length, filesAfter: files.length, bytesBefore, bytesAfter: files.reduce((sum, file) => sum + file.bytes, 0), deleteFilesRemoved: deletes.length };
    } finally {
      rmSync(scratch, { recursive: true, force: true });
    }
  }

  async #groups(table: IcebergTable, base: BranchState, { layout, targetBytes, onlyDeletes }: RewriteRequest): Promise<RewriteGroup[]> {
    const own = Number(base.metadata.properties?.['write.target-file-size-bytes']);
    return planRewrite(table, await base.files.files(), base.metadata['default-spec-id'], { targetBytes: targetBytes ?? (own > 0 ? own : TARGET_BYTES), everyFile: layout !== undefined, onlyDeletes: onlyDeletes ?? false });
  }

  async #write(table: IcebergTable, base: BranchState, storage: OpenStorage, { files }: RewriteGroup, { layout, targetBytes }: RewriteRequest, scratch: string): Promise<WrittenFile[]> {
    const { metadata } = base;
    const { fields } = parseSchema(schemaOf(metadata, undefined), table.name);
    const lineage = lineageFields(metadata);
    const plan = planScan({ kind: 'parquet', match: 'field-id' }, [...fields, ...lineage], files, TRUE);
    const lease = await this.local.forPlan(storage, plan);
    try {
      const { setup, relation } = scanOf({ name: 'c', plan, localPath: (file) => lease.pathOf(file), rows: await loadRowFilters(plan), withPositions: lineage.length > 0 });
      const columns = [...fields.map((each) => quoteName(each.name)), ...lineageSql(table, files, lineage)];
      const rows = `SELECT ${columns.join(', ')} FROM ${laidOut(relation, layout, fields, table.name)}`;
      const wanted = filesWanted(metadata, fields, table, rows, lineage.length > 0, layout !== undefined);
      return await writeFiles({ step: (sql) => this.engine.call('run', { sql: [...setup, sql].join('; ') }), scratch, store: storage.store }, { ...wanted, ...(targetBytes === undefined ? {} : { targetBytes }) });
    } finally {
      lease.release();
    }
  }
}

/** Rows keep their ids and the number of the commit that changed them last. */
function lineageSql(table: IcebergTable, files: RewriteGroup['files'], lineage: readonly Field[]): string[] {
  if (lineage.length === 0) return [];
  const origins = new Map(files.map((file, number): [number, RowOrigin] => {
    const { file: entry, sequenceNumber } = table.entryOf(file);
    return [number, { version: sequenceNumber, ...(entry.firstRowId === undefined ? {} : { baseRowId: entry.firstRowId }) }];
  }));
  const of = (pick: (origin: RowOrigin) => number | undefined) => perFile(origins, `${POSITION.file}::INTEGER`, pick);
  const [id, sequence] = lineage.map((each) => quoteName(each.name)) as [string, string];
  return [`coalesce(${id}, ${of((origin) => origin.baseRowId)} + ${POSITION.row}) AS ${id}`, `coalesce(${sequence}, ${of((origin) => origin.version)}) AS ${sequence}`];
}

/** Delete files that no file that stays needs. */
async function needlessDeletes(table: IcebergTable, base: BranchState, gone: ReadonlySet<unknown>) {
  const needed = new Set<string>();
  for (const file of await base.files.files()) {
    if (gone.has(file)) continue;
    const { vector, positions, equality } = table.deletesOf(file);
    for (const each of [...(vector ? [vector] : []), ...positions, ...equality]) needed.add(keyOf(each.file));
  }
  return (await base.files.liveDeletes()).filter(({ file }) => !needed.has(keyOf(file)));
}
