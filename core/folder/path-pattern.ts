/**
 * Path patterns: steps that are fixed, any (`*`), or hold a column (`{day}`), as in `day={day}/*.parquet` or
 * `{year}/{month}/{day}/*.log.gz`. A mark never crosses a slash.
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

export function parsePattern(text: string): PathPattern {
  const columns: string[] = [];
  const source = text.split(/(\{[^{}/]+\}|\*)/).map((part) => {
    if (part === '*') return '[^/]*';
    if (!/^\{.+\}$/.test(part)) return part.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');
    columns.push(part.slice(1, -1));
    return '([^/]+?)';
  }).join('');
  const repeated = columns.find((name, index) => columns.findIndex((other) => other.toLowerCase() === name.toLowerCase()) !== index);
  if (repeated) throw new LakeError('bad-request', `The path pattern "${text}" has the column "${repeated}" twice.`);
  const expression = new RegExp(`^${source}$`, 'u');
  return {
    text,
    columns,
    match(relativePath) {
      const found = expression.exec(relativePath);
      return found ? Object.fromEntries(columns.map((name, index) => [name, partitionText(found[index + 1]!)])) : undefined;
    },
  };
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
