/**
 * Path patterns: steps that are fixed, any (`*`), or hold a column (`{day}`), as in `day={day}/*.parquet` or
 * `{year}/{month}/{day}/*.log.gz`. Parts of one date in several places make one column: `{day:year}/{day:month}/{day:day}`.
 * A mark never crosses a slash.
 */
import { LakeError } from '../errors';

export interface PathPattern {
  text: string;
  columns: string[];
  /** The column texts of a path below the pattern's folder, or undefined when it does not match. Null is a null partition. */
  match(relativePath: string): Record<string, string | null> | undefined;
}

/** Hive's name for the null partition, common practice. */
const NULL_PARTITION = '__HIVE_DEFAULT_PARTITION__';

/** Parts of a date or time, in the order in which they make a text, with what stands before each. */
const PARTS = { year: { digits: 4, before: '' }, month: { digits: 2, before: '-' }, day: { digits: 2, before: '-' }, hour: { digits: 2, before: ' ' } } as const;
type Part = keyof typeof PARTS;

interface Mark {
  column: string;
  part?: Part;
}

export function parsePattern(text: string): PathPattern {
  const marks: Mark[] = [];
  const source = text.split(/(\{[^{}/]+\}|\*)/).map((piece) => {
    if (piece === '*') return '[^/]*';
    if (!/^\{.+\}$/.test(piece)) return piece.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');
    const mark = readMark(piece.slice(1, -1));
    marks.push(mark);
    return mark.part ? `(\\d{1,${PARTS[mark.part].digits}})` : '([^/]+?)';
  }).join('');
  checkMarks(text, marks);
  const expression = new RegExp(`^${source}$`, 'u');
  const columns = [...new Set(marks.map((mark) => mark.column))];
  return {
    text,
    columns,
    match(relativePath) {
      const found = expression.exec(relativePath);
      return found ? Object.fromEntries(columns.map((column) => [column, columnText(column, marks, found)])) : undefined;
    },
  };
}

function readMark(inside: string): Mark {
  const [, column, part] = /^(.*):(year|month|day|hour)$/.exec(inside) ?? [];
  return part === undefined ? { column: inside } : { column: column!, part: part as Part };
}

/** A column stands once, or once with each of its parts, from the year down. */
function checkMarks(text: string, marks: readonly Mark[]): void {
  for (const [index, { column, part }] of marks.entries()) {
    const same = marks.filter((other) => other.column.toLowerCase() === column.toLowerCase());
    if (same.length > 1 && (part === undefined || marks.findIndex((other) => other.column.toLowerCase() === column.toLowerCase() && other.part === part) !== index)) throw new LakeError('bad-request', `The path pattern "${text}" has the column "${column}" twice.`);
    const wanted = (Object.keys(PARTS) as Part[]).slice(0, same.length);
    if (part !== undefined && (same.length < 3 || !same.every((other) => wanted.includes(other.part!)))) throw new LakeError('bad-request', `The path pattern "${text}" needs year, month and day of "${column}" to make a date of it.`);
  }
}

function columnText(column: string, marks: readonly Mark[], found: RegExpExecArray): string | null {
  const at = (part: Part | undefined) => found[marks.findIndex((mark) => mark.column === column && mark.part === part) + 1]!;
  const parts = (Object.keys(PARTS) as Part[]).filter((part) => marks.some((mark) => mark.column === column && mark.part === part));
  if (parts.length === 0) return partitionText(at(undefined));
  const text = parts.map((part) => PARTS[part].before + at(part).padStart(PARTS[part].digits, '0')).join('');
  return parts.includes('hour') ? `${text}:00:00` : text;
}

/** Folder names are percent-escaped where a value holds a special mark. */
function partitionText(step: string): string | null {
  if (step === NULL_PARTITION) return null;
  try {
    return decodeURIComponent(step);
  } catch {
    return step;
  }
}

/** Whether a path is a pattern rather than a file or folder. */
export function isPattern(path: string): boolean {
  return /[*{}]/.test(path);
}

/** The folder that a full pattern begins with, and the rest of it: `landing/logs/{year}/*` is `{year}/*` under `landing/logs`. */
export function splitPattern(full: string): { root: string; pattern: string } {
  const steps = full.split('/').filter((step) => step !== '');
  const first = steps.findIndex(isPattern);
  const cut = first < 0 ? steps.length - 1 : first;
  return { root: steps.slice(0, cut).join('/'), pattern: steps.slice(cut).join('/') };
}

/** The pattern with year, month and day, which stand as columns of their own, made one date; null where they do not. */
export function joinDates(pattern: string): string | null {
  const names = [...pattern.matchAll(/\{([^{}/:]+)\}/g)].map((match) => match[1]!);
  const part = (name: string) => names.find((each) => each.toLowerCase() === name);
  const [year, month, day] = [part('year'), part('month'), part('day')];
  if (!year || !month || !day) return null;
  return pattern.replace(`{${year}}`, '{date:year}').replace(`{${month}}`, '{date:month}').replace(`{${day}}`, '{date:day}');
}
