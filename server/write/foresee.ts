/** Foresees a write: rows are counted as they would be cut, and some of them are written to know sizes and times. */
import { quoteName } from '../../core/sql/tokens';
import { joinPath } from '../../core/storage/paths';
import { cutFiles, filePaths, groupColumns, type CutFile, type RowGroup } from '../../core/write/cut';
import { countedSql, fileNumberSql } from '../../core/write/cut-sql';
import { extensionOf } from '../../core/write/file-kind';
import type { FolderWrite } from '../../core/write/folder-write';
import { costsOf, treeOf, type Forecast } from '../../core/write/forecast';
import { columnsOf } from '../../core/write/name-pattern';
import { explainPlan, type FilePlan } from '../../core/write/plan';
import { parseBytes } from '../../core/values/bytes';
import { cutGroups, hiveSteps, partitionOf, tableWriter } from '../change/write-files';
import { filesOfTable, type TableToFill } from '../define/create';
import { countRows, decideCut, groupsOf, type Decision } from './decide';
import type { PreparedWrite } from './file-writes';
import type { SealedRows } from './sealed-rows';
import { costWords, unevenWords } from './write-words';
import type { FileWriter } from './write-format';

/** What is written, and how its rows are cut. */
export interface WriteSubject {
  plan: FilePlan;
  /** By what rows are grouped, as SQL; of those the first name the folder. */
  groups: string[];
  folderValues: number;
  /** Rows are put in order before they are written. */
  isOrdered: boolean;
  writer(at: SealedRows): FileWriter;
  pathsOf(groups: readonly RowGroup[], files: readonly CutFile[]): string[];
  existing: Forecast['existing'];
}

/** `memory`: of the engine, as `2GB`. */
export async function foresee(sealed: SealedRows, subject: WriteSubject, sampleRows: number | undefined, memory: string): Promise<{ forecast: Forecast; decision: Decision }> {
  const { plan, groups, folderValues, existing } = subject;
  const started = performance.now();
  const total = await countRows(sealed);
  const basis = sampleRows !== undefined && sampleRows < total ? await sampled(sealed, sampleRows) : sealed;
  const counted = basis === sealed ? total : await countRows(basis);
  const { figures, ranges, sample } = await decideCut(basis, plan, groups, subject.writer(basis), { total, measures: true });
  const cut = { groups, file: fileNumberSql(plan, figures.files, ranges), sort: plan.sort };
  const scale = counted === 0 ? 1 : total / counted;
  const counts = await groupsOf(basis, countedSql(basis.rows, cut));
  const readMillis = performance.now() - started;
  // Rows of a group that were counted stand for more.
  const files = cutFiles(plan, counts.map((each) => ({ ...each, rows: Math.round(each.rows * scale) })), folderValues, figures);
  const tree = treeOf(subject.pathsOf(counts, files), files, sample!.model);
  const costs = costsOf(tree.rows, readMillis, sample!, subject.isOrdered, parseBytes(memory) ?? 1e9);
  const forecast: Forecast = {
    ...tree, costs, existing, basis: basis === sealed ? { kind: 'all' } : { kind: 'sample', rows: counted },
    says: [...explainPlan(plan, folderValues > 0), ...costWords(costs), ...unevenWords(tree)],
  };
  return { forecast, decision: { figures, ranges } };
}

/** So many rows from all over, kept, so that every look at them finds the same. */
export async function sampled(sealed: SealedRows, rows: number): Promise<SealedRows> {
  await sealed.step(`CREATE OR REPLACE TEMP TABLE __basis AS SELECT * FROM (${sealed.rows}\n) AS __rows USING SAMPLE reservoir(${rows} ROWS) REPEATABLE (42)`);
  return { ...sealed, rows: 'SELECT * FROM __basis' };
}

/** One file, written as the rows come. */
export function needsStage({ files, folders }: FolderWrite): boolean {
  return files.goal.kind !== 'one' || folders.length > 0;
}

/** Stands in names where a write has an id of its own. */
const NO_ID = 'xxxxxx';

export function folderSubject({ write, target }: PreparedWrite, writer: WriteSubject['writer']): WriteSubject {
  return {
    plan: write.files, groups: groupColumns(write).map(quoteName), folderValues: columnsOf(write.folders).length, isOrdered: needsStage(write), writer,
    pathsOf: (groups, files) => filePaths(write, groups, files, extensionOf(write.kind), { at: new Date(), id: NO_ID }),
    existing: { files: target.existing.length, bytes: target.existing.reduce((sum, file) => sum + file.bytes, 0) },
  };
}

export function tableSubject(filled: TableToFill): WriteSubject {
  const wanted = filesOfTable(filled);
  const { plan, partitions } = wanted;
  return {
    plan, groups: cutGroups(partitions, plan), folderValues: partitions.length, isOrdered: plan.sort.length > 0 || plan.mechanism !== 'even' || plan.goal.kind !== 'one', existing: { files: 0, bytes: 0 },
    writer: (at) => tableWriter(at, wanted),
    pathsOf: (groups, files) => files.map(({ group, number, of }) => joinPath(...hiveSteps(wanted, partitionOf(wanted, groups[group]!.values)), `file ${number} of ${of}`)),
  };
}
