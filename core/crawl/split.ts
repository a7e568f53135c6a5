/** One folder with several tables in it, told apart by the beginnings of file names and by what the files hold. */
import { baseName } from '../storage/paths';
import type { FileFacts } from './infer';
import { commonStart, nameStem } from './names';

/** Files of one folder that belong together: `orders-*.csv`. */
export interface Part {
  /** What its table is called beside the folder. */
  stem: string;
  /** Of the files, within the folder. */
  pattern: string;
  paths: string[];
}

/** Columns that two kinds of file may share, as a share of all their columns, before they count as one table. */
const ALIKE = 0.5;

/** The parts, or undefined when the files make one table. `facts` are of all files. */
export function splitFiles(facts: readonly FileFacts[]): Part[] | undefined {
  return splitByName(facts) ?? splitByColumns(facts);
}

/** Names differ in their beginnings, each beginning has columns of its own, and those have little in common. */
function splitByName(facts: readonly FileFacts[]): Part[] | undefined {
  const parts = new Map<string, FileFacts[]>();
  for (const each of facts) {
    const stem = stemOf(baseName(each.path));
    parts.set(stem, [...(parts.get(stem) ?? []), each]);
  }
  if (parts.size < 2 || parts.has('')) return undefined;
  const columns = [...parts.values()].map((files) => new Set(files.flatMap(columnsOf)));
  if (anyAlike(columns)) return undefined;
  // Within a part every file must have most of the part's columns, else names say nothing.
  for (const [index, files] of [...parts.values()].entries()) if (files.some((file) => file.columns.length < columns[index]!.size * ALIKE)) return undefined;
  const stems = [...parts.keys()];
  // A pattern of one must not take in the files of another.
  if ([...parts].some(([stem, files]) => files.length > 1 && stems.some((other) => other !== stem && other.startsWith(stem)))) return undefined;
  return [...parts].map(([stem, files]) => ({ stem, pattern: files.length === 1 ? baseName(files[0]!.path) : `${stem}*`, paths: files.map((file) => file.path) }));
}

/** Files with the same columns, whatever they are called. Those whose names no pattern tells from the others are tables of their own. */
function splitByColumns(facts: readonly FileFacts[]): Part[] | undefined {
  const clusters: { columns: ReadonlySet<string>; files: FileFacts[] }[] = [];
  // Only clusters that share a column can be alike, so the others are not looked at.
  const byColumn = new Map<string, Set<(typeof clusters)[number]>>();
  for (const each of facts) {
    const columns = new Set(columnsOf(each));
    const near = new Set([...columns].flatMap((column) => [...(byColumn.get(column) ?? [])]));
    const found = clusters.find((cluster) => near.has(cluster) && (alike(cluster.columns, columns) >= ALIKE || isPartOf(columns, cluster.columns) || isPartOf(cluster.columns, columns)));
    const own = found ?? { columns, files: [] };
    if (!found) clusters.push(own);
    own.files.push(each);
    own.columns = new Set([...own.columns, ...columns]);
    for (const column of columns) byColumn.set(column, (byColumn.get(column) ?? new Set()).add(own));
  }
  if (clusters.length < 2) return undefined;
  return clusters.flatMap(({ files }) => {
    const own = new Set(files);
    const start = commonStart(files.map((file) => baseName(file.path))).replace(/[*{}].*$/, '');
    const isApart = files.length > 1 && start.length >= FEWEST_LETTERS && !facts.some((file) => !own.has(file) && baseName(file.path).startsWith(start));
    if (isApart) return [{ stem: stemOf(start) || start, pattern: `${start}*`, paths: files.map((file) => file.path) }];
    return files.map(({ path }) => ({ stem: nameStem(path), pattern: baseName(path), paths: [path] }));
  });
}

/** A beginning of fewer letters says nothing. */
const FEWEST_LETTERS = 2;

/** Names that were given for want of others say little, so their types are held against each other too. */
function columnsOf({ columns }: FileFacts): string[] {
  return columns.map(({ name, type }) => (/^(column|field)_\d+$/.test(name) ? `${name} ${type.kind}` : name.toLowerCase()));
}

/** The name up to its first digit or ending: `orders-2026-01.csv` and `orders.csv` both give `orders`. */
export function stemOf(name: string): string {
  return (/^[\p{L}_-]*[\p{L}]/u.exec(name.split('.')[0]!)?.[0] ?? '').replace(/[-_]+$/, '');
}

function isPartOf(a: ReadonlySet<string>, b: ReadonlySet<string>): boolean {
  return a.size > 0 && [...a].every((name) => b.has(name));
}

/** Whether two of them are alike; only those that share a column are held against each other. */
function anyAlike(all: readonly ReadonlySet<string>[]): boolean {
  const before = new Map<string, ReadonlySet<string>[]>();
  for (const each of all) {
    const near = new Set([...each].flatMap((column) => before.get(column) ?? []));
    if ([...near].some((other) => alike(each, other) >= ALIKE)) return true;
    for (const column of each) before.set(column, [...(before.get(column) ?? []), each]);
  }
  return false;
}

function alike(a: ReadonlySet<string>, b: ReadonlySet<string>): number {
  const [few, many] = a.size <= b.size ? [a, b] : [b, a];
  let shared = 0;
  for (const name of few) if (many.has(name)) shared++;
  return shared / Math.max(1, a.size + b.size - shared);
}
