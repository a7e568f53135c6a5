/** Writes rows to Parquet files through a sealed instance, into scratch first, then to their place in the table's storage. */
import { randomUUID } from 'node:crypto';
import { existsSync, mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { physicalName, type Field, type LogicalType } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteName, quoteText } from '../../core/sql/tokens';
import { joinPath } from '../../core/storage/paths';
import type { WrittenFile } from '../../core/table/written-file';
import { formatValue, parseValue } from '../../core/values/text';
import type { Value } from '../../core/values/value';
import type { RunReply } from '../engine/messages';
import { physical, physicalType } from '../engine/parquet-scan';
import { fieldIdsOption, keyValuesOption, writtenOf } from '../engine/row-files';
import type { LakeStore } from '../storage/lake-store';

export interface FilesWanted {
  /** A query whose columns hold the table's, by their logical names. */
  rows: string;
  fields: readonly Field[];
  partitions: readonly PartitionBy[];
  /** The partition that all rows are of, where that is known before. */
  partition?: Record<string, Value | null>;
  /** More columns of the rows that go into the files, by the name that they have. */
  extra: readonly { name: string; type: LogicalType; id?: number }[];
  /** Folder in the store under which the files go. */
  folder: string;
  /** Column ids are written to the files. */
  withIds: boolean;
  targetBytes: number;
  /** Entries for the files' key-value metadata. */
  keyValues?: Record<string, string>;
  /** The rows of one file are not in the table's sort order. */
  isUnsorted?: boolean;
}

/** What rows are divided by into files. */
export interface PartitionBy {
  name: string;
  type: LogicalType;
  /** The value of a row. */
  sql: string;
  /** A column of the table that is not in its files. */
  column?: string;
  /** The value from the text that the engine gives for it. */
  parse: (text: string) => Value | null;
  /** The value in the name of a folder. */
  show: (value: Value) => string;
}

/** Partition columns whose values stand in the table's log and not in its files. */
export function columnPartitions(fields: readonly Field[], names: readonly string[]): PartitionBy[] {
  return names.map((name) => {
    const { type } = fields.find((field) => field.name === name)!;
    // The log has an empty text as null ("Partition Value Serialization"), so it is null here too.
    return { name, type, column: name, sql: quoteName(name), parse: (text) => (text === '' ? null : parseValue(type, text)), show: (value) => formatValue(type, value) };
  });
}

/** Steps of a statement in its instance, and the folder that the instance may write to. */
export interface Writing {
  step(sql: string, setup?: string[]): Promise<RunReply>;
  scratch: string;
  store: LakeStore;
}

/** Files without rows are not kept. */
export async function writeFiles({ step, scratch, store }: Writing, wanted: FilesWanted): Promise<WrittenFile[]> {
  const out = path.join(scratch, randomUUID());
  mkdirSync(out, { recursive: true });
  const inFile = wanted.fields.filter((field) => !wanted.partitions.some((each) => each.column === field.name));
  const fileFields = (physicalType({ kind: 'struct', fields: inFile }) as { fields: Field[] }).fields;
  const { columns, rows } = await step(copySql(wanted, inFile, fileFields, out));
  const written: WrittenFile[] = [];
  for (const values of rows) {
    const row = Object.fromEntries(columns.map((name, index) => [name, values[index]]));
    const local = String(row.filename);
    const stats = writtenOf(row, fileFields);
    if (stats.rows === 0) continue;
    const keys = (row.partition_keys ?? {}) as Record<string, string | null>;
    const partition = wanted.partition ?? partitionOf(wanted, keys);
    const target = joinPath(wanted.folder, ...hiveSteps(wanted, partition), path.basename(local));
    await store.putFile(target, local);
    written.push({ path: target, partition, ...stats, ...(wanted.isUnsorted ? { isUnsorted: true } : {}) });
  }
  if (existsSync(out)) rmSync(out, { recursive: true, force: true });
  return written;
}

function copySql(wanted: FilesWanted, inFile: readonly Field[], fileFields: readonly Field[], out: string): string {
  const columns = inFile.map((field) => `${physical(field, quoteName(field.name))}::${typeName(physicalType(field.type))} AS ${quoteName(physicalName(field))}`);
  columns.push(...wanted.extra.map(({ name, type }) => `${quoteName(name)}::${typeName(type)} AS ${quoteName(name)}`));
  const divided = wanted.partition ? [] : wanted.partitions;
  columns.push(...divided.map(({ sql }, index) => `${sql} AS ${partitionName(index)}`));
  const options = ['FORMAT parquet', 'COMPRESSION zstd', 'RETURN_STATS true', "FILENAME_PATTERN 'part-{uuid}'", 'OVERWRITE_OR_IGNORE true'];
  if (divided.length > 0) options.push(`PARTITION_BY (${divided.map((_, index) => partitionName(index)).join(', ')})`);
  else options.push(`FILE_SIZE_BYTES ${wanted.targetBytes}`);
  if (wanted.withIds) options.push(...fieldIdsOption([...fileFields, ...wanted.extra.map((each): Field => ({ ...each, required: false }))]));
  if (wanted.keyValues) options.push(keyValuesOption(wanted.keyValues));
  return `COPY (SELECT ${columns.join(', ')} FROM (${wanted.rows}) AS __out) TO ${quoteText(out)} (${options.join(', ')})`;
}

/** Names of our own, so that no column of the file can have the same. */
function partitionName(index: number): string {
  return `__partition_${index}`;
}

function partitionOf({ partitions }: FilesWanted, keys: Record<string, string | null>): Record<string, Value | null> {
  return Object.fromEntries(partitions.map(({ name, parse }, index) => {
    const text = keys[partitionName(index)] ?? null;
    return [name, text === null ? null : parse(text)];
  }));
}

/** `day=2026-03-14`: common practice; readers take the values from the table's metadata. */
function hiveSteps({ partitions }: FilesWanted, partition: Record<string, Value | null>): string[] {
  return partitions.map(({ name, show }) => {
    const value = partition[name] ?? null;
    return `${encodeURIComponent(name)}=${value === null ? '__HIVE_DEFAULT_PARTITION__' : encodeURIComponent(show(value))}`;
  });
}
