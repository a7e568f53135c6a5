/** One file of rows in each of the formats that are written. */
import { rmSync, statSync } from 'node:fs';
import { parseTypeName } from '../../core/schema/type-names';
import { quoteName, quoteText } from '../../core/sql/tokens';
import type { WrittenFile } from '../../core/table/written-file';
import type { FileKind } from '../../core/write/file-kind';
import type { EngineCalls } from '../engine/engine';
import type { ResultColumn } from '../engine/messages';
import type { SealedRows } from './sealed-rows';

/** What a file came to; of Parquet in a table with what the engine tells of its columns. */
export interface MadeFile {
  rows: number;
  bytes: number;
  stats?: Pick<WrittenFile, 'columns'>;
}

export interface FileWriter {
  /** Columns of the rows that are written from. */
  source: readonly ResultColumn[];
  /** The columns of a file, as a query for `write` selects them. */
  select: string[];
  write(rows: string, to: string): Promise<MadeFile>;
}

/** `engine`: for what is none of the instance's formats. */
export function fileWriter(kind: FileKind, columns: readonly ResultColumn[], step: SealedRows['step'], engine: EngineCalls): FileWriter {
  const copy = (rows: string, to: string) => step(`COPY (${rows}\n) TO ${quoteText(to)} (${copyOptions(kind).join(', ')})`);
  return {
    source: columns,
    select: columns.map((column) => columnSql(kind, column)),
    write: async (rows, to) => {
      const made = kind.format === 'avro' ? `${to}.json` : to;
      const copied = await copy(rows, made);
      if (kind.format === 'avro') {
        await engine.call('writeAvro', { from: made, to, columns: [...columns], codec: kind.compression === 'none' ? 'null' : 'deflate' });
        rmSync(made);
      }
      return { rows: Number(copied.rows[0]![0]), bytes: statSync(to).size };
    },
  };
}

function copyOptions({ format, compression, header, delimiter }: FileKind): string[] {
  switch (format) {
    case 'parquet':
      return ['FORMAT parquet', `COMPRESSION ${compression === 'none' ? 'uncompressed' : compression}`];
    case 'csv':
      return ['FORMAT csv', `HEADER ${header}`, `DELIMITER ${quoteText(delimiter)}`, `COMPRESSION ${compression}`];
    case 'jsonl':
      return ['FORMAT json', `COMPRESSION ${compression}`];
    case 'avro':
      return ['FORMAT json'];
  }
}

function columnSql({ format }: FileKind, { name, type }: ResultColumn): string {
  const quoted = quoteName(name);
  const { kind } = parseTypeName(type);
  const as = (sql: string) => `${sql} AS ${quoted}`;
  // JSON knows no number that is none, and no infinite one.
  if (format === 'jsonl' && (kind === 'float' || kind === 'double')) return as(`CASE WHEN isfinite(${quoted}) THEN ${quoted} END`);
  if (format !== 'avro') return quoted;
  switch (kind) {
    case 'long':
    case 'decimal':
    case 'float':
    case 'double':
      return as(`${quoted}::VARCHAR`);
    case 'date':
      return as(`date_diff('day', DATE '1970-01-01', ${quoted})`);
    case 'time':
    case 'timestamp':
    case 'timestamptz':
      return as(`epoch_us(${quoted})`);
    default:
      return quoted;
  }
}
