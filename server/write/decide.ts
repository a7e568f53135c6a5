/** What a plan comes to for the rows at hand: how many rows make a file, how many files, where ranges are cut. */
import { quoteName } from '../../core/sql/tokens';
import type { CutFigures, RowGroup } from '../../core/write/cut';
import type { CutExpressions, RangeBounds } from '../../core/write/cut-sql';
import { rowsPerFile, type SampleFigures, type SizeModel } from '../../core/write/forecast';
import type { FilePlan } from '../../core/write/plan';
import type { ResultColumn } from '../engine/messages';
import { measureFiles, takeSample } from './measure';
import type { SealedRows } from './sealed-rows';
import type { FileWriter } from './write-format';

export interface Decision {
  figures: CutFigures;
  ranges: RangeBounds | undefined;
}

/** Rows at hand, as far as cutting needs them. */
export type RowsAtHand = Pick<SealedRows, 'step' | 'rows' | 'scratch'>;

/** Rows whose key tells where ranges are cut. */
const BOUND_ROWS = 200_000;

/** `groups`: by what rows are grouped, as SQL. Sizes are measured where the goal asks for them, or with `measures`. */
export async function decideCut(at: RowsAtHand, plan: FilePlan, groups: readonly string[], writer: FileWriter, options: { total?: number; measures?: boolean } = {}): Promise<Decision & { sample?: SampleFigures & { model: SizeModel } }> {
  const { goal } = plan;
  const isSized = goal.kind === 'size';
  const rows = options.total ?? (isSized ? await countRows(at) : 0);
  const cut: CutExpressions = { groups, file: undefined, sort: plan.sort };
  const sample = options.measures || isSized ? await measureFiles(at, writer, cut, await takeSample(at, rows)) : undefined;
  const perFile = isSized ? rowsPerFile(sample!.model, goal.bytes) : 0;
  const figures: CutFigures = { rowsPerFile: perFile, files: goal.kind === 'at-most' ? goal.files : isSized ? Math.max(1, Math.ceil(rows / perFile)) : 1 };
  const ranges = plan.mechanism === 'range' ? await boundsOf(at, plan.by[0]!, writer.source, figures.files) : undefined;
  return { figures, ranges, ...(sample ? { sample } : {}) };
}

export async function countRows({ step, rows }: RowsAtHand): Promise<number> {
  return Number((await step(`SELECT count(*) FROM (${rows}\n) AS __rows`)).rows[0]![0]);
}

/** `from`: where the rows of each group begin, of those that are staged. */
export async function groupsOf({ step }: RowsAtHand, sql: string): Promise<(RowGroup & { from: number })[]> {
  const { rows } = await step(sql);
  return rows.map(([values, file, found, from]) => ({ values: values as (string | null)[], file: file === null ? null : Number(file), rows: Number(found), from: Number(from ?? 0) }));
}

/** Values that divide the rows into so many ranges of about as many rows. */
async function boundsOf({ step, rows }: RowsAtHand, column: string, columns: readonly ResultColumn[], files: number): Promise<RangeBounds> {
  const { type } = columns.find(({ name }) => name === column)!;
  if (files < 2) return { bounds: [], type };
  const shares = Array.from({ length: files - 1 }, (_, index) => (index + 1) / files);
  const value = quoteName(column);
  const found = await step(`SELECT quantile_disc(${value}, [${shares.join(', ')}])::VARCHAR[] FROM (SELECT ${value} FROM (${rows}\n) AS __rows WHERE ${value} IS NOT NULL USING SAMPLE reservoir(${BOUND_ROWS} ROWS) REPEATABLE (42))`);
  return { type, bounds: [...new Set((found.rows[0]![0] as string[] | null) ?? [])] };
}
