/** One folder with several tables in it, told apart by the beginnings of file names and by what the files hold. */
import { baseName } from '../storage/paths';
import type { FileFacts } from './infer';

/** Files of one folder that belong together: `orders-*.csv`. */
export interface Part {
  stem: string;
  paths: string[];
}

/** Columns that two kinds of file may share, as a share of all their columns, before they count as one table. */
const ALIKE = 0.5;

/**
 * The parts, or undefined when the files make one table: names differ in their beginnings, each beginning has columns
 * of its own, and those have little in common.
 */
export function splitByName(facts: readonly FileFacts[]): Part[] | undefined {
  const parts = new Map<string, FileFacts[]>();
  for (const each of facts) {
    const stem = stemOf(baseName(each.path));
    parts.set(stem, [...(parts.get(stem) ?? []), each]);
  }
  if (parts.size < 2 || parts.has('')) return undefined;
  const columns = [...parts.values()].map((files) => new Set(files.flatMap((file) => file.columns.map((column) => column.name.toLowerCase()))));
  for (let i = 0; i < columns.length; i++) for (let j = i + 1; j < columns.length; j++) if (alike(columns[i]!, columns[j]!) >= ALIKE) return undefined;
  // Within a part every file must have most of the part's columns, else names say nothing.
  for (const [index, files] of [...parts.values()].entries()) if (files.some((file) => file.columns.length < columns[index]!.size * ALIKE)) return undefined;
  return [...parts].map(([stem, files]) => ({ stem, paths: files.map((file) => file.path) }));
}

/** The name up to its first digit or ending: `orders-2026-01.csv` and `orders.csv` both give `orders`. */
export function stemOf(name: string): string {
  return (/^[\p{L}_-]*[\p{L}]/u.exec(name.split('.')[0]!)?.[0] ?? '').replace(/[-_]+$/, '');
}

function alike(a: ReadonlySet<string>, b: ReadonlySet<string>): number {
  const shared = [...a].filter((name) => b.has(name)).length;
  return shared / Math.max(1, new Set([...a, ...b]).size);
}
