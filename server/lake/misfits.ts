/** Lines of plain text files that do not fit how they are read: counted, and shown with the reason. */
import { LakeError } from '../../core/errors';
import { optionsOfCopy, type CsvOptions, type JsonOptions, type LineOptions } from '../../core/folder/read-options';
import { filesToRead, type DataFile, type ScanPlan } from '../../core/scan/plan';
import type { Field } from '../../core/schema/types';
import { readRecords, type TextRecord } from '../../core/text/records';
import { quoteText } from '../../core/sql/tokens';
import { quoteList } from '../engine/instances';
import { linesOf } from '../engine/lines-of';
import { csvReader, cutLines, dataLines, delimitedMisfits, FILE_COLUMN, jsonFits, jsonObject, misfitReasons, rawLines, unmatchedLines } from '../engine/text-readers';
import { translateError } from '../engine/translate';
import { csvHeaders } from './csv-headers';
import type { Lease } from './local-files';
import { rootsOf } from './inspect';
import type { OpenStorage } from './lake';
import type { ScanTools } from './scan-rows';

export interface Misfit {
  path: string;
  /** Where it is known. */
  line: number | null;
  text: string;
  why: string;
}

export interface Misfits {
  count: number;
  /** Lines that were looked at, fitting or not. */
  lines: number;
  files: number;
  of: number;
  /** The first of them. */
  some: Misfit[];
}

/** Files that are looked at; their likes are not. */
const MOST_FILES = 500;
const SHOWN = 200;

/** Fails with `unsupported` for kinds of file that have no lines. */
export async function misfitsOf(tools: ScanTools, storage: OpenStorage, plan: ScanPlan): Promise<Misfits> {
  const all = filesToRead(plan);
  const files = all.slice(0, MOST_FILES);
  const options = plan.reader.kind === 'text' ? plan.reader.options : undefined;
  if (!options || options.format === 'parquet' || options.format === 'avro' || options.format === 'arrow' || options.format === 'xml') throw new LakeError('unsupported', 'Only text has lines that could not fit.');
  const part: ScanPlan = { ...plan, considered: files.map((file) => ({ file, verdict: 'read' })) };
  const lease = await tools.local.forPlan(storage, part);
  try {
    const local = new Map(files.map((file) => [lease.pathOf(file), file.path]));
    const inFile = plan.fields.filter((field) => !files.some((file) => field.name in file.constants));
    const seen = optionsOfCopy(options) ?? options;
    const found = seen.format === 'csv' ? await delimited(tools, storage, part, files, inFile, seen, lease) : await byLine(tools, [...local.keys()], inFile, seen as LineOptions | JsonOptions);
    const numberOf = lineNumbers();
    const some = found.rows.map(([file, line, text, why]) => ({ path: local.get(file) ?? file, line: line ?? numberOf(file, text), text: String(text ?? '').slice(0, 2000), why: plainReason(String(why)) }));
    return { count: found.count, lines: found.lines, files: files.length, of: all.length, some };
  } catch (error) {
    throw translateError(error, { roots: rootsOf(storage), copies: lease.copies });
  } finally {
    lease.release();
  }
}

/** Finds lines by their text, reading each file once; a text that comes again is the next one. */
function lineNumbers(): (file: string, text: string) => number | null {
  const files = new Map<string, { lines: string[]; next: Map<string, number> }>();
  return (file, text) => {
    const known = files.get(file) ?? { lines: linesOf(file) ?? [], next: new Map<string, number>() };
    files.set(file, known);
    const at = known.lines.indexOf(text, known.next.get(text) ?? 0);
    known.next.set(text, at + 1);
    return at < 0 ? null : at + 1;
  };
}

type Found = { count: number; lines: number; rows: [file: string, line: number | null, text: string, why: string][] };

/** The engine's reader of delimited text keeps what it refuses, when it is asked to. */
async function delimited({ engine }: ScanTools, storage: OpenStorage, plan: ScanPlan, files: readonly DataFile[], fields: readonly Field[], options: CsvOptions, lease: Lease): Promise<Found> {
  const headers = await csvHeaders(storage.store, plan, lease);
  const groups = new Map<string, { header: string[] | undefined; files: string[] }>();
  for (const file of files) {
    const header = headers.get(file.path);
    const group = groups.get(JSON.stringify(header)) ?? { header, files: [] };
    group.files.push(lease.pathOf(file));
    groups.set(JSON.stringify(header), group);
  }
  const found: Found = { count: 0, lines: 0, rows: [] };
  for (const { header, files: list } of groups.values()) {
    const asText = fields.map((each) => (options.forms[each.name] || each.type.kind !== 'double' ? { ...each, type: { kind: 'string' } as const } : each));
    const reader = csvReader(asText, quoteList(list), { ...options, forms: {}, misfits: 'set-aside' }, header, ["store_rejects = true, rejects_table = 'misfit', rejects_scan = 'misfit_scan', rejects_limit = 0"]);
    const misfits = delimitedMisfits(fields, quoteList(list), options, header);
    const { rows } = await engine.call('run', {
      sql: `DROP TABLE IF EXISTS misfit; DROP TABLE IF EXISTS misfit_scan; CREATE OR REPLACE TEMP TABLE cut_rows AS SELECT count(*) FILTER (WHERE hash(t) IS NOT NULL) AS n FROM ${reader} AS t;
            SELECT (SELECT n FROM cut_rows), (SELECT count(DISTINCT (scan_id, file_id, line)) FROM misfit), (SELECT count(*) FROM (${misfits})),
              (SELECT list([file_path, line::VARCHAR, csv_line, error_message]) FROM (SELECT s.file_path, m.line, any_value(m.csv_line) AS csv_line, string_agg(m.error_message, '; ') AS error_message FROM misfit m JOIN misfit_scan s USING (scan_id, file_id) GROUP BY s.file_path, m.line ORDER BY 1, 2 LIMIT ${SHOWN})),
              (SELECT list([file, index::VARCHAR, value, why]) FROM (SELECT * FROM (${misfits}) LIMIT ${SHOWN}))`,
    });
    const [cut, uncut, odd, some, values] = rows[0] as [number, number, number, [string, string, string, string][] | null, [string, string, string, string][] | null];
    found.count += Number(uncut) + Number(odd);
    found.lines += Number(cut) + Number(uncut);
    const lineOf = lineFinder(options);
    found.rows.push(
      ...(some ?? []).map(([file, line, text, why]): Found['rows'][number] => [file, Number(line), text, why]),
      ...(values ?? []).map(([file, index, value, why]): Found['rows'][number] => [file, ...lineOf(file, Number(index), value), why]),
    );
  }
  const ordered = found.rows.sort((a, b) => (a[0] < b[0] ? -1 : a[0] > b[0] ? 1 : (a[1] ?? Infinity) - (b[1] ?? Infinity)));
  return { ...found, rows: ordered.slice(0, SHOWN) };
}

/** Finds the line that has a text in a field, reading each file's beginning once; what comes again is the next one. */
function lineFinder({ skip, ...dialect }: CsvOptions): (file: string, index: number, value: string) => [line: number | null, text: string] {
  const files = new Map<string, { lines: string[]; records: TextRecord[]; from: Map<string, number> }>();
  return (file, index, value) => {
    if (!files.has(file)) {
      const lines = linesOf(file) ?? [];
      files.set(file, { lines, records: readRecords(lines.join('\n'), dialect).records.filter(({ line }) => line > skip), from: new Map() });
    }
    const { lines, records, from } = files.get(file)!;
    const key = `${index} ${value}`;
    const at = records.findIndex(({ cells }, place) => place >= (from.get(key) ?? 0) && cells[index]?.trim() === value.trim());
    if (at < 0) return [null, value];
    from.set(key, at + 1);
    return [records[at]!.line, lines[records[at]!.line - 1] ?? value];
  };
}

async function byLine({ engine }: ScanTools, files: readonly string[], fields: readonly Field[], options: LineOptions | JsonOptions): Promise<Found> {
  const list = quoteList(files);
  const [lines, misfits] = options.format === 'json'
    ? [`SELECT line FROM ${rawLines(list, options)} WHERE line IS NOT NULL`, `SELECT ${FILE_COLUMN} AS file, line, CASE WHEN r IS NULL THEN 'it is no JSON object' ELSE 'a value is not of its column''s type' END AS why FROM (SELECT ${FILE_COLUMN}, line, ${jsonObject(fields)} AS r FROM ${rawLines(list, options)} WHERE line IS NOT NULL) WHERE NOT (${jsonFits(fields)})`]
    : [dataLines(list, options), lineMisfits(list, fields, options)];
  const { rows } = await engine.call('run', { sql: `SELECT (SELECT count(*) FROM (${lines})), (SELECT count(*) FROM (${misfits})), (SELECT list([file, line, why]) FROM (SELECT * FROM (${misfits}) LIMIT ${SHOWN}))` });
  const [looked, count, some] = rows[0] as [number, number, [string, string, string][] | null];
  return { count: Number(count), lines: Number(looked), rows: (some ?? []).map(([file, line, why]) => [file, null, line, why]) };
}

function lineMisfits(list: string, fields: readonly Field[], options: LineOptions): string {
  const values = `SELECT ${FILE_COLUMN} AS file, line, ${misfitReasons(fields, options)} AS why FROM (${cutLines(fields.map((field) => field.name), list, { ...options, misfits: 'set-aside' })})`;
  const typed = `SELECT file, line, why FROM (${values}) WHERE why <> ''`;
  return options.format === 'fixed' ? typed : `${typed} UNION ALL SELECT ${FILE_COLUMN}, line, ${quoteText('it does not match the pattern')} FROM (${unmatchedLines(list, options)})`;
}

/** The engine's reasons in our words. */
function plainReason(message: string): string {
  return message.split('; ').map((each) => {
    const [, column, value, type] = /converting column "(.*?)"\. Could not convert string "(.*?)" to '(.*?)'/s.exec(each) ?? [];
    if (column !== undefined) return `"${value}" in ${column} is not a ${type!.toLowerCase()}`;
    const [, expected, found] = /Expected Number of Columns:\s*(\d+)\s*Found:\s*(\d+)/.exec(each) ?? [];
    return expected === undefined ? each : `expected ${expected} fields, found ${found}`;
  }).join('; ');
}
