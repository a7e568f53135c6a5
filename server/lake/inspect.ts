/** What files say of themselves, through the engine's metadata functions and the first bytes. */
import { guessFixedWidth } from '../../core/crawl/fixed-width';
import type { FileFacts } from '../../core/crawl/infer';
import { inferObjects } from '../../core/crawl/infer-objects';
import { kindByBytes, kindByName, plainName, type FileKind } from '../../core/crawl/kinds';
import { LakeError } from '../../core/errors';
import { fieldsOfAvro } from '../../core/folder/avro-rows';
import { delimiterName, fullOptions, givenColumns, optionsOfCopy, type LineOptions, type ReadOptions } from '../../core/folder/read-options';
import { shapeOf } from '../../core/folder/xml-records';
import { avroSchemaOf } from '../../core/iceberg/avro';
import { parseTypeName } from '../../core/schema/type-names';
import { quoteText } from '../../core/sql/tokens';
import type { Delimited } from '../../core/text/delimited';
import { RUNS } from '../../core/text/records';
import type { ObjectInfo } from '../../core/storage/object-store';
import type { EngineCalls } from '../engine/engine';
import { EngineError } from '../engine/failures';
import { quoteList } from '../engine/instances';
import { cutLines, jsonSettings } from '../engine/text-readers';
import { translateError } from '../engine/translate';
import type { OpenStorage } from './lake';
import { inOtherProcess, type Lease, type LocalFiles } from './local-files';
import { ParquetFooters } from './parquet-footers';
import { plainHead, withPlainFile } from './plain-file';
import { unpackHead } from '../storage/unpack';
import { PACKED_BYTES, sampleText, type TextSample } from './text-sample';

export interface Inspected extends FileFacts {
  options?: ReadOptions;
  /** Why the file cannot be read, and the line at fault where one is. */
  problem?: string;
  line?: number;
  /** What was seen of the file's layout and is worth telling. */
  notes?: string[];
  /** Rows by the average line of the file's beginning, where they were not counted. */
  aboutRows?: number;
}

/** Kinds of file that become tables. */
export const READABLE: ReadonlySet<FileKind> = new Set<FileKind>(['parquet', 'csv', 'json', 'yaml', 'text', 'avro', 'arrow', 'xml']);

/** A table of more columns than this is none that anybody meant. */
const MOST_COLUMNS = 10_000;
/** Of text files no more of one folder are opened where nothing else is said; their likes were. */
export const TEXT_SAMPLE = 16;
/** Lines of a file by which the types of its columns are judged. */
const TYPED_LINES = 2500;
/** Lines by which the form of a log is judged. */
const LOG_LINES = 1000;
const XML_HEAD_BYTES = 1024 * 1024;

const FOOTERS_AT_ONCE = 2000;

export class Inspector {
  readonly footers: ParquetFooters;

  constructor(
    readonly engine: EngineCalls,
    readonly local: LocalFiles,
  ) {
    this.footers = new ParquetFooters(engine);
  }

  async kindOf(storage: OpenStorage, file: ObjectInfo): Promise<FileKind> {
    const head = await plainHead(this.local, storage, file, 4096).catch((error: unknown) => {
      // What is wrong with it is told where it is read.
      if (error instanceof LakeError && error.kind === 'bad-file') return undefined;
      throw error;
    });
    return head === undefined ? kindByName(file.path) : kindByBytes(file.path, head);
  }

  /**
   * Facts of files of one kind: of all for Parquet, of a sample spread over the list for the rest. With `given` they
   * are read like that, and only what it leaves open is found out.
   */
  async inspect(storage: OpenStorage, kind: FileKind, files: readonly ObjectInfo[], options: { onFile?: (done: number) => void; given?: ReadOptions; most?: number } = {}): Promise<Inspected[]> {
    const { onFile = () => undefined, given, most = TEXT_SAMPLE } = options;
    if ((given?.format ?? kind) === 'parquet') return this.#parquet(storage, files, onFile);
    const sample = sampleOf(files, most);
    if ((given?.format ?? kind) === 'xml') return this.#xml(storage, sample, given);
    const facts: Inspected[] = [];
    for (const file of sample) {
      facts.push(await this.#one(storage, kind, file, given).catch((error: unknown) => problemOf(storage, file.path, error)));
      onFile(facts.length);
    }
    return facts;
  }

  async #one(storage: OpenStorage, kind: FileKind, file: ObjectInfo, given: ReadOptions | undefined): Promise<Inspected> {
    if ((given?.format ?? kind) === 'avro') return this.#avro(storage, file);
    if ((given?.format ?? kind) === 'arrow') return this.#arrow(storage, file);
    const said = given && 'compression' in given ? given.compression : undefined;
    const sample = await withPlainFile(this.local, storage, file, said, (plain) => sampleText(plain, given && 'encoding' in given ? given.encoding : undefined));
    const compression = said ?? sample.packing;
    const isTree = kind === 'json' || kind === 'yaml';
    if (isTree && !given) return this.#tree(storage, kind, file, sample);
    const log = given || kind === 'csv' ? undefined : await this.#logOptions(sample);
    if (log) return { ...(await this.#readWith(log.options, storage, file, sample)), notes: log.notes, ...estimate(sample, file, 0) };
    const delimited = given?.format === 'csv' || (!given && !isTree) ? await this.engine.call('delimited', { ...sample, compression, isNamedSo: given !== undefined || kindByName(file.path) === 'csv', ...(given ? { options: given } : {}) }) : undefined;
    const fixed = given || (delimited && ![RUNS, ' '].includes(delimited.options.delimiter)) ? undefined : guessFixedWidth(wholeLines(sample.text).slice(0, 500));
    if (delimited && !(fixed && fixed.columns.length !== delimited.columns.length)) return { ...factsOfDelimited(file, delimited), ...estimate(sample, file, delimited.layout.headerRecords) };
    const lines = { compression, encoding: sample.encoding };
    const options = given ?? (fixed ? fullOptions({ format: 'fixed', ...fixed, ...lines }) : fullOptions({ format: 'pattern', ...lines }));
    const facts = await this.#readWith(options, storage, file, sample);
    return { ...facts, ...estimate(sample, file, options.format !== 'json' && 'header' in options && options.header ? 1 : 0) };
  }

  /** JSON and YAML; what is a list of rows in it, and where, is found out. */
  async #tree(storage: OpenStorage, kind: 'json' | 'yaml', file: ObjectInfo, sample: TextSample): Promise<Inspected> {
    const { options: found, notes } = await this.engine.call('jsonLayout', { text: sample.text, isCut: sample.isCut, isLines: /\.(jsonl|ndjson)$/i.test(plainName(file.path)), syntax: kind });
    const options = fullOptions({ format: 'json', ...found, syntax: kind, compression: sample.packing, encoding: sample.encoding });
    const facts = await this.#readWith(options, storage, file, sample);
    return { ...facts, ...(notes.length > 0 ? { notes } : {}), ...(found.shape === 'lines' ? estimate(sample, file, 0) : {}) };
  }

  /** Text whose lines are of a form that logs have. */
  async #logOptions(sample: TextSample): Promise<{ options: ReadOptions; notes: string[] } | undefined> {
    const lines = wholeLines(sample.text).slice(0, LOG_LINES);
    const found = await this.engine.call('logLayout', { lines });
    const text = { compression: sample.packing, encoding: sample.encoding };
    if (!found) return undefined;
    if (found === 'pairs') return { options: fullOptions({ format: 'json', syntax: 'pairs', ...text }), notes: ['words beside the pairs are the message of a line'] };
    const { form: { pattern }, misfits } = found;
    if (misfits === 0) return { options: fullOptions({ format: 'pattern', pattern, ...text }), notes: [] };
    return { options: fullOptions({ format: 'pattern', pattern, misfits: 'set-aside', ...text }), notes: [`${misfits} of the first ${lines.length} lines are not of that form, and are set aside`] };
  }

  async #readWith(options: ReadOptions, storage: OpenStorage, file: ObjectInfo, sample: TextSample): Promise<Inspected & { options: ReadOptions }> {
    const lease = await this.local.lease(storage, [file], options);
    try {
      return await this.#columns(options, file, sample.text, lease);
    } catch (error) {
      throw translateError(error, { roots: rootsOf(storage), copies: lease.copies });
    } finally {
      lease.release();
    }
  }

  async #columns(options: ReadOptions, file: ObjectInfo, head: string, lease: Lease): Promise<Inspected & { options: ReadOptions }> {
    const local = lease.pathOf(file);
    const seen = optionsOfCopy(options) ?? options;
    if (seen.format === 'json') {
      const columns = await this.#describe(`read_json(${quoteText(local)}, ${jsonSettings(seen)}${seen.misfits === 'set-aside' && seen.shape === 'lines' ? ', ignore_errors = true' : ''})`);
      return { path: file.path, options, columns: withTwins(columns, head) };
    }
    return { path: file.path, options, columns: await this.#typedLines(seen as LineOptions, local) };
  }

  /** Each column's type by its texts, in as many lines as are looked at. */
  async #typedLines(options: LineOptions, local: string): Promise<FileFacts['columns']> {
    const names = givenColumns(options)!;
    const texts = names.map((name) => `list("text of ${name.replaceAll('"', '""')}")`);
    const lenient: LineOptions = { ...options, misfits: 'set-aside' };
    const { rows } = await this.engine.call('run', { sql: `SELECT ${texts.join(', ')} FROM (${cutLines(names, quoteList([local]), lenient)} LIMIT ${TYPED_LINES})` });
    const guesses = await this.engine.call('guess', names.map((name, index) => ({ name, texts: (rows[0]![index] ?? []) as (string | null)[] })));
    return names.map((name, index) => ({ name, type: guesses[index]!.type, guess: guesses[index]! }));
  }

  async #avro(storage: OpenStorage, file: ObjectInfo): Promise<Inspected> {
    const head = await storage.store.read(file.path, { start: 0, end: XML_HEAD_BYTES });
    return { path: file.path, columns: fieldsOfAvro(avroSchemaOf(head, file.path)), options: { format: 'avro' } };
  }

  async #arrow(storage: OpenStorage, file: ObjectInfo): Promise<Inspected> {
    const lease = await this.local.lease(storage, [file]);
    try {
      const columns = await inOtherProcess(`${storage.storage.name}:${file.path}`, this.engine.call('arrowFields', { source: lease.pathOf(file) }));
      return { path: file.path, columns, options: { format: 'arrow' } };
    } finally {
      lease.release();
    }
  }

  /** All files are judged together: whether an element is a list is seen only where it comes twice. */
  async #xml(storage: OpenStorage, files: readonly ObjectInfo[], given: ReadOptions | undefined): Promise<Inspected[]> {
    const looked = await Promise.all(files.map(async (file) => {
      try {
        const [compression, head] = await withPlainFile(this.local, storage, file, undefined, async (plain) => [plain.packing, new TextDecoder().decode(await unpackHead(await plain.read({ start: 0, end: XML_HEAD_BYTES }), plain.compression))] as const);
        const named = given?.format === 'xml' && given.record !== '' ? given.record : undefined;
        const { record, objects } = await this.engine.call('xmlRecords', { head, ...(named === undefined ? {} : { record: named }) });
        if (record === undefined) throw new LakeError('bad-file', `${file.path} is XML, but no element below its root could be a row.`, { path: file.path });
        return { file, record, compression, objects };
      } catch (error) {
        return { file, problem: problemOf(storage, file.path, asXmlFault(error, file.path)) };
      }
    }));
    const good = looked.flatMap((each) => (each.problem ? [] : [each]));
    const record = good[0]?.record;
    const fields = inferObjects(good.flatMap((each) => each.objects));
    return looked.map((each) => {
      if (each.problem) return each.problem;
      const options = fullOptions({ format: 'xml', record, ...shapeOf(fields), compression: each.compression });
      return { path: each.file.path, options, columns: fields.filter((field) => each.objects.some((object) => field.name in object)), ...(each.file.bytes <= XML_HEAD_BYTES ? { rows: each.objects.length } : {}) };
    });
  }

  /** All footers, a part after the other, so that progress shows and a cancel is heard. */
  async #parquet(storage: OpenStorage, files: readonly ObjectInfo[], onFile: (done: number) => void): Promise<Inspected[]> {
    const facts: Inspected[] = [];
    for (let start = 0; start < files.length; start += FOOTERS_AT_ONCE) {
      facts.push(...(await this.footers.read(storage, files.slice(start, start + FOOTERS_AT_ONCE))));
      onFile(facts.length);
    }
    return facts;
  }

  async #describe(relation: string): Promise<FileFacts['columns']> {
    const { rows } = await this.engine.call('run', { sql: `DESCRIBE SELECT * FROM ${relation}` });
    // Whole numbers that all fit 64 bits are told apart by sign; one that does not fit shows when the files are read.
    return (rows as string[][]).map((row) => ({ name: row[0]!, type: /^(HUGEINT|UBIGINT)$/.test(row[1]!) ? { kind: 'long' } : parseTypeName(row[1]!) }));
  }
}

/** Keys that only case tells apart: the engine numbers all but the first. A key that stands in the text with its number is its own. */
function withTwins(columns: FileFacts['columns'], head: string): FileFacts['columns'] {
  return columns.map((column) => {
    const [, base] = /^(.+)_\d+$/.exec(column.name) ?? [];
    if (base === undefined || head.includes(JSON.stringify(column.name)) || !columns.some((other) => other !== column && other.name.toLowerCase() === base.toLowerCase())) return column;
    return { ...column, inFile: base };
  });
}

/** Local folder of the storage to its name, where it has one. */
export function rootsOf({ store, storage }: OpenStorage): Map<string, string> {
  return new Map(store.root === undefined ? [] : [[store.root, storage.name]]);
}

/** A line that is longer than the others is a problem, and a shorter one where that was not said to be well. */
function factsOfDelimited({ path }: ObjectInfo, { options, columns, layout }: Delimited): Inspected & { options: ReadOptions } {
  if (columns.length > MOST_COLUMNS) throw new LakeError('bad-file', `${path} has ${columns.length.toLocaleString('en')} columns, more than a table may have (${MOST_COLUMNS.toLocaleString('en')}): most likely its lines are columns, or it is cut at the wrong places.`, { path, hint: 'Say how it is read, or have it written with a row on each line.' });
  const odd = layout.ragged.find(({ cells }) => !(options.pads && cells < layout.names.length));
  if (odd && options.misfits === 'stop') {
    const expected = layout.names.length;
    // Read in spite of them it would be like this, which somebody may choose.
    return { path, options, columns, problem: `${path}, line ${odd.line}: expected ${expected} fields with ${delimiterName(options.delimiter)} between, found ${odd.cells}.`, line: odd.line };
  }
  return { path, options, columns, ...(layout.notes.length > 0 ? { notes: layout.notes } : {}) };
}

function problemOf(storage: OpenStorage, filePath: string, error: unknown): Inspected {
  const shown = translateError(error, { roots: rootsOf(storage) });
  if (!(shown instanceof LakeError)) return { path: filePath, columns: [], problem: 'The file could not be read.' };
  return { path: filePath, columns: [], problem: shown.message, ...(shown.details.line === undefined ? {} : { line: shown.details.line }) };
}

function asXmlFault(error: unknown, path: string): unknown {
  if (error instanceof LakeError) return error;
  if (error instanceof EngineError && error.kind !== 'unknown') return new LakeError(error.kind === 'limit' ? 'limit' : 'bad-file', `${path}: ${error.message}`, { path });
  const [, line, column, what] = /^(\d+):(\d+): (.*)$/.exec((error as Error).message) ?? [];
  return new LakeError('bad-file', `${path}${line === undefined ? '' : `, line ${line}, character ${column}`}: not well-formed XML: ${what ?? (error as Error).message}`, { path, ...(line === undefined ? {} : { line: Number(line) }) });
}

function wholeLines(head: string): string[] {
  const lines = head.replace(/^\ufeff/, '').split(/\r\n|\n|\r/);
  return lines.length > 1 ? lines.slice(0, -1) : lines;
}

function estimate({ text, isCut, packing }: TextSample, file: ObjectInfo, headerLines: number): { aboutRows?: number } {
  const lines = wholeLines(text).length;
  const bytes = Buffer.byteLength(text);
  if (bytes === 0 || lines === 0) return {};
  // Packed text: what was unpacked of the head stands for the same share of the file.
  const whole = !isCut ? bytes : packing === 'none' ? file.bytes : Math.max(bytes, (file.bytes / Math.min(file.bytes, PACKED_BYTES)) * bytes);
  return { aboutRows: Math.max(0, Math.round((whole / bytes) * lines) - headerLines) };
}

/** First, last and evenly between. */
export function sampleOf<T>(items: readonly T[], size: number): T[] {
  if (items.length <= size) return [...items];
  return Array.from({ length: size }, (_, index) => items[Math.round((index * (items.length - 1)) / (size - 1))]!);
}
