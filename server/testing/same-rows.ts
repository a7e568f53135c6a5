/** Whether two answers are the same rows in any order; floating-point numbers may differ in their last digits. */
export function sameRows(a: readonly unknown[][], b: readonly unknown[][]): string | undefined {
  if (a.length !== b.length) return `${a.length} rows, where ${b.length} are right`;
  const [one, other] = [sorted(a), sorted(b)];
  for (const [index, row] of one.entries()) {
    const right = other[index]!;
    if (row.length !== right.length || row.some((value, column) => !sameValue(value, right[column]))) return `has the row ${JSON.stringify(row)}, where ${JSON.stringify(right)} is right`;
  }
  return undefined;
}

function sorted(rows: readonly unknown[][]): unknown[][] {
  const key = (row: unknown[]) => JSON.stringify(row.map((value) => (isFloat(value) ? Number(value).toPrecision(6) : value)));
  return rows.map((row) => [key(row), row] as const).sort(([a], [b]) => (a < b ? -1 : a > b ? 1 : 0)).map(([, row]) => row);
}

function isFloat(value: unknown): value is number {
  return typeof value === 'number' && !Number.isInteger(value);
}

function sameValue(a: unknown, b: unknown): boolean {
  if (typeof a === 'number' && typeof b === 'number' && (isFloat(a) || isFloat(b))) return Math.abs(a - b) <= 1e-9 * Math.max(1, Math.abs(a), Math.abs(b));
  return JSON.stringify(a) === JSON.stringify(b);
}
