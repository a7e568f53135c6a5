/** Writes rows to Parquet files through a sealed instance, into scratch first, then to their place in the table's storage. */
import { createHash, randomUUID } from 'node:crypto';
import { existsSync, mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { physicalName, type Field, type LogicalType } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteName, quoteText } from '../../core/sql/tokens';
import { joinPath } from '../../core/storage/paths';
import type { WrittenFile } from '../../core/table/written-file';
import { cutFiles } from '../../core/write/cut';
import { fileNumberSql, fileRowsSql, stagedGroupsSql, stagedSql } from '../../core/write/cut-sql';
import type { FilePlan } from '../../core/write/plan';
import { partitionText } from '../../core/delta/partition-text';
import { parseValue } from '../../core/values/text';
import type { Value } from '../../core/values/value';
import type { RunReply } from '../engine/messages';
import { physical, physicalType } from '../engine/parquet-scan';
import { fieldIdsOption, keyValuesOption, writtenOf } from '../engine/row-files';
import type { LakeStore } from '../storage/lake-store';
import { decideCut, groupsOf } from '../write/decide';
import type { FileWriter } from '../write/write-format';

/** Files of a table, whatever their rows. */
export interface TableFiles {
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
  /** How rows of one partition go into files; where absent, into one, or by `targetBytes`. */
  plan?: FilePlan;
}

export interface FilesWanted extends TableFiles {
  /** A query whose columns hold the table's, by their logical names. */
  rows: string;
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
    const isBytes = type.kind === 'binary';
    return {
      name, type, column: name, sql: isBytes ? `hex(${quoteName(name)})` : quoteName(name),
      parse: (text) => (text === '' ? null : isBytes ? Uint8Array.from(Buffer.from(text, 'hex')) : parseValue(type, text)),
      show: (value) => partitionText(type, value, name),
    };
  });
}

/** Steps of a statement in its instance, and the folder that the instance may write to. */
export interface Writing {
  step(sql: string, setup?: string[]): Promise<RunReply>;
  scratch: string;
  store: LakeStore;
}

/** Files without rows are not kept. */
export async function writeFiles(writing: Writing, wanted: FilesWanted): Promise<WrittenFile[]> {
  if (wanted.plan) return writePlanned(writing, wanted, wanted.plan);
  try {
    return await writeDivided(writing, wanted);
  } catch (error) {
    // The engine makes a folder for each partition in scratch, which a long value has no name for: files are cut one by one then.
    if (wanted.partitions.length > 0 && error instanceof Error && /File name too long|Failed to create directory/i.test(error.message)) return writePlanned(writing, wanted, ONE_FILE_EACH);
    throw error;
  }
}

/** Of each partition. */
const ONE_FILE_EACH: FilePlan = { goal: { kind: 'one' }, by: [], mechanism: 'even', sort: [] };

async function writeDivided(writing: Writing, wanted: FilesWanted): Promise<WrittenFile[]> {
  const { step, scratch } = writing;
  const out = path.join(scratch, randomUUID());
  mkdirSync(out, { recursive: true });
  const written: WrittenFile[] = [];
  for (const { local, keys, ...made } of madeFiles(await step(copySql(wanted, out)), wanted)) {
    if (made.rows > 0) written.push(await putFile(writing, wanted, local, wanted.partition ?? partitionOf(wanted, wanted.partitions.map((_, index) => keys[partitionName(index)] ?? null)), made));
  }
  if (existsSync(out)) rmSync(out, { recursive: true, force: true });
  return written;
}

/** The rows are put in order once, in scratch; each file is a stretch of them. */
async function writePlanned(writing: Writing, wanted: FilesWanted, plan: FilePlan): Promise<WrittenFile[]> {
  const { step, scratch } = writing;
  const at = { step, scratch, rows: wanted.rows };
  const folderValues = wanted.partition ? 0 : wanted.partitions.length;
  const groups = cutGroups(wanted.partitions.slice(0, folderValues), plan);
  const writer = tableWriter(writing, wanted);
  const { figures, ranges } = await decideCut(at, plan, groups, writer);
  const cut = { groups, file: fileNumberSql(plan, figures.files, ranges), sort: plan.sort };
  const staged = path.join(scratch, `${randomUUID()}-staged.parquet`);
  await step(`COPY (${stagedSql(wanted.rows, cut)}) TO ${quoteText(staged)} (FORMAT parquet, COMPRESSION snappy)`);
  const found = await groupsOf(at, stagedGroupsSql(staged, cut));
  const written: WrittenFile[] = [];
  for (const file of cutFiles(plan, found, folderValues, figures)) {
    if (file.rows === 0) continue;
    const local = path.join(scratch, `part-${randomUUID()}.parquet`);
    const made = await writer.write(fileRowsSql(staged, writer.select, found[file.group]!.from + file.from, file.rows), local);
    written.push(await putFile(writing, wanted, local, wanted.partition ?? partitionOf(wanted, found[file.group]!.values), { ...made, columns: made.stats!.columns }));
  }
  rmSync(staged, { force: true });
  return written;
}

/** By what rows are grouped, as SQL: the partitions, then the key where each has a file. */
export function cutGroups(partitions: readonly PartitionBy[], plan: FilePlan): string[] {
  return [...partitions.map(({ sql }) => sql), ...(plan.mechanism === 'key' ? plan.by.map(quoteName) : [])];
}

/** Files of the table, as a plan writes them one by one. */
export function tableWriter({ step }: Pick<Writing, 'step'>, wanted: TableFiles): FileWriter {
  return {
    source: wanted.fields.map(({ name, type }) => ({ name, type: typeName(type) })),
    select: fileColumns(wanted),
    write: async (rows, to) => {
      const [made] = madeFiles(await step(`COPY (${rows}\n) TO ${quoteText(to)} (${fileOptions(wanted).join(', ')})`), wanted);
      return { rows: made!.rows, bytes: made!.bytes, stats: { columns: made!.columns } };
    },
  };
}

/** Where the file lies in the store, and what the table is told of it. */
async function putFile({ store }: Writing, wanted: FilesWanted, local: string, partition: WrittenFile['partition'], { rows, bytes, columns }: Made): Promise<WrittenFile> {
  const target = joinPath(wanted.folder, ...hiveSteps(wanted, partition), path.basename(local));
  await store.putFile(target, local);
  return { path: target, partition, rows, bytes, columns, ...(wanted.isUnsorted ? { isUnsorted: true } : {}) };
}

type Made = Pick<WrittenFile, 'rows' | 'bytes' | 'columns'>;

function madeFiles({ columns, rows }: RunReply, wanted: TableFiles): (Made & { local: string; keys: Record<string, string | null> })[] {
  const inFile = fieldsInFile(wanted);
  return rows.map((values) => {
    const row = Object.fromEntries(columns.map((name, index) => [name, values[index]]));
    return { local: String(row.filename), keys: (row.partition_keys ?? {}) as Record<string, string | null>, ...writtenOf(row, inFile) };
  });
}

/** As the file has them. */
function fieldsInFile({ fields, partitions }: TableFiles): Field[] {
  return (physicalType({ kind: 'struct', fields: ownFields({ fields, partitions }) }) as { fields: Field[] }).fields;
}

/** Those that are not told by the table's log. */
function ownFields({ fields, partitions }: Pick<TableFiles, 'fields' | 'partitions'>): Field[] {
  return fields.filter((field) => !partitions.some((each) => each.column === field.name));
}

function fileColumns(wanted: TableFiles): string[] {
  return [
    ...ownFields(wanted).map((field) => `${physical(field, quoteName(field.name))}::${typeName(physicalType(field.type))} AS ${quoteName(physicalName(field))}`),
    ...wanted.extra.map(({ name, type }) => `${quoteName(name)}::${typeName(type)} AS ${quoteName(name)}`),
  ];
}

function fileOptions(wanted: TableFiles): string[] {
  const options = ['FORMAT parquet', 'COMPRESSION zstd', 'RETURN_STATS true'];
  if (wanted.withIds) options.push(...fieldIdsOption([...fieldsInFile(wanted), ...wanted.extra.map((each): Field => ({ ...each, required: false }))]));
  if (wanted.keyValues) options.push(keyValuesOption(wanted.keyValues));
  return options;
}

function copySql(wanted: FilesWanted, out: string): string {
  const divided = wanted.partition ? [] : wanted.partitions;
  const columns = [...fileColumns(wanted), ...divided.map(({ sql }, index) => `${sql} AS ${partitionName(index)}`)];
  const options = [...fileOptions(wanted), "FILENAME_PATTERN 'part-{uuid}'", 'OVERWRITE_OR_IGNORE true'];
  if (divided.length > 0) options.push(`PARTITION_BY (${divided.map((_, index) => partitionName(index)).join(', ')})`);
  else options.push(`FILE_SIZE_BYTES ${wanted.targetBytes}`);
  return `COPY (SELECT ${columns.join(', ')} FROM (${wanted.rows}) AS __out) TO ${quoteText(out)} (${options.join(', ')})`;
}

/** Names of our own, so that no column of the file can have the same. */
function partitionName(index: number): string {
  return `__partition_${index}`;
}

/** `texts`: a value of each partition, in order. */
export function partitionOf({ partitions }: Pick<TableFiles, 'partitions'>, texts: readonly (string | null)[]): Record<string, Value | null> {
  return Object.fromEntries(partitions.map(({ name, parse }, index) => {
    const text = texts[index] ?? null;
    return [name, text === null ? null : parse(text)];
  }));
}

/** Most file systems take names of 255 bytes. */
const STEP_BYTES = 200;

/** `day=2026-03-14`: common practice; readers take the values from the table's metadata, so a long one may be cut. */
export function hiveSteps({ partitions }: Pick<TableFiles, 'partitions'>, partition: Record<string, Value | null>): string[] {
  return partitions.map(({ name, show }) => {
    const value = partition[name] ?? null;
    const step = `${encodeURIComponent(name)}=${value === null ? '__HIVE_DEFAULT_PARTITION__' : encodeURIComponent(wellFormed(show(value)))}`;
    if (step.length <= STEP_BYTES) return step;
    const hash = createHash('sha256').update(step).digest('hex').slice(0, 16);
    return `${step.slice(0, STEP_BYTES - 17).replace(/%[0-9A-F]?$/, '')}-${hash}`;
  });
}

/** Half a surrogate pair cannot be encoded. */
function wellFormed(text: string): string {
  return Buffer.from(text, 'utf8').toString('utf8');
}
