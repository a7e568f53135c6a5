/** The sheets of a spreadsheet, each as delimited text: what the cells hold, not how they are shown, so that no digit is lost. */
import { readFile, stat } from 'node:fs/promises';
import { LakeError } from '../../core/errors';
import { csvLine } from '../../core/text/records';
import { readPart } from '../storage/read-part';
import type { CellObject, WorkSheet } from '@e965/xlsx';
import type { MemberSink } from './member-sink';
import { odsSheets, type Sheet } from './ods-sheets';

/** A spreadsheet is held whole while it is read. */
const MOST_BYTES = 200e6;
/** A day, in the numbers that spreadsheets have for times. */
const DAY_MS = 86_400_000;

export async function sheetsOf(source: string, sink: MemberSink): Promise<void> {
  const { size } = await stat(source);
  if (size > MOST_BYTES)
    throw new LakeError(
      'limit',
      `spreadsheets of more than ${MOST_BYTES / 1e6} MB are not read; save its sheets as CSV`,
    );
  if (await isOpenDocument(source))
    return writeSheets(
      (await odsSheets(source)).map(({ name, rows }) => ({ name, rows: trimmed(rows) })),
      sink,
    );
  const { read, SSF, utils } = (await import('@e965/xlsx')).default ?? (await import('@e965/xlsx'));
  const book = read(await readFile(source), {
    dense: true,
    cellNF: true,
    cellHTML: false,
    cellText: false,
    cellFormula: false,
    sheetStubs: false,
    WTF: false,
  });
  const is1904 = book.Workbook?.WBProps?.date1904 === true;
  const textOf = (cell: CellObject): string => {
    if (cell.t === 'n')
      return typeof cell.z === 'string' && SSF.is_date(cell.z)
        ? timeText(cell.v as number, cell.z, is1904)
        : String(cell.v);
    if (cell.t === 'b') return String(cell.v);
    if (cell.t === 'e') return cell.w ?? '#ERROR';
    if (cell.t === 'd') return (cell.v as Date).toISOString();
    return cell.v === undefined ? '' : String(cell.v);
  };
  writeSheets(
    book.SheetNames.map((name) => ({
      name,
      rows: trimmed(
        cellsOf(book.Sheets[name]!, utils.decode_range).map((row) =>
          Array.from(row, (cell) => (cell ? textOf(cell) : '')),
        ),
      ),
    })),
    sink,
  );
}

/** By its first entry, which says of what kind it is ("Zip file structure", ODF 1.3, part 2). */
async function isOpenDocument(source: string): Promise<boolean> {
  return Buffer.from(await readPart(source, { start: 0, end: 100 }))
    .toString('latin1')
    .includes('mimetypeapplication/vnd.oasis.opendocument.spreadsheet');
}

function writeSheets(sheets: readonly Sheet[], sink: MemberSink): void {
  let empty = 0;
  for (const { name, rows } of sheets) {
    if (rows.length === 0) empty++;
    else sink.text(`${name.replaceAll('/', '_')}.csv`, rows.map(csvLine).join(''));
  }
  if (empty > 0) sink.notes.push(`${empty} ${empty === 1 ? 'sheet is' : 'sheets are'} empty`);
  if (sink.members.length === 0) throw new LakeError('bad-file', 'none of its sheets has a cell');
}

type Cell = CellObject | undefined;

function cellsOf(sheet: WorkSheet, decode: (range: string) => { e: { r: number } }): Cell[][] {
  if (sheet['!ref'] === undefined) return [];
  const data = (sheet['!data'] ?? sheet) as unknown as Cell[][];
  return Array.from({ length: Math.min(decode(sheet['!ref']).e.r + 1, data.length) }, (_, row) => data[row] ?? []);
}

/** Without what is blank above, below, before and after. */
function trimmed(rows: readonly string[][]): string[][] {
  const isUsed = (row: readonly string[]) => row.some((text) => text !== '');
  const first = rows.findIndex(isUsed);
  if (first < 0) return [];
  const used = rows.slice(first, rows.findLastIndex(isUsed) + 1);
  const left = used.filter(isUsed).reduce(
    (least, row) =>
      Math.min(
        least,
        row.findIndex((text) => text !== ''),
      ),
    Infinity,
  );
  const right = used.reduce(
    (most, row) =>
      Math.max(
        most,
        row.findLastIndex((text) => text !== ''),
      ),
    0,
  );
  return used.map((row) => Array.from({ length: right - left + 1 }, (_, column) => row[left + column] ?? ''));
}

/** A number that stands for a time, as ISO 8601 writes it: a day, a time of day, or both; milliseconds at most, as spreadsheets count. */
function timeText(value: number, format: string, is1904: boolean): string {
  const hasDay = /[yd]/i.test(format.replace(/"[^"]*"|\[[^\]]*\]|\\./g, ''));
  const hasTime = /[hs]/i.test(format.replace(/"[^"]*"|\\./g, ''));
  // Serial 60 is a day that never was; what is before counts one more ("1900 leap year", common practice).
  const epoch = is1904 ? Date.UTC(1904, 0, 1) : value < 60 ? Date.UTC(1899, 11, 31) : Date.UTC(1899, 11, 30);
  const at = new Date(epoch + Math.round(value * DAY_MS));
  if (Number.isNaN(at.getTime()) || value < 0) return String(value);
  if (!hasDay && hasTime && value < 1)
    return at
      .toISOString()
      .slice(11, 23)
      .replace(/\.000$/, '');
  const isWhole = Number.isInteger(value);
  // A day at midnight is a day, whatever it is shown as.
  return isWhole
    ? at.toISOString().slice(0, 10)
    : `${at.toISOString().slice(0, 10)} ${at
        .toISOString()
        .slice(11, 23)
        .replace(/\.000$/, '')}`;
}
