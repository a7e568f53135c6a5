/** Writes Parquet files through the engine and turns its statistics into the core's terms. */
import { mkdirSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { randomUUID } from 'node:crypto';
import type { RowFileRequest, RowFiles } from '../../core/table/row-files';
import { fullOptions, type JsonOptions } from '../../core/folder/read-options';
import type { WrittenColumn, WrittenFile } from '../../core/table/written-file';
import { leaves, type Field, type LogicalType } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { quoteName, quoteText } from '../../core/sql/tokens';
import type { LakeStore } from '../storage/lake-store';
import type { EngineCalls } from './engine';
import { quoteList } from './instances';
import { jsonReaderOfCopy } from './text-readers';

export class EngineRowFiles implements RowFiles {
  constructor(
    readonly engine: EngineCalls,
    readonly store: LakeStore,
  ) {}

  async write(request: RowFileRequest): Promise<WrittenFile> {
    const made = path.join(this.store.root ?? os.tmpdir(), this.store.root === undefined ? `kind-harbor-${randomUUID()}.parquet` : `${path.dirname(request.path)}/.${randomUUID()}.writing`);
    mkdirSync(path.dirname(made), { recursive: true });
    const { rows, columns } = await this.engine.call('run', { sql: copyStatement(request, made) }).catch((error: unknown) => {
      rmSync(made, { force: true });
      throw error;
    });
    await this.store.putFile(request.path, made);
    const row = Object.fromEntries(columns.map((name, index) => [name, rows[0]![index]]));
    return { path: request.path, partition: request.partition ?? {}, ...writtenOf(row, request.schema.fields) };
  }
}

/** What the engine says of one file that it wrote. */
export function writtenOf(row: Record<string, unknown>, fields: readonly Field[]): Pick<WrittenFile, 'bytes' | 'rows' | 'columns'> {
  const booleans = new Set(leaves(fields).filter(({ field }) => field.type.kind === 'boolean').map(({ path }) => path.join('.')));
  const statistics = (row.column_statistics ?? {}) as Record<string, Record<string, string>>;
  return {
    bytes: Number(row.file_size_bytes),
    rows: Number(row.count),
    columns: Object.entries(statistics).map(([name, stats]) => writtenColumn(columnPath(name), stats, booleans)),
  };
}

/** Columns are cast to the schema's types, since sums and the like would else be written as something wider. */
function copyStatement({ sql, schema, keyValues }: RowFileRequest, target: string): string {
  const columns = schema.fields.map((field) => `${quoteName(field.name)}::${typeName(field.type)} AS ${quoteName(field.name)}`);
  const options = ['FORMAT parquet', 'COMPRESSION zstd', 'RETURN_STATS true'];
  options.push(...fieldIdsOption(schema.fields));
  if (keyValues) options.push(keyValuesOption(keyValues));
  return `COPY (SELECT ${columns.join(', ')} FROM (${sql})) TO ${quoteText(target)} (${options.join(', ')})`;
}

/** A file of JSON lines, made of an Avro file, as Parquet with the same rows in the same order. */
export function parquetOfLines(fields: readonly Field[], lines: string, target: string): string {
  const options = ['FORMAT parquet', 'COMPRESSION zstd', ...fieldIdsOption(fields)];
  return `COPY (SELECT * FROM ${jsonReaderOfCopy(fields, quoteList([lines]), fullOptions({ format: 'json' }) as JsonOptions, false)}) TO ${quoteText(target)} (${options.join(', ')})`;
}

/** `KV_METADATA {…}` of a COPY. */
export function keyValuesOption(keyValues: Record<string, string>): string {
  return `KV_METADATA {${Object.entries(keyValues).map(([key, value]) => `${quoteText(key)}: ${quoteText(value)}`).join(', ')}}`;
}

/** `FIELD_IDS {…}` of a COPY, or nothing where no field has an id. */
export function fieldIdsOption(fields: readonly Field[]): string[] {
  const entries = fields.flatMap(fieldIds);
  return entries.length > 0 ? [`FIELD_IDS {${entries.join(', ')}}`] : [];
}

/** None for a field without an id, as elements of lists in Delta tables are, unless something in it has one. */
function fieldIds(field: Field): string[] {
  const own = field.id === undefined ? [] : [String(field.id)];
  const inner = innerFields(field.type).flatMap(fieldIds);
  if (inner.length === 0) return own.map((id) => `${quoteName(field.name)}: ${id}`);
  return [`${quoteName(field.name)}: {${[...own.map((id) => `__duckdb_field_id: ${id}`), ...inner].join(', ')}}`];
}

function innerFields(type: LogicalType): Field[] {
  switch (type.kind) {
    case 'struct':
      return type.fields;
    case 'list':
      return [{ ...type.element, name: 'element' }];
    case 'map':
      return [{ ...type.key, name: 'key' }, { ...type.value, name: 'value' }];
    default:
      return [];
  }
}

/** `"place"."lat"` → `['place', 'lat']`. */
function columnPath(name: string): string[] {
  return (name.match(/"(?:[^"]|"")*"/g) ?? [name]).map((part) => part.slice(1, -1).replaceAll('""', '"'));
}

/** The engine says 0 and 1 for the bounds of booleans. */
function writtenColumn(path: string[], stats: Record<string, string>, booleans: ReadonlySet<string>): WrittenColumn {
  const bound = (text: string) => (booleans.has(path.join('.')) ? String(text === '1') : text);
  return {
    path,
    bytes: Number(stats.column_size_bytes ?? 0),
    ...(stats.min === undefined ? {} : { min: bound(stats.min) }),
    ...(stats.max === undefined ? {} : { max: bound(stats.max) }),
    ...(stats.null_count === undefined ? {} : { nullCount: Number(stats.null_count) }),
    ...(stats.num_values === undefined ? {} : { valueCount: Number(stats.num_values) }),
    ...(stats.has_nan === 'true' ? { hasNaN: true } : {}),
  };
}
