/** Answers as tables for people, or as JSON for scripts. */
import Table from 'cli-table3';

export interface Rows {
  columns: { name: string; type?: string }[];
  rows: unknown[][];
}

/** Rows as objects by column name. */
export function asObjects({ columns, rows }: Rows): Record<string, unknown>[] {
  return rows.map((row) => Object.fromEntries(columns.map(({ name }, index) => [name, row[index]])));
}

export function asTable({ columns, rows }: Rows): string {
  const numeric = columns.map(({ type = '' }) => /^(tinyint|smallint|integer|bigint|hugeint|float|double|decimal)/.test(type));
  const table = new Table({ head: columns.map(({ name }) => name), style: { head: [], border: [], compact: true }, colAligns: numeric.map((each) => (each ? 'right' : 'left')) });
  for (const row of rows) table.push(row.map(cell));
  return table.toString();
}

function cell(value: unknown): string {
  if (value === null || value === undefined) return '';
  return typeof value === 'object' ? JSON.stringify(value) : String(value as string | number | boolean);
}
