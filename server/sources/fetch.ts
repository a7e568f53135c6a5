/** Brings the rows that a query needs of a connected database to this machine, for as long as the query runs. */
import { createWriteStream } from 'node:fs';
import { mkdir, rm } from 'node:fs/promises';
import path from 'node:path';
import { randomUUID } from 'node:crypto';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { LakeError } from '../../core/errors';
import { fullOptions } from '../../core/folder/read-options';
import type { ScanPlan } from '../../core/scan/plan';
import type { SourceRead } from './driver';

/** More than this is not brought over for one query. */
const MOST_BYTES = 2e9;

export interface Fetched {
  /** The plan with the fetched rows in the table's place. */
  plan: ScanPlan;
  file: string;
  rows: number;
  bytes: number;
  remove(): Promise<void>;
}

/** What would be asked of the database: the columns that the query uses, and the part of its predicate that can be asked. */
export function readOf(plan: ScanPlan, columns: ReadonlySet<string> | undefined): SourceRead {
  if (plan.reader.kind !== 'source') throw new Error('not a table of a database');
  const { place, predicate } = plan.reader;
  return { ...place, predicate, fields: plan.fields.filter((field) => columns === undefined || columns.has(field.name)) };
}

/** Fails with `limit` when the rows are too many, before they fill the disk. */
export async function fetchRows(folder: string, plan: ScanPlan, columns: ReadonlySet<string> | undefined, name: string): Promise<Fetched> {
  if (plan.reader.kind !== 'source') throw new Error('not a table of a database');
  const { driver } = plan.reader;
  const read = readOf(plan, columns);
  await mkdir(folder, { recursive: true });
  const file = path.join(folder, `${randomUUID()}.jsonl`);
  const remove = () => rm(file, { force: true });
  let rows = 0;
  let bytes = 0;
  const lines = async function* () {
    for await (const batch of driver.rows(read)) {
      const text = batch.map((row) => `${JSON.stringify(row)}\n`).join('');
      rows += batch.length;
      bytes += text.length;
      if (bytes > MOST_BYTES) throw new LakeError('limit', `The query would bring over ${MOST_BYTES / 1e9} GB from ${name}, the limit, after ${rows} rows. Ask for fewer rows or columns.`);
      yield text;
    }
  };
  try {
    await pipeline(Readable.from(lines()), createWriteStream(file));
  } catch (error) {
    await remove();
    throw error;
  }
  return { plan: { ...plan, reader: { kind: 'copy', options: fullOptions({ format: 'json' }) } }, file, rows, bytes, remove };
}
