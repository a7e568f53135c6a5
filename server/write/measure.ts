/** What a write would cost, measured on some of its rows: they are put in order and written as all of them would be. */
import path from 'node:path';
import { parseTypeName } from '../../core/schema/type-names';
import { quoteName, quoteText } from '../../core/sql/tokens';
import { stagedSql, type CutExpressions } from '../../core/write/cut-sql';
import { sizeModel, type SampleFigures, type SizeModel } from '../../core/write/forecast';
import type { RowsAtHand } from './decide';
import type { FileWriter } from './write-format';

const SAMPLE_ROWS = 60_000;
const SAMPLED_FROM = 2_000_000;
/** The engine samples by so many rows that lie together. */
const VECTOR = 2048;
const SAMPLE = 'CREATE OR REPLACE TEMP TABLE __sample AS';

/**
 * Some of `total` rows, kept for `measureFiles`; returns how many. Of very many rows they are from among the first two
 * million, since a sample of all would decode every column of every row.
 */
export async function takeSample({ step, rows }: RowsAtHand, total: number): Promise<number> {
  const from = total <= SAMPLED_FROM ? `(${rows}\n) AS __rows` : `(SELECT * FROM (${rows}\n) AS __rows LIMIT ${SAMPLED_FROM}) AS __first`;
  const percent = Math.min(100, (Math.max(SAMPLE_ROWS, 8 * VECTOR) / Math.max(Math.min(total, SAMPLED_FROM), 1)) * 100);
  await step(`${SAMPLE} SELECT * FROM ${from}${total <= SAMPLE_ROWS ? '' : ` USING SAMPLE ${percent.toFixed(4)}% (system, 42)`}`);
  const count = async () => Number((await step('SELECT count(*) FROM __sample')).rows[0]![0]);
  const found = await count();
  if (found > 0 || total === 0) return found;
  await step(`${SAMPLE} SELECT * FROM (${rows}\n) AS __rows LIMIT ${SAMPLE_ROWS}`);
  return count();
}

/** Files of a quarter of the sample and of all of it, so that what each file costs is told from what each row does. */
export async function measureFiles({ step, scratch }: RowsAtHand, writer: FileWriter, cut: CutExpressions, count: number): Promise<SampleFigures & { model: SizeModel }> {
  const [part, whole] = [Math.ceil(count / 4), count];
  const staged = path.join(scratch, 'sample-staged.parquet');
  const stage = (rows: number) => timed(() => step(`COPY (${stagedSql(`SELECT * FROM __sample LIMIT ${rows}`, cut)}) TO ${quoteText(staged)} (FORMAT parquet, COMPRESSION snappy)`));
  const write = (rows: number) => timed(() => writer.write(`SELECT ${writer.select.join(', ')} FROM read_parquet(${quoteText(staged)}, file_row_number = true) WHERE file_row_number < ${rows}`, path.join(scratch, `sample-${rows}`)));
  const [partOrder] = await stage(part);
  const [wholeOrder] = await stage(whole);
  const [partWrite, { bytes: partBytes }] = await write(part);
  const [wholeWrite, { bytes }] = await write(whole);
  const { rows } = await step(`SELECT ${rowWidthSql(writer)} FROM __sample`);
  return {
    rows: count, orderMillis: growing(partOrder, wholeOrder), writeMillis: growing(partWrite, wholeWrite), rowBytes: Number(rows[0]![0] ?? 8),
    model: sizeModel({ rows: whole, bytes }, { rows: part, bytes: partBytes }),
  };
}

/** The time that grows with the rows, from those of a quarter and of all; at least some of it does. */
function growing(part: number, whole: number): number {
  return Math.max(((whole - part) * 4) / 3, whole / 4);
}

/** Mean bytes of a row in the engine's memory. */
function rowWidthSql({ source }: FileWriter): string {
  return source.map(({ name, type }) => {
    const { kind } = parseTypeName(type);
    if (kind === 'string' || kind === 'struct' || kind === 'list' || kind === 'map' || kind === 'binary') return `coalesce(avg(strlen(${quoteName(name)}::VARCHAR)), 0) + 16`;
    return kind === 'decimal' || kind === 'uuid' ? '16' : '8';
  }).join(' + ');
}

async function timed<T>(work: () => Promise<T>): Promise<[number, T]> {
  const started = performance.now();
  const done = await work();
  return [performance.now() - started, done];
}
