/**
 * Writes Avro files, which the engine does not: it writes JSON lines, and each line becomes a record. Columns that are not
 * nested come as texts of digits or, where they are times, as counts of days or microseconds.
 */
import { randomBytes } from 'node:crypto';
import { once } from 'node:events';
import { createReadStream, createWriteStream } from 'node:fs';
import { createInterface } from 'node:readline';
import { avroRowsOf, avroSchemaOf } from '../../core/folder/avro-write';
import { avroWriter } from '../../core/iceberg/avro';
import { parseJsonKeepingDigits, withQuotedNonNumbers } from '../../core/json';
import { parseTypeName } from '../../core/schema/type-names';
import { field, isNested } from '../../core/schema/types';
import type { AvroRequest } from './messages';

const BLOCK_ROWS = 2000;

export async function writeAvroFile({ from, to, columns, codec }: AvroRequest): Promise<void> {
  const fields = columns.map(({ name, type }) => field(name, parseTypeName(type)));
  const { header, block } = avroWriter(avroSchemaOf(fields), {}, randomBytes(16), { codec, exactLongs: true });
  const valuesOf = avroRowsOf(fields);
  const read = fields.some((each) => isNested(each.type)) ? parseJsonKeepingDigits : (line: string): unknown => JSON.parse(line);
  const out = createWriteStream(to);
  const put = async (bytes: Buffer) => {
    if (!out.write(bytes)) await once(out, 'drain');
  };
  await put(header);
  let rows: unknown[] = [];
  for await (const line of createInterface({ input: createReadStream(from), crlfDelay: Infinity })) {
    if (line === '') continue;
    rows.push(valuesOf(read(withQuotedNonNumbers(line)) as Record<string, unknown>));
    if (rows.length < BLOCK_ROWS) continue;
    await put(block(rows));
    rows = [];
  }
  if (rows.length > 0) await put(block(rows));
  out.end();
  await once(out, 'close');
}
