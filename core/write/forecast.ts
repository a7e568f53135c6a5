/** What a write would make: folders, files, rows and sizes, how uneven they are, and what it costs. */
import { baseName, parentPath } from '../storage/paths';
import type { CutFile } from './cut';

/** Bytes of a file by its rows, from files that were written of a sample. */
export interface SizeModel {
  perFile: number;
  perRow: number;
}

export interface ForecastFile {
  name: string;
  rows: number;
  bytes: number;
}

export interface ForecastFolder {
  /** Below the folder that is written to; empty for itself. */
  path: string;
  rows: number;
  bytes: number;
  /** The first of them. */
  files: ForecastFile[];
  fileCount: number;
}

export interface CostPart {
  what: 'read' | 'order' | 'write';
  millis: number;
  memoryBytes: number;
  /** Through files of the engine's own, where memory does not hold it. */
  diskBytes: number;
}

export interface Forecast {
  /** Of all rows, or of a sample that stands for them. */
  basis: { kind: 'all' } | { kind: 'sample'; rows: number };
  rows: number;
  files: number;
  bytes: number;
  /** The first of them. */
  folders: ForecastFolder[];
  folderCount: number;
  /** The largest file, and how many times the mean it is. */
  largest: { path: string; rows: number; bytes: number; timesMean: number } | null;
  costs: CostPart[];
  /** What is to be said of it: how it is cut, what is slow, what is uneven. */
  says: string[];
  /** What stands in the folder now. */
  existing: { files: number; bytes: number };
}

const SHOWN_FOLDERS = 400;
const SHOWN_FILES = 200;

/** From files of two sizes; where they contradict each other, size goes by rows alone. */
export function sizeModel(whole: { rows: number; bytes: number }, part: { rows: number; bytes: number }): SizeModel {
  if (whole.rows === 0) return { perFile: whole.bytes, perRow: 0 };
  const perRow = whole.rows > part.rows ? (whole.bytes - part.bytes) / (whole.rows - part.rows) : 0;
  const perFile = whole.bytes - perRow * whole.rows;
  if (perRow <= 0 || perFile < 0) return { perFile: 0, perRow: whole.bytes / whole.rows };
  return { perFile, perRow };
}

export function bytesAbout({ perFile, perRow }: SizeModel, rows: number): number {
  return Math.max(1, Math.round(perFile + perRow * rows));
}

export function rowsPerFile(model: SizeModel, bytes: number): number {
  return Math.max(1, Math.round((bytes - model.perFile) / Math.max(model.perRow, 1e-9)));
}

export function treeOf(paths: readonly string[], files: readonly CutFile[], model: SizeModel): Pick<Forecast, 'rows' | 'files' | 'bytes' | 'folders' | 'folderCount' | 'largest'> {
  const each = files.map(({ rows }, index) => ({ path: paths[index]!, rows, bytes: bytesAbout(model, rows) }));
  const byFolder = new Map<string, ForecastFile[]>();
  for (const { path, ...file } of each) {
    const inside = byFolder.get(parentPath(path)) ?? [];
    byFolder.set(parentPath(path), inside);
    inside.push({ name: baseName(path), ...file });
  }
  const folders = [...byFolder];
  const rows = sum(each, (file) => file.rows);
  const largest = each.reduce((most, file) => (most && most.rows >= file.rows ? most : file), each[0]);
  return {
    rows, files: each.length, bytes: sum(each, (file) => file.bytes), folderCount: folders.length,
    folders: folders.slice(0, SHOWN_FOLDERS).map(([path, inside]) => ({
      path, rows: sum(inside, (file) => file.rows), bytes: sum(inside, (file) => file.bytes), fileCount: inside.length,
      files: inside.slice(0, SHOWN_FILES),
    })),
    largest: largest ? { ...largest, timesMean: rows === 0 ? 1 : (largest.rows * each.length) / rows } : null,
  };
}

/** Measured on a sample: the time to put its rows in order and to write them. */
export interface SampleFigures {
  rows: number;
  orderMillis: number;
  writeMillis: number;
  rowBytes: number;
}

/** Ordering grows with n · log n, the others with the rows. */
export function costsOf(rows: number, readMillis: number, sample: SampleFigures, isOrdered: boolean, memoryLimit: number): CostPart[] {
  const share = sample.rows === 0 ? 0 : rows / sample.rows;
  const bytes = Math.round(rows * sample.rowBytes);
  const held = Math.min(bytes, memoryLimit);
  const buffer = Math.min(bytes, ROW_GROUP_ROWS * sample.rowBytes);
  return [
    { what: 'read', millis: Math.round(readMillis), memoryBytes: 0, diskBytes: 0 },
    ...(isOrdered ? [{ what: 'order' as const, millis: Math.round(sample.orderMillis * share * Math.max(1, Math.log2(rows + 2) / Math.log2(sample.rows + 2))), memoryBytes: held, diskBytes: bytes > memoryLimit ? bytes : 0 }] : []),
    { what: 'write', millis: Math.round(sample.writeMillis * share), memoryBytes: Math.round(buffer), diskBytes: 0 },
  ];
}

/** The engine gathers so many rows before it writes them. */
const ROW_GROUP_ROWS = 122_880;

function sum<T>(list: readonly T[], of: (each: T) => number): number {
  return list.reduce((total, each) => total + of(each), 0);
}
