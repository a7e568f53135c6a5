/** Rows of a query into a table of a connected database: all of them or none, counted at both ends. */
import { createReadStream } from 'node:fs';
import path from 'node:path';
import { createInterface } from 'node:readline';
import { LakeError } from '../../core/errors';
import { parseTypeName } from '../../core/schema/type-names';
import { field, findField, type Field } from '../../core/schema/types';
import { quoteText } from '../../core/sql/tokens';
import { readExisting, type Existing } from '../../core/write/folder-write';
import type { DatabaseOutcome } from '../../core/write/outcome';
import type { ResultColumn } from '../engine/messages';
import type { OpenStorage } from '../lake/lake';
import { DatabaseStore } from '../sources/database-store';
import type { SourceDriver } from '../sources/driver';
import { jsonColumn } from '../sources/postgres-sql';
import { countRows } from './decide';
import type { SealedRows } from './sealed-rows';

export interface DatabaseTarget {
  driver: SourceDriver;
  schema: string;
  name: string;
  existing: Existing;
  /** Columns of the rows by those of the table that they fill, in the order of the rows. */
  columns: { from: Field; to: Field }[];
  isNew: boolean;
}

/** `place`: `schema.table` or `schema/table`. Fails where columns have no place; nothing is changed. */
export async function databaseTarget({ store, storage }: OpenStorage, place: string, options: Readonly<Record<string, string>>, rows: readonly ResultColumn[]): Promise<DatabaseTarget> {
  if (!(store instanceof DatabaseStore)) throw new Error(`${storage.name} is no database`);
  const other = Object.keys(options).find((option) => option !== 'existing');
  if (other !== undefined) throw new LakeError('bad-request', `"${other}" says how files are written; ${storage.name} is a database, of which only "existing" can be said.`);
  const existing = readExisting(options.existing);
  const [, schema, name] = /^([^./]+)[./]([^./]+)$/.exec(place) ?? [];
  if (!schema || !name) throw new LakeError('bad-request', `"${place}" names no table of ${storage.name}; write it as schema.table.`);
  const { driver } = store;
  const there = (await driver.objects()).find((each) => each.schema === schema && each.name === name);
  if (there && there.kind !== 'table' && there.kind !== 'partitioned table') throw new LakeError('bad-request', `${schema}.${name} is a ${there.kind}; rows are written to tables.`);
  const fields = there && (await driver.columns()).get(`${schema}/${name}`);
  const given = rows.map((column) => field(column.name, parseTypeName(column.type)));
  if (!fields) return { driver, schema, name, existing, isNew: true, columns: given.map((from) => ({ from, to: from })) };
  const lost = given.filter((from) => !findField(fields, from.name)).map((from) => from.name);
  if (lost.length > 0) throw new LakeError('bad-request', `${schema}.${name} has no column ${lost.join(', ')}. Nothing was written.`, { hint: `It has ${fields.map((each) => each.name).join(', ')}; leave the others out of the query, or name them with AS.` });
  return { driver, schema, name, existing, isNew: false, columns: given.map((from) => ({ from, to: findField(fields, from.name)! })) };
}

/** Columns that the table has otherwise, in words. */
export function targetWords(storage: string, { schema, name, isNew, existing, columns }: DatabaseTarget): string[] {
  const there = isNew ? `It is made, with the columns ${columns.map(({ to }) => to.name).join(', ')}.` : { refuse: 'It must be empty.', add: 'The rows come to those that are there.', clear: 'Its rows are removed first, in the same transaction.' }[existing];
  return [`Writes rows to the table ${schema}.${name} of ${storage}.`, there];
}

export async function writeToDatabase(sealed: SealedRows, { driver, schema, name, columns, existing }: DatabaseTarget, { onProgress = () => undefined, signal }: { onProgress?: (rows: number, of: number) => void; signal?: AbortSignal }): Promise<DatabaseOutcome> {
  const total = await countRows(sealed);
  const lines = path.join(sealed.scratch, 'rows.jsonl');
  await sealed.step(`COPY (SELECT ${columns.map(({ from, to }) => jsonColumn(from, to.name)).join(', ')} FROM (${sealed.rows}\n) AS __rows) TO ${quoteText(lines)} (FORMAT json)`);
  const { rowsBefore, rowsAfter, isMade } = await driver.write({
    schema, name, existing, fields: columns.map(({ from, to }) => ({ ...from, name: to.name })), rows: linesOf(lines),
    onRows: (done) => onProgress(done, total), ...(signal ? { signal } : {}),
  });
  const kept = existing === 'clear' ? 0 : rowsBefore;
  return { rowsAtSource: total, rowsBefore, rowsAfter, isMade, difference: rowsAfter - kept - total };
}

/** Opened when it is read: a reader of lines that waits loses those that come meanwhile. */
async function* linesOf(file: string): AsyncGenerator<string> {
  for await (const line of createInterface({ input: createReadStream(file), crlfDelay: Infinity })) if (line !== '') yield line;
}
