/** Makes copies of files that the engine cannot read itself: Avro and XML as JSON lines, other encodings as UTF-8. */
import { createReadStream, createWriteStream } from 'node:fs';
import { stat } from 'node:fs/promises';
import { Readable, Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { inflateRaw } from 'node:zlib';
import avro from 'avsc';
import { decompress as unzstd } from 'fzstd';
import { SaxesParser } from 'saxes';
import { LakeError } from '../../core/errors';
import { compressionByBytes, PACKING_BYTES } from '../../core/crawl/kinds';
import { faultWords } from '../../core/fault-words';
import { isCutByUs, type Compression, type CsvOptions, type JsonOptions, type ReadOptions, type XmlOptions } from '../../core/folder/read-options';
import { pairsAsJson } from '../../core/text/log-lines';
import { readDelimited } from '../../core/text/delimited';
import { RecordStream } from '../../core/text/record-stream';
import { csvLine, type TextRecord } from '../../core/text/records';
import { headerNames } from '../../core/text/structure';
import { JsonRows } from '../../core/json/json-rows';
import { jsonOfAvro } from '../../core/folder/avro-rows';
import { XmlRecords } from '../../core/folder/xml-records';
import { AVRO_LONG } from '../../core/values/avro-long';
import { readPart } from '../storage/read-part';
import { unpackSnappy } from '../storage/snappy-frames';
import { encodingOf } from '../lake/text-sample';
import { unpackedBy, unpackHead } from '../storage/unpack';

/** `source` and `target` are files of this machine; `name` is what errors call the source. */
export async function convert(options: ReadOptions, source: string, target: string, name: string, mostBytes: number): Promise<void> {
  try {
    const sink = () => [bounded(mostBytes), createWriteStream(target)] as const;
    if (options.format === 'avro') return await avroToLines(source, sink);
    if (options.format === 'arrow') return await pipeline((await import('./arrow-lines')).arrowLines(source), ...sink());
    if (options.format === 'xml') return await xmlToLines(source, sink, options);
    if (options.format === 'csv' && isCutByUs(options)) return await toPlainCsv(source, sink, options.perFile ? await ownOptions(source, options) : options);
    if (options.format === 'json' && isCutByUs(options)) return await toJsonLines(source, sink, options);
    if (options.format !== 'parquet') await toUtf8(source, sink, options.encoding, options.compression);
  } catch (error) {
    if (error instanceof LakeError) throw new LakeError(error.kind, `${name}: ${error.message}`, { path: name.slice(name.indexOf(':') + 1), ...error.details }, { cause: error });
    throw new LakeError('bad-file', `${name} cannot be read as ${options.format}: ${faultWords(error)}.`, { path: name.slice(name.indexOf(':') + 1) }, { cause: error });
  }
}

/** A packed file of any kind, unpacked. Fails with `limit` where it holds more than `mostBytes`. */
export async function unpack(source: string, target: string, compression: Compression, name: string, mostBytes: number): Promise<void> {
  try {
    await pipeline(await unpackedFile(source, compression), bounded(mostBytes), createWriteStream(target));
  } catch (error) {
    if (error instanceof LakeError) throw new LakeError(error.kind, `${name}: ${error.message}`, {}, { cause: error });
    throw new LakeError('bad-file', `${name} is packed as ${compression}, and cannot be unpacked: ${faultWords(error)}.`, {}, { cause: error });
  }
}

async function unpackedFile(source: string, compression: Compression): Promise<Readable> {
  return unpackedBy(createReadStream(source), compression === 'auto' ? compressionByBytes(await readPart(source, { start: 0, end: PACKING_BYTES })) : compression);
}

/** What small files unpack to can fill a disk. */
function bounded(mostBytes: number): Transform {
  let bytes = 0;
  return new Transform({
    transform(chunk: Buffer, _encoding, done) {
      bytes += chunk.length;
      if (bytes > mostBytes) done(new LakeError('limit', `it holds more than ${Math.round(mostBytes / 1e6).toLocaleString('en')} MB, which is the most that is kept of copies.`));
      else done(null, chunk);
    },
  });
}

type Sink = () => readonly [Transform, NodeJS.WritableStream];

async function avroToLines(source: string, sink: Sink): Promise<void> {
  let toJson: (value: unknown) => unknown = (value) => value;
  const decoder = new avro.streams.BlockDecoder({ parseHook: (schema: unknown) => avro.Type.forSchema(schema as never, avroOptions() as never), codecs: CODECS } as never);
  decoder.on('metadata', (type: { schema(options?: unknown): unknown }, _codec: unknown, header: { meta: Record<string, Buffer> }) => {
    toJson = jsonOfAvro(JSON.parse(header.meta['avro.schema']!.toString('utf8')));
  });
  const lines = new Transform({ objectMode: true, transform: (record, _encoding, done) => done(null, `${stringify(toJson(record))}\n`) });
  await pipeline(createReadStream(source), decoder as unknown as Transform, lines, ...sink());
}

/** Logical types are turned by us; longs are exact wherever they stand. Made anew each time: names of types are kept in it. */
const avroOptions = () => ({
  registry: { long: AVRO_LONG },
  logicalTypes: {},
  typeHook: (schema: unknown) => ((schema as { type?: unknown } | null)?.type === 'long' ? AVRO_LONG : undefined),
});

type Unpacked = (error: Error | null, bytes?: Buffer) => void;

/** Codecs of the Avro specification that files come with, by their names in the header. */
const CODECS = {
  null: (bytes: Buffer, done: Unpacked) => done(null, bytes),
  deflate: (bytes: Buffer, done: Unpacked) => inflateRaw(bytes, done),
  // A block is followed by a checksum of four bytes.
  snappy: attempt((bytes) => unpackSnappy(bytes.subarray(0, -4), MOST_BLOCK)),
  zstandard: attempt((bytes) => Buffer.from(unzstd(bytes))),
};

function attempt(unpack: (bytes: Buffer) => Buffer): (bytes: Buffer, done: Unpacked) => void {
  return (bytes, done) => {
    try {
      done(null, unpack(bytes));
    } catch (error) {
      done(error as Error);
    }
  };
}

/** Blocks of Avro files are of some 16 kB to a few MB. */
const MOST_BLOCK = 256 * 1024 * 1024;

/** JSON with bigints as the digits they are. */
function stringify(value: unknown): string {
  return JSON.stringify(value, (_, each: unknown) => (typeof each === 'bigint' ? each.toString() : each));
}

/** A parser that gives records as it goes. */
function recordParser(options: Pick<XmlOptions, 'record' | 'lists' | 'structs'>): { parser: SaxesParser; records: XmlRecords } {
  const parser = new SaxesParser();
  const records = new XmlRecords(options);
  parser.on('error', (error) => { throw error; });
  parser.on('opentag', (tag) => records.open(tag.name, tag.attributes));
  parser.on('text', (text) => records.text(text));
  parser.on('cdata', (text) => records.text(text));
  parser.on('closetag', (tag) => records.close(tag.name));
  return { parser, records };
}

/** The records in the beginning of a file. Fails when even that is no XML. */
export function xmlRecordsOf(beginning: string, record: string): Record<string, unknown>[] {
  const { parser, records } = recordParser({ record, lists: [], structs: [] });
  parser.write(beginning);
  return records.take();
}

async function xmlToLines(source: string, sink: Sink, options: XmlOptions): Promise<void> {
  const { parser, records } = recordParser(options);
  const text = new TextDecoderStream();
  const lines = async function* (parts: AsyncIterable<string>) {
    for await (const part of parts) {
      parser.write(part);
      for (const each of records.take()) yield `${JSON.stringify(each)}\n`;
    }
    parser.close();
    for (const each of records.take()) yield `${JSON.stringify(each)}\n`;
  };
  const bytes = Readable.toWeb(await unpackedFile(source, options.compression)) as unknown as ReadableStream<Uint8Array>;
  await pipeline(lines(bytes.pipeThrough(text as unknown as TransformStream<Uint8Array, string>) as unknown as AsyncIterable<string>), ...sink());
}

/** Rows that stand anywhere in a text of JSON or YAML, an object a line. */
async function toJsonLines(source: string, sink: Sink, options: JsonOptions): Promise<void> {
  const decoder = new TextDecoder(options.encoding);
  const rows = new JsonRows(options);
  const lines = async function* (bytes: AsyncIterable<Buffer>) {
    if (options.syntax === 'yaml') {
      const { jsonOfYaml } = await import('./yaml-json');
      for await (const json of jsonOfYaml(bytes, decoder)) yield rows.push(json);
    } else if (options.syntax === 'pairs') {
      for await (const lines of wholeLines(bytes, decoder)) yield rows.push(lines.map((line) => `${pairsAsJson(line) ?? ''}\n`).join(''));
    } else {
      let isFirst = true;
      for await (const chunk of bytes) {
        const text = decoder.decode(chunk, { stream: true });
        yield rows.push(isFirst ? text.replace(/^\ufeff/, '') : text);
        isFirst = false;
      }
    }
    yield rows.push(decoder.decode()) + rows.end();
    if (!rows.wasMet) throw new LakeError('bad-file', `there is nothing at ${options.at}`);
  };
  await pipeline(await unpackedFile(source, options.compression), lines as never, ...sink());
}

async function* wholeLines(bytes: AsyncIterable<Buffer>, decoder: InstanceType<typeof TextDecoder>): AsyncGenerator<string[]> {
  let rest = '';
  for await (const chunk of bytes) {
    const lines = (rest + decoder.decode(chunk, { stream: true })).split(/\r\n|\n/);
    rest = lines.pop()!;
    if (rest.length > MOST_LINE) throw new LakeError('bad-file', `a line is longer than ${MOST_LINE.toLocaleString('en')} characters`);
    yield lines;
  }
  yield [rest];
}

const MOST_LINE = 16 * 1024 * 1024;

/** How this one file is cut; as the others are where it shows nothing of its own. */
async function ownOptions(source: string, options: CsvOptions): Promise<CsvOptions> {
  const packing = compressionByBytes(await readPart(source, { start: 0, end: PACKING_BYTES }));
  const head = await unpackHead(await readPart(source, { start: 0, end: OWN_BYTES }), packing);
  const { encoding } = encodingOf([head]);
  const found = readDelimited({ text: new TextDecoder(encoding).decode(head), isCut: (await stat(source)).size > OWN_BYTES || packing !== 'none', middles: [], encoding, compression: packing, isNamedSo: true });
  if (!found) return { ...options, compression: packing, encoding };
  const { delimiter, quote, escape, comment, skip, skipEnd, header, headerLines } = found.options;
  return { ...options, delimiter, quote, escape, comment, skip, skipEnd, header, headerLines, encoding, compression: packing };
}

const OWN_BYTES = 256 * 1024;

/** So much of a text is looked at for its header. */
const HEADER_CHARACTERS = 256 * 1024;

/** Any delimited text as RFC 4180 has it, in UTF-8, with the names of its columns on the first line. */
async function toPlainCsv(source: string, sink: Sink, options: CsvOptions): Promise<void> {
  const decoder = new TextDecoder(options.encoding);
  const parts = async function* (bytes: AsyncIterable<Buffer>) {
    for await (const chunk of bytes) yield decoder.decode(chunk, { stream: true });
    yield decoder.decode();
  };
  const lines = async function* (texts: AsyncIterable<string>) {
    const stream = new RecordStream(options, options.skip);
    const held: TextRecord[] = [];
    let head: string | undefined = '';
    let width = 0;
    let header = options.header ? options.headerLines : 0;
    const written = (records: readonly TextRecord[]) => {
      held.push(...records.slice(header));
      header = Math.max(0, header - records.length);
      return held.splice(0, Math.max(0, held.length - options.skipEnd)).map(({ cells }) => plainLine(cells, options.pads ? width : cells.length)).join('');
    };
    for await (const text of texts) {
      if (head === undefined) {
        yield written(stream.push(text));
        continue;
      }
      head += text;
      if (head.length < HEADER_CHARACTERS) continue;
      const names = headerOf(head);
      width = names.length;
      yield plainLine(names, width) + written(stream.push(head));
      head = undefined;
    }
    if (head !== undefined) {
      const names = headerOf(`${head}\n`);
      width = names.length;
      yield plainLine(names, width) + written(stream.push(head));
    }
    yield written(stream.end());
  };
  const headerOf = (head: string) => headerNames(head, options, { skip: options.skip, headerLines: options.header ? options.headerLines : 0 });
  await pipeline(await unpackedFile(source, options.compression), parts as never, lines as never, ...sink());
}

/** With empty cells at its end where it is shorter. */
function plainLine(cells: readonly string[], width: number): string {
  return csvLine(cells.length < width ? [...cells, ...Array.from({ length: width - cells.length }, () => '')] : cells);
}

async function toUtf8(source: string, sink: Sink, encoding: string, compression: Compression): Promise<void> {
  const decoder = new TextDecoder(encoding);
  const recode = new Transform({
    transform: (chunk: Buffer, _encoding, done) => done(null, decoder.decode(chunk, { stream: true })),
    flush: (done) => done(null, decoder.decode()),
  });
  await pipeline(await unpackedFile(source, compression), recode, ...sink());
}
