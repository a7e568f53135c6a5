/** What files said of themselves when they were opened; good while size, time and etag stay. */
import { createHash } from 'node:crypto';
import type { ObjectInfo } from '../../core/storage/object-store';
import { baseName, joinPath, parentPath } from '../../core/storage/paths';
import type { Inspected } from '../lake/inspect';
import type { Sql } from './database';

/** Raised when guesses get better, so that what was guessed before is looked at again. */
export const JUDGED_BY = 4;

/** How the files were read: as they seemed, or with given options. */
export function readAs(given: unknown): string {
  return `${JUDGED_BY} ${given === undefined ? '' : createHash('md5').update(JSON.stringify(given)).digest('hex')}`;
}

/** A file of a folder; `shape` is its place among the row's shapes. */
type SeenFile = [name: string, bytes: number, modified: number, etag: string | null, shape: number, rows: number | null, aboutRows: number | null];

interface SeenRow {
  id: number;
  folder: string;
  shapes: string[];
  files: SeenFile[];
}

/** A folder whose facts lie in more rows than these is put together anew. */
const MOST_ROWS = 4;

/** What is known of files under the folder that have not changed since they were opened, by path. */
export async function knownFacts(sql: Sql, storageId: number, folder: string, how: string, files: readonly ObjectInfo[]): Promise<Map<string, Inspected>> {
  const rows = await sql.query<SeenRow>(
    'SELECT id, folder, shapes, files FROM seen_file WHERE storage_id = $1 AND read_as = $2 AND ($3 = \'\' OR folder = $3 OR starts_with(folder, $3 || \'/\')) ORDER BY id',
    [storageId, how, folder],
  );
  const known = new Map<string, Inspected>();
  if (rows.length === 0) return known;
  const shapes = await sql.query<{ hash: string; facts: Omit<Inspected, 'path'> }>('SELECT hash, facts FROM seen_shape WHERE hash = ANY($1)', [[...new Set(rows.flatMap((row) => row.shapes))]]);
  const byHash = new Map(shapes.map((shape) => [shape.hash, shape.facts]));
  const now = new Map(files.map((file) => [file.path, file]));
  for (const row of rows) {
    for (const [name, bytes, modified, etag, shape, count, about] of row.files) {
      const path = joinPath(row.folder, name);
      const file = now.get(path);
      if (!file || file.bytes !== bytes || file.modified !== modified || (file.etag ?? null) !== etag) continue;
      known.set(path, { ...byHash.get(row.shapes[shape]!)!, path, ...(count === null ? {} : { rows: count }), ...(about === null ? {} : { aboutRows: about }) });
    }
  }
  await putTogether(sql, storageId, how, rows);
  return known;
}

export async function rememberFacts(sql: Sql, storageId: number, how: string, files: readonly ObjectInfo[], facts: readonly Inspected[]): Promise<void> {
  const byPath = new Map(files.map((file) => [file.path, file]));
  const hashes = new HashedShapes();
  const folders = new Map<string, { shapes: string[]; files: SeenFile[] }>();
  for (const { path, rows, aboutRows, ...shape } of facts) {
    const file = byPath.get(path);
    if (!file) continue;
    const folder = folders.get(parentPath(path)) ?? { shapes: [], files: [] };
    folders.set(parentPath(path), folder);
    const hash = hashes.of(shape);
    if (!folder.shapes.includes(hash)) folder.shapes.push(hash);
    folder.files.push([baseName(path), file.bytes, file.modified, file.etag ?? null, folder.shapes.indexOf(hash), rows ?? null, aboutRows ?? null]);
  }
  if (folders.size === 0) return;
  await sql.query('INSERT INTO seen_shape (hash, facts) SELECT * FROM unnest($1::text[], $2::jsonb[]) ON CONFLICT DO NOTHING', [[...hashes.texts.keys()], [...hashes.texts.values()]]);
  await addRows(sql, storageId, how, [...folders].map(([folder, each]) => ({ folder, ...each })));
}

/** Files of equal columns share one object for them, so their text is made once. */
class HashedShapes {
  readonly texts = new Map<string, string>();
  readonly #byColumns = new Map<unknown, string>();

  of(shape: Omit<Inspected, 'path' | 'rows' | 'aboutRows'>): string {
    const isPlain = shape.problem === undefined && shape.options?.format === 'parquet';
    const known = isPlain ? this.#byColumns.get(shape.columns) : undefined;
    if (known !== undefined) return known;
    const text = JSON.stringify(shape);
    const hash = createHash('md5').update(text).digest('hex');
    this.texts.set(hash, text);
    if (isPlain) this.#byColumns.set(shape.columns, hash);
    return hash;
  }
}

function addRows(sql: Sql, storageId: number, how: string, rows: readonly Omit<SeenRow, 'id'>[]): Promise<unknown> {
  return sql.query(
    `INSERT INTO seen_file (storage_id, read_as, folder, shapes, files)
     SELECT $1, $2, x.folder, ARRAY(SELECT jsonb_array_elements_text(x.shapes)), x.files FROM jsonb_to_recordset($3) AS x(folder text, shapes jsonb, files jsonb)`,
    [storageId, how, JSON.stringify(rows)],
  );
}

/** Folders that many crawls added to get one row again, with the newest of every file. */
async function putTogether(sql: Sql, storageId: number, how: string, rows: readonly SeenRow[]): Promise<void> {
  const byFolder = new Map<string, SeenRow[]>();
  for (const row of rows) byFolder.set(row.folder, [...(byFolder.get(row.folder) ?? []), row]);
  for (const [folder, own] of byFolder) {
    if (own.length <= MOST_ROWS) continue;
    const shapes = [...new Set(own.flatMap((row) => row.shapes))];
    const files = new Map<string, SeenFile>();
    for (const row of own) for (const file of row.files) files.set(file[0], [...file.slice(0, 4), shapes.indexOf(row.shapes[file[4]]!), ...file.slice(5)] as SeenFile);
    await addRows(sql, storageId, how, [{ folder, shapes, files: [...files.values()] }]);
    await sql.query('DELETE FROM seen_file WHERE id = ANY($1)', [own.map((row) => row.id)]);
  }
}
