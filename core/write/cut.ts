/** From groups of rows to the files that they become. */
import { LakeError } from '../errors';
import { columnsOf, nameFrom, type NameValues } from './name-pattern';
import type { FolderWrite } from './folder-write';
import type { FilePlan } from './plan';

/** Rows that go to one folder and, by key, hash or range, to one file of it. */
export interface RowGroup {
  /** By what they are grouped, as text; the folder's before the key's. */
  values: (string | null)[];
  /** Of hash and range, from 1. */
  file: number | null;
  rows: number;
}

/** A file that is to be. Rows of one group follow each other, so `from` is their place among the group's. */
export interface CutFile {
  group: number;
  from: number;
  rows: number;
  /** In its folder, from 1. */
  number: number;
  of: number;
}

/** What a plan needs to know beyond itself: of a size goal the rows that make a file of that size. */
export interface CutFigures {
  rowsPerFile: number;
  /** Of hash and range: into how many. */
  files: number;
}

const MOST_FILES = 100_000;

/** `folderValues`: how many of a group's values name its folder. Groups of one folder follow each other. */
export function cutFiles(plan: FilePlan, groups: readonly RowGroup[], folderValues: number, figures: CutFigures): CutFile[] {
  const files: CutFile[] = [];
  for (let first = 0; first < groups.length; ) {
    let end = first + 1;
    const folder = JSON.stringify(groups[first]!.values.slice(0, folderValues));
    while (end < groups.length && JSON.stringify(groups[end]!.values.slice(0, folderValues)) === folder) end++;
    files.push(...filesOfFolder(plan, groups, first, end, figures));
    if (files.length > MOST_FILES) throw new LakeError('limit', `This would make more than ${MOST_FILES} files. Nothing was written.`, { hint: 'Choose a goal of fewer, or group by columns with fewer values.' });
    first = end;
  }
  return files;
}

function filesOfFolder(plan: FilePlan, groups: readonly RowGroup[], first: number, end: number, { rowsPerFile, files }: CutFigures): CutFile[] {
  const whole = (group: number, number: number, of: number): CutFile => ({ group, number, of, from: 0, rows: groups[group]!.rows });
  if (plan.mechanism === 'key') return groups.slice(first, end).map((_, index) => whole(first + index, index + 1, end - first));
  if (plan.mechanism !== 'even') return groups.slice(first, end).map((group, index) => whole(first + index, group.file!, files));
  const { rows } = groups[first]!;
  const count = plan.goal.kind === 'one' ? 1 : plan.goal.kind === 'at-most' ? Math.min(plan.goal.files, rows) : Math.ceil(rows / rowsPerFile);
  const bound = (index: number) => Math.round((rows * index) / count);
  return Array.from({ length: count }, (_, index) => ({ group: first, number: index + 1, of: count, from: bound(index), rows: bound(index + 1) - bound(index) }));
}

/** Each file's path below the folder that is written to. Fails where two would be the same. */
export function filePaths(write: FolderWrite, groups: readonly RowGroup[], files: readonly CutFile[], extension: string, when: Pick<NameValues, 'at' | 'id'>): string[] {
  const columns = groupColumns(write);
  const taken = new Map<string, string>();
  return files.map(({ group, number, of }) => {
    const { values } = groups[group]!;
    const known: NameValues = { ...when, number, of, values: new Map(columns.map((column, index) => [column, values[index] ?? null])), key: write.files.by };
    const name = nameFrom(write.names, known);
    const path = [...write.folders.map((step) => nameFrom(step, known)), name.toLowerCase().endsWith(extension) ? name : `${name}${extension}`].join('/');
    // Some file systems tell no upper from lower case.
    const other = taken.get(path.toLowerCase());
    if (other !== undefined) throw new LakeError('bad-request', `Two files would have the name ${path}${other === path ? '' : ` (and ${other})`}. Nothing was written.`, { hint: 'Put {number} or the whole key in the pattern of names.' });
    taken.set(path.toLowerCase(), path);
    return path;
  });
}

/** Columns that rows are grouped by: those of the folders, then those of the key. */
export function groupColumns({ folders, files }: Pick<FolderWrite, 'folders' | 'files'>): string[] {
  const inFolders = columnsOf(folders);
  return [...inFolders, ...(files.mechanism === 'key' ? files.by.filter((column) => !inFolders.includes(column)) : [])];
}
