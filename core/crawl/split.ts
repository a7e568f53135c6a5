/** One folder with several tables in it, told apart by the beginnings of file names and by what the files hold. */
import { baseName } from '../storage/paths';
import type { FileFacts } from './infer';

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

/**
 * Names differ in their beginnings, each beginning has columns of its own, and those have little in common.
 */
function splitByName(facts: readonly FileFacts[]): Part[] | undefined {
  const parts = new Map<string, FileFacts[]>();
  for (const each of facts) {
    const stem = stemOf(baseName(each.path));
    parts.set(stem, [...(parts.get(stem) ?? []), each]);
  }
  if (parts.size < 2 || parts.has('')) return undefined;
  const columns = [...parts.values()].map((files) => new Set(files.flatMap(columnsOf)));
  for (let i = 0; i < columns.length; i++) for (let j = i + 1; j < columns.length; j++) if (alike(columns[i]!, columns[j]!) >= ALIKE) return undefined;
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
  for (const each of facts) {
    const columns = new Set(columnsOf(each));
    const own = clusters.find((cluster) => alike(cluster.columns, columns) >= ALIKE || isPartOf(columns, cluster.columns) || isPartOf(cluster.columns, columns));
    if (own) {
      own.files.push(each);
      own.columns = new Set([...own.columns, ...columns]);
    } else clusters.push({ columns, files: [each] });
  }
  if (clusters.length < 2) return undefined;
  return clusters.flatMap(({ files }) => {
    const names = files.map((file) => baseName(file.path));
    const others = facts.filter((file) => !files.includes(file)).map((file) => baseName(file.path));
    const start = commonStart(names);
    const stem = stemOf(names[0]!.slice(0, start.length)) || start;
    if (files.length > 1 && start.length >= FEWEST_LETTERS && !others.some((name) => name.startsWith(start))) return [{ stem: stem || start, pattern: `${start}*`, paths: files.map((file) => file.path) }];
    return files.map((file) => ({ stem: baseName(file.path).replace(/\..*$/, ''), pattern: baseName(file.path), paths: [file.path] }));
  });
}

/** A beginning of fewer letters says nothing. */
const FEWEST_LETTERS = 2;

function commonStart(names: readonly string[]): string {
  const [first] = names;
  let length = 0;
  while (length < first!.length && names.every((name) => name[length] === first![length])) length++;
  return first!.slice(0, length).replace(/[*{}]/g, '');
}

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

function alike(a: ReadonlySet<string>, b: ReadonlySet<string>): number {
  const shared = [...a].filter((name) => b.has(name)).length;
  return shared / Math.max(1, new Set([...a, ...b]).size);
}
