/** The tables of a planned query made ready for the engine: files at hand, relations as SQL, and what a sealed instance may open. */
import path from 'node:path';
import { filesToRead } from '../../core/scan/plan';
import type { Allow } from '../engine/messages';
import { NO_ROWS_FILE } from '../engine/parquet-scan';
import { loadRowFilters, scanOf, type Scan, type ScanInput } from '../engine/scan-sql';
import type { Place } from '../engine/translate';
import { csvHeaders } from '../lake/csv-headers';
import type { LocalFiles } from '../lake/local-files';
import { fetchRows } from '../sources/fetch';
import type { FileShapes } from './file-shapes';
import type { PlannedTable } from './prepare';

export interface OpenScans {
  /** Statements to run before the query. */
  setup: string[];
  /** SQL by stand-in. */
  relations: Map<string, string>;
  allow: Allow;
  /** Copies of files by their local path, for naming them in errors. */
  copies: Map<string, Place>;
  /** The same table over fewer of its files, whose rows keep the positions that they have in the whole scan. */
  narrowed(standIn: string, name: string, isWanted: (file: number) => boolean): Scan;
  release(): Promise<void>;
}

export interface ScanTools {
  local: LocalFiles;
  shapes: Pick<FileShapes, 'plainFiles'>;
}

/** Up to so many files are allowed one by one; beyond that their storages' folders are. */
const EXACT_FILES = 400;

/** `scratch` takes rows that are fetched for this query alone. On failure everything is released. */
export async function openScans(tables: readonly PlannedTable[], { local, shapes }: ScanTools, scratch: string): Promise<OpenScans> {
  const inputs = new Map<string, ScanInput>();
  const opened: OpenScans = {
    setup: [], relations: new Map(), allow: {}, copies: new Map(),
    narrowed: (standIn, name, isWanted) => narrowed({ ...inputs.get(standIn)!, name }, isWanted),
    release: async () => {
      for (const each of releases) await each();
    },
  };
  const releases: (() => Promise<void> | void)[] = [];
  const files: string[] = [];
  try {
    for (const table of tables) files.push(...(await openOne(table, { local, shapes }, scratch, { opened, inputs, releases })));
  } catch (error) {
    await opened.release();
    throw error;
  }
  const folders = () => [path.join(scratch, 'fetched'), ...new Set(tables.flatMap(({ source: { storage } }) => [local.folderOf(storage), ...(storage.store.root === undefined ? [] : [storage.store.root])]))];
  opened.allow = files.length <= EXACT_FILES ? { files: [...files, NO_ROWS_FILE] } : { files: [NO_ROWS_FILE], folders: folders() };
  return opened;
}

interface Opening {
  opened: OpenScans;
  inputs: Map<string, ScanInput>;
  releases: (() => Promise<void> | void)[];
}

/** Returns the local files that the table's rows are read from. */
async function openOne(table: PlannedTable, { local, shapes }: ScanTools, scratch: string, { opened, inputs, releases }: Opening): Promise<string[]> {
  const { source, standIn, plan, columns, withPositions } = table;
  const put = (input: ScanInput) => {
    const { setup, relation } = scanOf(input);
    inputs.set(standIn, input);
    opened.setup.push(...setup);
    opened.relations.set(standIn, relation);
  };
  if (plan.reader.kind === 'source') {
    const fetched = await fetchRows(path.join(scratch, 'fetched'), plan, columns, source.name);
    releases.push(() => fetched.remove());
    put({ name: standIn, plan: fetched.plan, localPath: () => fetched.file });
    return [fetched.file];
  }
  const [lease, headers, rows] = await Promise.all([local.forPlan(source.storage, plan), csvHeaders(source.storage.store, plan), loadRowFilters(plan)]);
  releases.push(() => lease.release());
  for (const [copy, place] of lease.copies) opened.copies.set(copy, place);
  // Rows that tell where they lie are read one file after the other, as they were planned.
  const plain = withPositions ? undefined : await shapes.plainFiles(plan, (file) => lease.pathOf(file));
  put({ name: standIn, plan, localPath: (file) => lease.pathOf(file), headers, rows, withPositions, ...(plain ? { plain } : {}) });
  return filesToRead(plan).map((file) => lease.pathOf(file));
}

function narrowed(input: ScanInput, isWanted: (file: number) => boolean): Scan {
  const files = filesToRead(input.plan);
  const numbers = new Map(files.map((file, index) => [file, index]));
  const considered = files.filter((_, index) => isWanted(index)).map((file) => ({ file, verdict: 'read' as const }));
  return scanOf({ ...input, plan: { ...input.plan, considered }, numberOf: (file) => numbers.get(file)! });
}
