/** A write of plain files to a folder, as its options say it. */
import { LakeError } from '../errors';
import { FILE_KIND_OPTIONS, readFileKind, type FileKind } from './file-kind';
import { columnsOf, isNumbered, readFolderPattern, readNamePattern, type NamePattern } from './name-pattern';
import { FILE_PLAN_OPTIONS, readFilePlan, type FilePlan } from './plan';

/** What becomes of files that stand in the folder before. */
export const EXISTING = ['refuse', 'add', 'clear'] as const;
export type Existing = (typeof EXISTING)[number];

export interface FolderWrite {
  kind: FileKind;
  files: FilePlan;
  /** Steps below the folder, computed from each row. */
  folders: NamePattern[];
  names: NamePattern;
  /** Columns that stand in the names of folders alone. */
  leaveOut: string[];
  existing: Existing;
}

export const WRITE_OPTIONS: readonly string[] = [...FILE_KIND_OPTIONS, ...FILE_PLAN_OPTIONS, 'folders', 'names', 'leave_out', 'existing'];

/** `columns`: of the rows. Fails naming the option that is wrong. */
export function readFolderWrite(options: Readonly<Record<string, string>>, columns: readonly string[]): FolderWrite {
  const unknown = Object.keys(options).find((name) => !WRITE_OPTIONS.includes(name));
  if (unknown !== undefined) throw new LakeError('bad-request', `There is no option "${unknown}" for writing files.`, { hint: `There are ${WRITE_OPTIONS.join(', ')}.` });
  const columnOf = (name: string) => columns.find((column) => column.toLowerCase() === name.toLowerCase());
  const files = readFilePlan({ files: 'about 128 MB', ...options }, columnOf)!;
  const existing = readExisting(options.existing);
  const folders = readFolderPattern(options.folders ?? '', columnOf);
  const names = readNamePattern(options.names ?? defaultNames(files, existing), columnOf);
  const foreign = columnsOf([names]).find((column) => !columnsOf(folders).includes(column) && !(files.mechanism === 'key' && files.by.includes(column)));
  if (foreign !== undefined) throw new LakeError('bad-request', `Names of files hold {${foreign}}, of which one file may have many values.`, { hint: `Write a file per key (files = 'per key', by = '${foreign}'), or put {${foreign}} in the folders.` });
  const tellsKeys = files.mechanism === 'key' && files.by.every((column) => columnsOf([names]).includes(column) || columnsOf(folders).includes(column));
  if (files.goal.kind !== 'one' && !isNumbered(names) && !tellsKeys && !names.some((part) => part.kind === 'word' && part.word === 'key')) throw new LakeError('bad-request', 'Several files of one folder would have the same name.', { hint: 'Put {number} in the pattern of their names.' });
  const leaveOut = (options.leave_out ?? '').split(',').map((name) => name.trim()).filter((name) => name !== '').map((name) => {
    const column = columnOf(name);
    if (column === undefined) throw new LakeError('bad-request', `The rows have no column "${name}" to leave out.`);
    return column;
  });
  if (leaveOut.length >= columns.length) throw new LakeError('bad-request', 'No column would be left in the files.');
  return { kind: readFileKind(options), files, folders, names, leaveOut, existing };
}

export function readExisting(text: string | undefined): Existing {
  const wanted = text?.toLowerCase() ?? 'refuse';
  const found = EXISTING.find((each) => each === wanted);
  if (!found) throw new LakeError('bad-request', `"existing" is one of ${EXISTING.join(', ')}, not "${text}".`);
  return found;
}

/** Files that are added to others get a name that no other write gives. */
function defaultNames({ mechanism, goal }: FilePlan, existing: Existing): string {
  const name = mechanism === 'key' ? '{key}' : goal.kind === 'one' ? 'rows' : 'part-{number:5}';
  return existing === 'add' ? `${name}-{id}` : name;
}
