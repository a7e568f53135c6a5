/** Columns of text that is set in fixed width, found by the gutters of two spaces or more that run down all lines. */
import type { RulerColumn } from '../folder/column-ruler';
import { tableName } from './names';

export interface FixedWidthGuess {
  header: boolean;
  columns: RulerColumn[];
}

/** Fewer lines could line up by chance. */
const LEAST_LINES = 4;

/** Undefined when the lines do not line up, or when every gap is a single space: then spaces just stand between fields. */
export function guessFixedWidth(lines: readonly string[]): FixedWidthGuess | undefined {
  const texts = lines.map((line) => line.trimEnd()).filter((line) => line !== '');
  if (texts.length < LEAST_LINES || texts.some((line) => line.includes('\t')) || !texts.some((line) => /\S {2,}\S/.test(line))) return undefined;
  const width = Math.max(...texts.map((line) => line.length));
  const blank = Array.from({ length: width }, (_, at) => texts.every((line) => (line[at] ?? ' ') === ' '));
  const spans: { from: number; to: number }[] = [];
  for (let at = 0; at < width; at++) {
    if (blank[at]) continue;
    const from = at;
    // A single space may stand within a value, as between a date and a time.
    while (at < width && !(blank[at] && (blank[at + 1] ?? true))) at++;
    spans.push({ from, to: at });
  }
  if (spans.length < 2) return undefined;
  const cells = (line: string) => spans.map(({ from, to }) => line.slice(from, to).trim());
  const [first, ...rest] = texts.map(cells);
  const header = first!.every((cell) => cell !== '' && !/^[\d.,:+-]/.test(cell)) && rest.some((row) => row.some((cell) => /^[\d+-]/.test(cell)));
  const columns = spans.map(({ from }, index) => ({
    name: header ? tableName(first![index]!) : `field_${index + 1}`,
    from: from + 1,
    // A column runs up to the next one: longer values than those seen still fit.
    to: index + 1 < spans.length ? spans[index + 1]!.from : width,
  }));
  return { header, columns: columns.map((column, index) => ({ ...column, name: columns.findIndex((other) => other.name === column.name) === index ? column.name : `${column.name}_${index + 1}` })) };
}
