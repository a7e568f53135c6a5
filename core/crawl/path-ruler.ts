/** The path ruler: each step of the files' paths with what it may be (this, any, a column), and what a pattern makes of them. */
import { inferPartitionType } from './infer';
import { plainStepName } from './group';
import { typeName } from '../schema/type-names';
import { baseName, isHidden } from '../storage/paths';
import type { ObjectInfo } from '../storage/object-store';
import { parsePattern } from '../folder/path-pattern';

export interface RulerStep {
  /** The step as most files have it, or one of its values. */
  example: string;
  /** Different values, and the first few of them. */
  values: number;
  some: string[];
  /** How the pattern writes it for each choice; the column's name can be changed. */
  asThis: string;
  asAny: string;
  asColumn: string;
}

export interface RulerColumn {
  name: string;
  type: string;
  values: number;
  first: string | null;
  last: string | null;
  /** Whole numbers or days between first and last that no file has; null where the values are no such. */
  missing: number | null;
  missingSome: string[];
}

export interface PathRuler {
  /** From the storage's root. */
  pattern: string;
  steps: RulerStep[];
  columns: RulerColumn[];
  matching: number;
  of: number;
  bytes: number;
  /** The first few files that do not match. */
  leftOver: string[];
}

const SOME = 12;

/** The files under `folder`, hidden and empty ones left out. A pattern that is missing is suggested. */
export function pathRuler(all: readonly ObjectInfo[], folder: string, given?: string): PathRuler {
  const files = all.filter((file) => file.bytes > 0 && !isHidden(file.path));
  const depth = mostFrequent(files.map((file) => file.path.split('/').length)) ?? 1;
  const paths = files.map((file) => file.path.split('/')).filter((steps) => steps.length === depth);
  const folderSteps = folder === '' ? 0 : folder.split('/').length;
  const steps = Array.from({ length: depth }, (_, at) => stepOf(paths, at, at === depth - 1, at < folderSteps));
  const pattern = given ?? suggest(steps, folderSteps);
  const parsed = parsePattern(pattern);
  const matches = files.map((file) => ({ file, match: parsed.match(file.path) }));
  const fitting = matches.flatMap(({ file, match }) => (match ? [{ file, match }] : []));
  return {
    pattern,
    steps,
    columns: parsed.columns.map((name) => columnOf(name, fitting.map(({ match }) => match[name] ?? null))),
    matching: fitting.length,
    of: files.length,
    bytes: fitting.reduce((sum, { file }) => sum + file.bytes, 0),
    leftOver: matches.filter(({ match }) => !match).slice(0, SOME).map(({ file }) => file.path),
  };
}

function stepOf(paths: readonly string[][], at: number, isFile: boolean, isFixed: boolean): RulerStep {
  const values = [...new Set(paths.map((steps) => steps[at]!))].sort();
  const example = values[0] ?? '';
  const { before, after } = isFile ? { before: '', after: ending(values) } : { before: hiveKey(values), after: '' };
  const above = paths[0]?.slice(0, at).map((_, index) => stepName([...new Set(paths.map((steps) => steps[index]!))], paths[0]!.slice(0, index))) ?? [];
  const name = before !== '' ? before.slice(0, -1) : isFile ? 'file' : isFixed ? columnName(paths[0]?.[at] ?? '', at) : plainStepName(values, above);
  return {
    example,
    values: values.length,
    some: values.slice(0, SOME),
    asThis: example,
    asAny: `${before}*${after}`,
    asColumn: `${before}{${name}}${after}`,
  };
}

/** What each step before is, so that a day is known by the month above it. */
function stepName(values: string[], before: readonly string[]): string {
  const names: string[] = [];
  for (const each of before) names.push(plainStepName([each], names));
  return plainStepName(values, names);
}

function columnName(value: string, at: number): string {
  return /^\p{L}/u.test(value) ? 'part' : `step_${at + 1}`;
}

function suggest(steps: readonly RulerStep[], folderSteps: number): string {
  return steps.map((step, at) => {
    if (at === steps.length - 1) return step.values === 1 ? step.asThis : step.asAny;
    return at < folderSteps || step.values === 1 ? (at >= folderSteps && step.asColumn.includes('={') ? step.asColumn : step.asThis) : step.asColumn;
  }).join('/');
}

/** `day=` where every value begins so. */
function hiveKey(values: readonly string[]): string {
  const key = /^([^=]+)=/.exec(values[0] ?? '')?.[1];
  return key !== undefined && values.every((value) => value.startsWith(`${key}=`)) ? `${key}=` : '';
}

/** The ending that all file names share: `.log.gz`. */
function ending(names: readonly string[]): string {
  const endings = new Set(names.map((name) => /(\.[A-Za-z][A-Za-z0-9]*)+$/.exec(baseName(name))?.[0] ?? ''));
  return endings.size === 1 ? [...endings][0]! : '';
}

function columnOf(name: string, texts: readonly (string | null)[]): RulerColumn {
  const type = inferPartitionType([...new Set(texts)]);
  const isNumber = type.kind === 'int' || type.kind === 'long';
  const values = [...new Set(texts)].filter((text): text is string => text !== null).sort((a, b) => (isNumber ? Number(a) - Number(b) : a < b ? -1 : 1));
  const gaps = isNumber ? numberGaps(values.map(Number)) : type.kind === 'date' ? dayGaps(values) : undefined;
  return { name, type: typeName(type), values: values.length, first: values[0] ?? null, last: values.at(-1) ?? null, missing: gaps?.count ?? null, missingSome: gaps?.some ?? [] };
}

interface Gaps {
  count: number;
  some: string[];
}

function numberGaps(values: readonly number[]): Gaps {
  const present = new Set(values);
  return gaps(values[0] ?? 0, values.at(-1) ?? -1, (each) => present.has(each), String);
}

function dayGaps(values: readonly string[]): Gaps {
  const day = 86_400_000;
  const present = new Set(values);
  const text = (index: number) => new Date(index * day).toISOString().slice(0, 10);
  return gaps(Date.parse(values[0] ?? '') / day, Date.parse(values.at(-1) ?? '') / day, (each) => present.has(text(each)), text);
}

/** Beyond this a span is no row of days or numbers with gaps in it. */
const LONGEST_SPAN = 100_000;

function gaps(first: number, last: number, has: (value: number) => boolean, text: (value: number) => string): Gaps {
  const found: Gaps = { count: 0, some: [] };
  if (!(last - first < LONGEST_SPAN)) return found;
  for (let value = first; value <= last; value++) {
    if (has(value)) continue;
    found.count++;
    if (found.some.length < SOME) found.some.push(text(value));
  }
  return found;
}

function mostFrequent(values: readonly number[]): number | undefined {
  const counts = new Map<number, number>();
  for (const value of values) counts.set(value, (counts.get(value) ?? 0) + 1);
  return [...counts].sort((a, b) => b[1] - a[1])[0]?.[0];
}
