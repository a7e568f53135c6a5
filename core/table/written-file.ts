import type { Value } from '../values/value';

/** What the writer of a Parquet file says of one column; min and max are texts as `parseValue` reads them. */
export interface WrittenColumn {
  /** Names from the top down; list elements are `element`, map entries `key` and `value`. */
  path: string[];
  min?: string;
  max?: string;
  nullCount?: number;
  valueCount?: number;
  hasNaN?: boolean;
  /** In the file. */
  bytes?: number;
}

/** A data file that has been written and is not part of any version yet. */
export interface WrittenFile {
  /** Relative to the storage's root. */
  path: string;
  bytes: number;
  rows: number;
  columns: WrittenColumn[];
  /** Typed values by partition column (Delta) or partition field (Iceberg) name. */
  partition: Record<string, Value | null>;
  /** Its rows are not in the table's sort order. */
  isUnsorted?: boolean;
}

/** Text bounds longer than this are cut (and raised at the upper end), so that metadata stays small. */
export const TEXT_BOUND_LENGTH = 32;

/** The first `length` code points, which sort at or below the text. */
export function lowerTextBound(text: string, length = TEXT_BOUND_LENGTH): string {
  return [...text].slice(0, length).join('');
}

/** A text of about `length` code points that sorts at or above the given one, or undefined when there is none. */
export function upperTextBound(text: string, length = TEXT_BOUND_LENGTH): string | undefined {
  const points = [...text];
  if (points.length <= length) return text;
  const kept = points.slice(0, length).map((point) => point.codePointAt(0)!);
  for (let i = kept.length - 1; i >= 0; i--) {
    const next = kept[i]! === 0xd7ff ? 0xe000 : kept[i]! + 1;
    if (next <= 0x10ffff) return String.fromCodePoint(...kept.slice(0, i), next);
  }
  return undefined;
}
