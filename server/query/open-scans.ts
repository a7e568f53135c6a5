/** The tables of a planned query made ready for the engine: files at hand, relations as SQL, and what a sealed instance may open. */
import path from 'node:path';
import { filesToRead } from '../../core/scan/plan';
import type { Allow } from '../engine/messages';
import { NO_ROWS_FILE } from '../engine/parquet-scan';
import { loadRowFilters, scanOf, type Scan, type ScanInput } from '../engine/scan-sql';
import type { Place } from '../engine/translate';
import type { Suspect } from '../lake/blame';
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
  /** Parquet files that are read, to be looked at one by one when one of them is damaged. */
  suspects: Suspect[];
  /** The same table over fewer of its files, whose rows keep the positions that they have in the whole scan. */
  narrowed(standIn: string, name: string, isWanted: (file: number) => boolean): Scan;
  release(): Promise<void>;
}

export interface ScanTools {
  local: LocalFiles;
  shapes: Pick<FileShapes, 'plainFiles'>;
}

/**
 * Up to so many files are allowed one by one, which takes the engine 26 microseconds each; beyond that the folders that they
 * lie in. Those are the table's own, and what a person writes cannot name a path in them: see
 * docs/decisions/what-a-query-may-open.md.
 */
const EXACT_FILES = 400;

/** `scratch` takes rows that are fetched for this query alone. On failure everything is released. */
export async function openScans(tables: readonly PlannedTable[], { local, shapes }: ScanTools, scratch: string): Promise<OpenScans> {
  const inputs = new Map<string, ScanInput>();
  const opened: OpenScans = {
    setup: [], relations: new Map(), allow: {}, copies: new Map(), suspects: [],
    narrowed: (standIn, name, isWanted) => narrowed({ ...inputs.get(standIn)!, name }, isWanted),
    release: async () => {
      for (const each of releases) await each();
    },
  };
  const releases: (() => Promise<void> | void)[] = [];
  const files: string[][] = [];
  try {
    for (const table of tables) files.push(await openOne(table, { local, shapes }, scratch, { opened, inputs, releases }));
  } catch (error) {
    await opened.release();
    throw error;
  }
  opened.allow = allowOf(tables.map((table, index) => ({ files: files[index]!, isInPlace: table.source.storage.store.root !== undefined })));
  return opened;
}

/** What a sealed instance may open for the files of each table: those alone, or where they are many the folders that they lie in. */
export function allowOf(tables: readonly { files: readonly string[]; isInPlace: boolean }[]): Allow {
  const count = tables.reduce((sum, { files }) => sum + files.length, 0);
  if (count <= EXACT_FILES) return { files: [...tables.flatMap(({ files }) => files), NO_ROWS_FILE] };
  const allow = { files: [NO_ROWS_FILE], folders: [] as string[] };
  for (const { files, isInPlace } of tables) {
    // Copies of other storages' files lie beside each other, whatever table they are of.
    if (files.length <= EXACT_FILES / 4 || !isInPlace) allow.files.push(...files);
    else allow.folders.push(...foldersOf(files));
  }
  return allow;
}

/** The folders of the files; where those are many too, the deepest one that holds them all. */
function foldersOf(files: readonly string[]): string[] {
  const folders = [...new Set(files.map((file) => path.dirname(file)))];
  if (folders.length <= EXACT_FILES) return folders;
  let common = folders[0]!.split('/');
  for (const folder of folders) {
    const steps = folder.split('/');
    const differs = common.findIndex((step, index) => step !== steps[index]);
    if (differs >= 0) common = common.slice(0, differs);
  }
  return [common.join('/')];
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
  const lease = await local.forPlan(source.storage, plan);
  releases.push(() => lease.release());
  const [headers, rows] = await Promise.all([csvHeaders(source.storage.store, plan, lease), loadRowFilters(plan)]);
  for (const [copy, place] of lease.copies) opened.copies.set(copy, place);
  // Rows that tell where they lie are read one file after the other, as they were planned.
  const plain = withPositions ? undefined : await shapes.plainFiles(plan, (file) => lease.pathOf(file));
  put({ name: standIn, plan, localPath: (file) => lease.pathOf(file), headers, rows, withPositions, ...(plain ? { plain } : {}) });
  if (plan.reader.kind === 'parquet') opened.suspects.push(...filesToRead(plan).map((file) => ({ local: lease.pathOf(file), name: `${source.storage.storage.name}:${file.path}`, path: file.path, bytes: file.bytes })));
  return filesToRead(plan).map((file) => lease.pathOf(file));
}

function narrowed(input: ScanInput, isWanted: (file: number) => boolean): Scan {
  const files = filesToRead(input.plan);
  const numbers = new Map(files.map((file, index) => [file, index]));
  const considered = files.filter((_, index) => isWanted(index)).map((file) => ({ file, verdict: 'read' as const }));
  return scanOf({ ...input, plan: { ...input.plan, considered }, numberOf: (file) => numbers.get(file)! });
}
