/** What files say of themselves, through the engine's metadata functions and the first bytes. */
import path from 'node:path';
import { guessDelimiter, type DelimiterGuess } from '../../core/crawl/delimiters';
import type { FileFacts } from '../../core/crawl/infer';
import { isGzip, kindByBytes, kindByName, type FileKind } from '../../core/crawl/kinds';
import { delimiterName, type CsvOptions, type ReadOptions } from '../../core/folder/read-options';
import { parseTypeName } from '../../core/schema/type-names';
import { quoteText } from '../../core/sql/tokens';
import type { ObjectInfo } from '../../core/storage/object-store';
import type { EngineCalls } from '../engine/engine';
import { quoteList } from '../engine/instances';
import { jsonCompression } from '../engine/scan-sql';
import { translateError } from '../engine/translate';
import { LakeError } from '../../core/errors';
import type { OpenStorage } from './lake';
import { readHeadBytes, splitLine } from './csv-headers';

export interface Inspected extends FileFacts {
  options?: ReadOptions;
  /** Why the file cannot be read, and the line at fault where one is. */
  problem?: string;
  line?: number;
  /** Rows by the average line of the file's beginning, where they were not counted. */
  aboutRows?: number;
}

/** Text files beyond this many of one folder are not opened; their likes were. */
const TEXT_SAMPLE = 16;

export class Inspector {
  constructor(readonly engine: EngineCalls) {}

  async kindOf({ store }: OpenStorage, filePath: string): Promise<FileKind> {
    return kindByBytes(filePath, await readHeadBytes(store, filePath, isGzip(filePath) ? 'gzip' : 'none', 4096));
  }

  /** Facts of files of one kind: of all for Parquet, of a sample spread over the list for text. */
  async inspect(storage: OpenStorage, kind: FileKind, files: readonly ObjectInfo[], onFile: (done: number) => void = () => undefined): Promise<Inspected[]> {
    if (kind === 'parquet') return this.#parquet(storage, files, onFile);
    const facts: Inspected[] = [];
    for (const file of sampleOf(files, TEXT_SAMPLE)) {
      facts.push(await (kind === 'json' ? this.#json(storage, file) : this.#text(storage, file)).catch((error: unknown) => this.#problem(storage, file.path, error)));
      onFile(facts.length);
    }
    return facts;
  }

  /** All footers in a few calls; a list with a damaged file in it is halved until the file is alone. */
  async #parquet(storage: OpenStorage, files: readonly ObjectInfo[], onFile: (done: number) => void): Promise<Inspected[]> {
    const facts: Inspected[] = [];
    for (let start = 0; start < files.length; start += 500) {
      facts.push(...(await this.#footers(storage, files.slice(start, start + 500))));
      onFile(facts.length);
    }
    return facts;
  }

  async #footers(storage: OpenStorage, files: readonly ObjectInfo[]): Promise<Inspected[]> {
    try {
      return await this.#readFooters(storage, files);
    } catch (error) {
      if (files.length === 1) return [this.#problem(storage, files[0]!.path, error)];
      const half = Math.ceil(files.length / 2);
      return [...(await this.#footers(storage, files.slice(0, half))), ...(await this.#footers(storage, files.slice(half)))];
    }
  }

  async #readFooters(storage: OpenStorage, files: readonly ObjectInfo[]): Promise<Inspected[]> {
    const { root } = storage.store;
    const list = quoteList(files.map((file) => path.join(root, file.path)));
    // Files with the same schema text share one description of their columns.
    const { rows } = await this.engine.call('run', {
      sql: `SELECT m.file_name, m.num_rows, s.shape FROM parquet_file_metadata(${list}) m JOIN (
              SELECT file_name, md5(string_agg(concat_ws('/', name, type, type_length, repetition_type, num_children, converted_type, "scale", "precision", logical_type), ',' )) AS shape
              FROM parquet_schema(${list}) GROUP BY file_name) s USING (file_name)`,
    });
    const columnsOf = new Map<string, FileFacts['columns']>();
    for (const [file, , shape] of rows as [string, number, string][]) {
      if (!columnsOf.has(shape)) columnsOf.set(shape, await this.#describe(`read_parquet(${quoteText(file)}, hive_partitioning = false)`));
    }
    return (rows as [string, number, string][]).map(([file, count, shape]) => ({ path: path.relative(root, file), rows: Number(count), columns: columnsOf.get(shape)!, options: { format: 'parquet' } }));
  }

  async #describe(relation: string): Promise<FileFacts['columns']> {
    const { rows } = await this.engine.call('run', { sql: `DESCRIBE SELECT * FROM ${relation}` });
    return (rows as string[][]).map((row) => ({ name: row[0]!, type: parseTypeName(row[1]!) }));
  }

  async #json({ store }: OpenStorage, file: ObjectInfo): Promise<Inspected> {
    const compression = isGzip(file.path) ? 'gzip' : 'none';
    const head = new TextDecoder().decode(await readHeadBytes(store, file.path, compression));
    const shape = head.trimStart().startsWith('[') ? 'array' : 'lines';
    const relation = `read_json(${quoteText(path.join(store.root, file.path))}, format = '${shape === 'lines' ? 'newline_delimited' : 'array'}', compression = '${jsonCompression(compression)}', maximum_object_size = 67108864)`;
    return { path: file.path, columns: await this.#describe(relation), options: { format: 'json', shape, compression }, ...estimate(head, file, compression, 0) };
  }

  async #text({ store }: OpenStorage, file: ObjectInfo): Promise<Inspected> {
    const compression = isGzip(file.path) ? 'gzip' : 'none';
    const head = new TextDecoder().decode(await readHeadBytes(store, file.path, compression));
    const lines = wholeLines(head);
    const guess = guessDelimiter(lines.slice(0, 500), kindByName(file.path) === 'csv' ? 0.5 : undefined);
    if (!guess) {
      const options: CsvOptions = { format: 'csv', delimiter: '\x01', header: false, quote: '', escape: '', skip: 0, nullText: '', compression };
      return { path: file.path, columns: [{ name: 'line', type: { kind: 'string' } }], options, ...estimate(head, file, compression, 0) };
    }
    const call = `sniff_csv(${quoteText(path.join(store.root, file.path))}, delim = ${quoteText(guess.delimiter)}, compression = '${compression}', sample_size = 20480)`;
    const { rows } = await this.engine.call('run', { sql: `SELECT "Quote", "Escape", "SkipRows", "HasHeader", to_json("Columns") FROM ${call}` }).catch((error: unknown) => {
      throw raggedLine(lines, guess, file.path) ?? error;
    });
    const [quote, escape, skip, header, columnsJson] = rows[0] as [string, string, number, boolean, string];
    const columns = (JSON.parse(columnsJson) as { name: string; type: string }[]).map((column, index) => ({
      name: header ? column.name : `field_${index + 1}`,
      type: plainTextType(column.type),
    }));
    const plain = (mark: string) => (mark === '(empty)' || mark === '\0' ? '' : mark);
    const options: CsvOptions = { format: 'csv', delimiter: guess.delimiter, header, quote: plain(quote) || '"', escape: plain(escape) || '"', skip: Number(skip), nullText: '', compression };
    return { path: file.path, columns, options, ...estimate(head, file, compression, header ? 1 : 0) };
  }

  #problem(storage: OpenStorage, filePath: string, error: unknown): Inspected {
    const shown = translateError(error, { roots: new Map([[storage.store.root, storage.storage.name]]) });
    if (!(shown instanceof LakeError)) return { path: filePath, columns: [], problem: 'The file could not be read.' };
    return { path: filePath, columns: [], problem: shown.message, ...(shown.details.line === undefined ? {} : { line: shown.details.line }) };
  }
}

/** Text columns are read as bigint, double, date, timestamptz, boolean or text: what later files of the same kind will also fit. */
function plainTextType(type: string): FileFacts['columns'][number]['type'] {
  const parsed = parseTypeName(type);
  return parsed.kind === 'timestamp' ? { kind: 'timestamptz' } : parsed;
}

/** The first line that does not have as many fields as most have. */
function raggedLine(lines: readonly string[], { delimiter, fields }: DelimiterGuess, path: string): LakeError | undefined {
  const at = lines.findIndex((line) => line.trim() !== '' && splitLine(line, { delimiter, quote: '"' }).length !== fields);
  if (at < 0) return undefined;
  const found = splitLine(lines[at]!, { delimiter, quote: '"' }).length;
  return new LakeError('bad-file', `${path}, line ${at + 1}: expected ${fields} fields with ${delimiterName(delimiter)} between, found ${found}.`, { path, line: at + 1, hint: 'Correct the line, or take the file out of the folder.' });
}

function wholeLines(head: string): string[] {
  const lines = head.replace(/^\ufeff/, '').split(/\r?\n/);
  return lines.length > 1 ? lines.slice(0, -1) : lines;
}

function estimate(head: string, file: ObjectInfo, compression: 'none' | 'gzip', headerLines: number): { aboutRows?: number } {
  const lines = wholeLines(head).length;
  const headBytes = Buffer.byteLength(head);
  if (headBytes === 0 || lines === 0) return {};
  // Packed text: what was unpacked of the head stands for the same share of the file.
  const whole = compression === 'none' ? file.bytes : Math.max(headBytes, (file.bytes / Math.min(file.bytes, 65_536)) * headBytes);
  return { aboutRows: Math.max(0, Math.round((whole / headBytes) * lines) - headerLines) };
}

/** First, last and evenly between. */
export function sampleOf<T>(items: readonly T[], size: number): T[] {
  if (items.length <= size) return [...items];
  return Array.from({ length: size }, (_, index) => items[Math.round((index * (items.length - 1)) / (size - 1))]!);
}
