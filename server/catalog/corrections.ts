/** How people corrected the reading of columns, kept for files that look alike. */
import { createHash } from 'node:crypto';
import type { FolderDefinition } from '../../core/folder/table';
import type { ColumnCorrection } from '../crawl/correct-columns';
import type { Sql } from './database';

export interface Remembered extends ColumnCorrection {
  /** Where it was corrected first. */
  place: string;
}

/** What files have in common that look alike: their format, and the names of their columns. */
export function alikeKey({ options, found, fields, partitionColumns }: FolderDefinition): string {
  const names = (found ?? fields)
    .map(({ name }) => name.toLowerCase())
    .filter((name) => !partitionColumns.some((column) => column.toLowerCase() === name))
    .sort();
  return createHash('sha256')
    .update(JSON.stringify([options.format, names]))
    .digest('hex');
}

/** Names are of the table alone; types and ways of writing count for its likes too. */
export async function rememberCorrections(
  sql: Sql,
  folder: FolderDefinition,
  corrections: readonly ColumnCorrection[],
  place: string,
  who: string,
): Promise<void> {
  for (const { name, rename: _, ...how } of corrections) {
    if (how.type === undefined && how.form === undefined) continue;
    await sql.query(
      `INSERT INTO correction (alike, column_name, correction, place, who) VALUES ($1, $2, $3, $4, $5)
       ON CONFLICT (alike, column_name) DO UPDATE
       SET correction = excluded.correction, place = excluded.place, who = excluded.who, at = now()`,
      [alikeKey(folder), name, JSON.stringify({ name, ...how }), place, who],
    );
  }
}

export async function rememberedCorrections(sql: Sql): Promise<Map<string, Remembered[]>> {
  const rows = await sql.query<{ alike: string; correction: ColumnCorrection; place: string }>(
    'SELECT alike, correction, place FROM correction ORDER BY at',
  );
  const found = new Map<string, Remembered[]>();
  for (const { alike, correction, place } of rows)
    found.set(alike, [...(found.get(alike) ?? []), { ...correction, place }]);
  return found;
}
