/** Which character stands between the fields of a text, judged by how evenly it cuts the lines. */
export interface DelimiterGuess {
  delimiter: string;
  fields: number;
  /** Share of lines with that many fields, 0 to 1. */
  agreement: number;
}

const CANDIDATES = ['|', '\t', ';', ',', ' '];

/**
 * The best candidate, or undefined when no character cuts a large enough share of the lines into the same number of
 * fields, two or more. A file whose name says that it is delimited needs only half its lines to agree: the others are
 * faults to be told of, not a sign of another format.
 */
export function guessDelimiter(lines: readonly string[], least = 0.9): DelimiterGuess | undefined {
  const texts = lines.filter((line) => line.trim() !== '');
  if (texts.length === 0) return undefined;
  const guesses = CANDIDATES.map((delimiter) => judge(texts, delimiter)).filter((guess) => guess.fields >= 2 && guess.agreement >= least);
  return guesses.sort((a, b) => b.agreement - a.agreement || CANDIDATES.indexOf(a.delimiter) - CANDIDATES.indexOf(b.delimiter))[0];
}

function judge(lines: readonly string[], delimiter: string): DelimiterGuess {
  const counts = new Map<number, number>();
  for (const line of lines) {
    const fields = line.replace(/"[^"]*"/g, '').split(delimiter).length;
    counts.set(fields, (counts.get(fields) ?? 0) + 1);
  }
  const [fields, times] = [...counts].sort((a, b) => b[1] - a[1] || b[0] - a[0])[0]!;
  return { delimiter, fields, agreement: times / lines.length };
}

/** A comma where some values are digits, a comma and digits, and none has a point instead. */
export function guessDecimal(lines: readonly string[], delimiter: string): '.' | ',' {
  if (delimiter === ',') return '.';
  const cells = lines.flatMap((line) => line.split(delimiter));
  return cells.some((cell) => /^-?\d+,\d+$/.test(cell)) && !cells.some((cell) => /^-?\d+\.\d+$/.test(cell)) ? ',' : '.';
}
