/** Every way of reading text, through the whole road from file to rows, with lines that do not fit. */
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { gzipSync } from 'node:zlib';
import avro from 'avsc';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { fieldsOfAvro } from '../../core/folder/avro-rows';
import { parseRuler } from '../../core/folder/column-ruler';
import { fullOptions, type GivenOptions } from '../../core/folder/read-options';
import { FolderTable, MemoryListings } from '../../core/folder/table';
import { avroSchemaOf } from '../../core/iceberg/avro';
import { parseTypeName, typeName } from '../../core/schema/type-names';
import { field } from '../../core/schema/types';
import { readTable, storeAt, temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';

let engine: LocalEngine;
const folder = temporaryFolder();
beforeAll(async () => {
  engine = await LocalEngine.start();
});
afterAll(folder.remove);

let folders = 0;
/** A table over files of the given contents; columns as `name type`. */
function tableOf(files: Record<string, string | Buffer>, options: GivenOptions, columns: string[], pattern = '*'): FolderTable {
  const root = `t${++folders}`;
  for (const [name, content] of Object.entries(files)) {
    mkdirSync(path.dirname(path.join(folder.path, root, name)), { recursive: true });
    writeFileSync(path.join(folder.path, root, name), content);
  }
  const fields = columns.map((column) => field(column.slice(0, column.indexOf(' ')), parseTypeName(column.slice(column.indexOf(' ') + 1))));
  const partitionColumns = fields.map((each) => each.name).filter((name) => pattern.includes(`{${name}}`));
  return new FolderTable(storeAt(folder.path), root, 't', { pattern, options: fullOptions(options), fields, partitionColumns }, new MemoryListings());
}
const rows = async (table: FolderTable, sql = 'SELECT * FROM t') => (await readTable(engine, storeAt(folder.path), table, { sql })).rows;

describe('delimited text', () => {
  it('takes a decimal comma, comments, texts for missing values, skipped lines and formats of dates', async () => {
    const table = tableOf({ 'a.csv': 'Lab of the bay\nsite;when;mg\n# the first day\nLow Scar;14.03.2026;1,5\n-;15.03.2026;n/a\n' }, { format: 'csv', delimiter: ';', skip: 1, comment: '#', nullTexts: ['n/a', '-'], decimal: ',', dateFormat: '%d.%m.%Y' }, ['site varchar', 'when date', 'mg double']);
    expect(await rows(table)).toEqual([['Low Scar', '2026-03-14', 1.5], [null, '2026-03-15', null]]);
  });

  it.each([['windows-1252', Buffer.from('a|b\nGr\xf6\xdfe \x80|1\n', 'latin1'), 'Größe €'], ['utf-16le', Buffer.from('\ufeffa|b\nGröße|1\n', 'utf16le'), 'Größe'], ['shift_jis', Buffer.from([0x61, 0x7c, 0x62, 0x0a, 0x8a, 0x43, 0x7c, 0x31, 0x0a]), '海'], ['iso-8859-1', Buffer.from('a|b\nGr\xf6\xdfe|1\n', 'latin1'), 'Größe']])('is read in %s', async (encoding, bytes, text) => {
    expect(await rows(tableOf({ 'a.csv': bytes }, { format: 'csv', delimiter: '|', encoding }, ['a varchar', 'b bigint']))).toEqual([[text, 1]]);
  });

  it('keeps columns apart that only case tells apart, or nothing does, numbered as the engine numbers them', async () => {
    const table = tableOf({ 'a.csv': 'id,ID,n,n\n1,a,2,3\n' }, { format: 'csv', delimiter: ',' }, ['id bigint', 'ID_1 varchar', 'n bigint', 'n_1 bigint']);
    expect(await rows(table)).toEqual([[1, 'a', 2, 3]]);
    const { rows: sniffed } = await engine.call('run', { sql: `SELECT c.name FROM (SELECT unnest("Columns") AS c FROM sniff_csv('${folder.path}/${table.root}/a.csv'))` });
    expect(sniffed.flat()).toEqual(table.definition.fields.map((each) => each.name));
  });

  it('is unpacked from gzip and from zstd, in any encoding', async () => {
    const zstd = path.join(folder.path, 'packed.zst');
    await engine.call('run', { sql: `COPY (SELECT 'x' AS a, 1 AS b) TO '${zstd}' (FORMAT csv, COMPRESSION zstd)` });
    for (const encoding of ['utf-8', 'windows-1252']) {
      expect(await rows(tableOf({ 'a.csv.zst': readFileSync(zstd) }, { format: 'csv', compression: 'zstd', encoding }, ['a varchar', 'b bigint']))).toEqual([['x', 1]]);
      expect(await rows(tableOf({ 'a.csv.gz': gzipSync('a,b\nx,1\n') }, { format: 'csv', compression: 'gzip', encoding }, ['a varchar', 'b bigint']))).toEqual([['x', 1]]);
    }
  });

  it('stops at a line that does not fit, or sets it aside', async () => {
    const files = { 'a.csv': 'a|b\n1|2\nx|3\n4\n5|6|7\n8|9\n' };
    await expect(rows(tableOf(files, { format: 'csv', delimiter: '|' }, ['a bigint', 'b bigint']))).rejects.toMatchObject({ kind: 'bad-file', details: { line: expect.any(Number) } });
    expect(await rows(tableOf(files, { format: 'csv', delimiter: '|', misfits: 'set-aside' }, ['a bigint', 'b bigint']))).toEqual([[1, 2], [8, 9]]);
  });
});

describe('text of fixed width', () => {
  const tides = { 'a.txt': 'Holm Quay      2026-03-14 02:10  4.91\nWhinny Sands   2026-03-14 02:25   n/a\n\n* checked\nLow Scar       2026-03-14 02:31  5.02\n' };
  const ruler = parseRuler('place 1-14, at 16-31, height_m 33-38');
  const columns = ['place varchar', 'at timestamptz', 'height_m double'];

  it('is cut by the ruler', async () => {
    expect(await rows(tableOf(tides, { format: 'fixed', columns: ruler, comment: '*', nullTexts: ['n/a'] }, columns))).toEqual([['Holm Quay', '2026-03-14T02:10:00Z', 4.91], ['Whinny Sands', '2026-03-14T02:25:00Z', null], ['Low Scar', '2026-03-14T02:31:00Z', 5.02]]);
  });

  it('names the file, the line, the column and the value that does not fit, or sets the line aside', async () => {
    await expect(rows(tableOf(tides, { format: 'fixed', columns: ruler, comment: '*' }, columns))).rejects.toMatchObject({ message: `bay:t${folders}/a.txt, line 2: "n/a" in height_m is not a double.`, details: { line: 2 } });
    expect(await rows(tableOf(tides, { format: 'fixed', columns: ruler, comment: '*', misfits: 'set-aside' }, columns), 'SELECT place FROM t')).toEqual([['Holm Quay'], ['Low Scar']]);
  });
});

describe('lines by a regular expression', () => {
  const options = { format: 'pattern', pattern: String.raw`(?<at>\S+) (?P<buoy>TB-\d+) (?<volts>[\d.]+)` } as const;
  const log = { 'a.log': "2026-03-14 TB-01 12.4\n2026-03-14 it's down\n2026-03-14 TB-02 12.1.1\n2026-03-14 TB-03 12.0\n" };
  const columns = ['at date', 'buoy varchar', 'volts double'];

  it('has a column for each named group, and stops where a line does not match', async () => {
    await expect(rows(tableOf(log, options, columns))).rejects.toMatchObject({ message: expect.stringContaining('line 2: the line "2026-03-14 it\'s down" does not match the pattern') as string });
  });

  it('sets aside lines that do not match, and those whose values are of another type', async () => {
    expect(await rows(tableOf(log, { ...options, misfits: 'set-aside' }, columns))).toEqual([['2026-03-14', 'TB-01', 12.4], ['2026-03-14', 'TB-03', 12]]);
  });

  it('gives each of many files its own values from the path', async () => {
    const files = Object.fromEntries(Array.from({ length: 60 }, (_, n) => [`${n}/b-${n % 7}.log`, `2026-03-14 TB-${n} 1.5\n`]));
    const table = tableOf(files, options, [...columns, 'n integer', 'b varchar'], '{n}/b-{b}.log');
    expect(await rows(table, 'SELECT n, buoy, b FROM t ORDER BY n')).toEqual(Array.from({ length: 60 }, (_, n) => [n, `TB-${n}`, String(n % 7)]));
  });
});

describe('JSON lines that do not fit', () => {
  const files = { 'a.jsonl': '{"id": 1, "place": {"lat": 1.5}}\nnot json\n{"id": "x"}\n{"id": 2}\n' };
  it('stop, or are set aside', async () => {
    const columns = ['id bigint', 'place struct(lat double)'];
    await expect(rows(tableOf(files, { format: 'json' }, columns))).rejects.toMatchObject({ kind: 'bad-file', details: { line: 2 } });
    expect(await rows(tableOf(files, { format: 'json', misfits: 'set-aside' }, columns))).toEqual([[1, { lat: 1.5 }], [2, null]]);
  });
});

describe('XML records', () => {
  it('have attributes and elements as columns, lists where an element comes again', async () => {
    const xml = '<?xml version="1.0" encoding="UTF-8"?><w:notices xmlns:w="urn:bay"><w:notice id="7"><place lat="54.3">Low Scar</place><measure>a &amp; b</measure><measure><![CDATA[<c>]]></measure></w:notice><w:notice id="8"><place>Otter Ness</place><measure>d</measure></w:notice></w:notices>';
    const table = tableOf({ 'a.xml': xml }, { format: 'xml', record: 'notice', lists: ['measure'], structs: ['place'] }, ['id bigint', 'place struct(lat double, text varchar)', 'measure varchar[]']);
    expect(await rows(table)).toEqual([[7, { lat: 54.3, text: 'Low Scar' }, ['a & b', '<c>']], [8, { lat: null, text: 'Otter Ness' }, ['d']]]);
  });

  it('say where the file is not well-formed', async () => {
    await expect(rows(tableOf({ 'a.xml': '<a><b>1</b><b>2</a>' }, { format: 'xml', record: 'b' }, ['text varchar']))).rejects.toMatchObject({ kind: 'bad-file', message: expect.stringMatching(/a\.xml cannot be read as xml.*1:\d+/) as string });
  });
});

describe('Avro files', () => {
  // fixtures/plain was written, and read back for comparison, by fastavro 1.13 (tools/fixtures/make_plain_fixtures.py).
  const written = JSON.parse(readFileSync('fixtures/plain/readings.json', 'utf8')) as { rows: number; picked: Record<string, unknown>[] };

  /** A union of several types is read as text; the writer keeps the number that it was. */
  const readUnion = (row: Record<string, unknown>) => ({ ...row, either: /^\d+$/.test(String(row['either'])) ? Number(row['either']) : row['either'] });

  it.each(['null', 'deflate', 'snappy', 'zstandard'])('of another writer are read as that writer reads them, codec %s', async (codec) => {
    const file = readFileSync(`fixtures/plain/readings-${codec}.avro`);
    const fields = fieldsOfAvro(avroSchemaOf(file, 'a.avro'));
    const table = tableOf({ 'a.avro': file }, { format: 'avro' }, fields.map((each) => `${each.name} ${typeName(each.type)}`));
    const micros = (column: string) => `strftime(${column} AT TIME ZONE 'UTC', '%Y-%m-%d %H:%M:%S.%f')`;
    const sql = `SELECT to_json(r)::VARCHAR FROM (SELECT * REPLACE (id::VARCHAR AS id, ${micros('"at"')} AS "at", strftime(local_at, '%Y-%m-%d %H:%M:%S.%f') AS local_at,
      strftime(DATE '1970-01-01' + time, '%H:%M:%S.%f') AS time, level::VARCHAR AS level, fixed_level::VARCHAR AS fixed_level, hex(raw) AS raw) FROM t) r WHERE id IN (${written.picked.map((each) => `'${each['id'] as string}'`).join(', ')}) ORDER BY id`;
    expect((await rows(table, sql)).map(([json]) => readUnion(JSON.parse(json as string) as Record<string, unknown>))).toEqual(written.picked);
    expect(await rows(table, 'SELECT count(*) FROM t')).toEqual([[written.rows]]);
  });

  it('name a type in full that another place defined within the namespace around it', () => {
    const schema = { type: 'record', name: 'Reading', namespace: 'bay.gauges', fields: [{ name: 'here', type: { type: 'record', name: 'Place', fields: [{ name: 'lat', type: 'double' }] } }, { name: 'there', type: ['null', 'bay.gauges.Place'] }, { name: 'near', type: 'Place' }] };
    expect(fieldsOfAvro(schema).map((each) => typeName(each.type))).toEqual(Array(3).fill('struct(lat double)'));
  });

  it('keep their types: long numbers, decimals, times, bytes, nested and missing values', async () => {
    const schema = { type: 'record', name: 'gauge', fields: [
      { name: 'id', type: 'long' }, { name: 'at', type: { type: 'long', logicalType: 'timestamp-millis' } }, { name: 'level', type: ['null', { type: 'bytes', logicalType: 'decimal', precision: 10, scale: 2 }] },
      { name: 'kind', type: { type: 'enum', name: 'kind', symbols: ['RIVER', 'TIDE'] } }, { name: 'tags', type: { type: 'map', values: 'int' } }, { name: 'raw', type: 'bytes' }, { name: 'parts', type: { type: 'array', items: 'double' } },
    ] };
    const file = path.join(folder.path, 'gauge.avro');
    const records = [{ id: 4503599627370497, at: Date.parse('2026-03-14T06:00:00.250Z'), level: Buffer.from([0xff, 0x85]), kind: 'TIDE', tags: { a: 1 }, raw: Buffer.from([0, 255]), parts: [1.5] }, { id: 2, at: 0, level: null, kind: 'RIVER', tags: {}, raw: Buffer.from([]), parts: [] }];
    await new Promise<void>((resolve, reject) => {
      const encoder = avro.createFileEncoder(file, schema as never, { codec: 'deflate' } as never);
      for (const each of records) encoder.write(each);
      (encoder as unknown as { end(): void }).end();
      encoder.on('error', reject);
      setTimeout(resolve, 200);
    });
    const table = tableOf({ 'a.avro': readFileSync(file) }, { format: 'avro' }, ['id bigint', 'at timestamptz', 'level decimal(10,2)', 'kind varchar', 'tags map(varchar, integer)', 'raw blob', 'parts double[]']);
    expect(await rows(table, 'SELECT id, "at", level, kind, tags, hex(raw), parts FROM t')).toEqual([[4503599627370497, '2026-03-14T06:00:00.250000Z', '-1.23', 'TIDE', expect.anything(), '00FF', [1.5]], [2, '1970-01-01T00:00:00Z', null, 'RIVER', expect.anything(), '', []]]);
  });
});
