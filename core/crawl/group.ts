/** Groups the files of a storage into table candidates by their folders and names alone. */
import { pauses } from '../pause';
import type { ObjectInfo } from '../storage/object-store';
import { memberPath } from '../storage/members';
import { baseName, below, isHidden, joinPath, parentPath } from '../storage/paths';
import { extensionOf, isBeside, kindByName, WITHOUT_TABLE, type FileKind } from './kinds';
import { commonStart, nameStem } from './names';

export type Candidate =
  | { kind: 'delta'; root: string; files: ObjectInfo[] }
  | { kind: 'iceberg'; root: string; files: ObjectInfo[] }
  | { kind: 'files'; root: string; files: ObjectInfo[]; fileKind: FileKind; pattern: string; partitions: string[]; label?: string };

interface Folder {
  path: string;
  files: ObjectInfo[];
  folders: Map<string, Folder>;
}

/** Candidates in path order. `start` is the folder that was crawled. Goes through the files a few times, whatever is among them, and lets others have their turn. */
export async function groupFiles(files: readonly ObjectInfo[], start: string): Promise<Candidate[]> {
  const pause = pauses();
  const roots = await metadataRoots(files, pause);
  const ofTables = new Map<string, ObjectInfo[]>();
  const top: Folder = { path: start, files: [], folders: new Map() };
  for (const [index, file] of files.entries()) {
    const root = outermost(file.path, roots);
    if (root !== undefined) put(ofTables, root, file);
    else if (file.bytes > 0 && !isHidden(below(start, file.path) ?? file.path)) putInTree(top, start, file);
    if (index % EACH === 0) await pause();
  }
  const tables = [...ofTables].map(([root, own]): Candidate => ({ kind: roots.get(root)!, root, files: own }));
  return [...tables, ...(await folderCandidates(top, pause))].sort((a, b) => (a.root < b.root ? -1 : 1));
}

/** So many files are gone through before the time is looked at. */
const EACH = 64;

function put(map: Map<string, ObjectInfo[]>, key: string, file: ObjectInfo): void {
  const list = map.get(key);
  if (list) list.push(file);
  else map.set(key, [file]);
}

/** Folders with a Delta log, or with Iceberg metadata. */
async function metadataRoots(files: readonly ObjectInfo[], pause: Pause): Promise<Map<string, 'delta' | 'iceberg'>> {
  const roots = new Map<string, 'delta' | 'iceberg'>();
  for (const [index, { path }] of files.entries()) {
    const delta = /^(.*?)\/?_delta_log\/\d{20}\.(?:json|checkpoint.*\.parquet)$/.exec(path);
    if (delta) roots.set(delta[1]!, 'delta');
    const iceberg = /^(.*?)\/?metadata\/[^/]+\.metadata\.json(?:\.gz)?$/.exec(path);
    if (iceberg && !roots.has(iceberg[1]!)) roots.set(iceberg[1]!, 'iceberg');
    if (index % EACH === 0) await pause();
  }
  return roots;
}

/** The root that the path lies in and that lies in no other; found by its steps, not by going through all roots. */
function outermost(path: string, roots: ReadonlyMap<string, unknown>): string | undefined {
  if (roots.size === 0) return undefined;
  if (roots.has('')) return '';
  for (let cut = path.indexOf('/'); cut >= 0; cut = path.indexOf('/', cut + 1)) {
    const folder = path.slice(0, cut);
    if (roots.has(folder)) return folder;
  }
  return undefined;
}

function putInTree(top: Folder, start: string, file: ObjectInfo): void {
  const steps = (below(start, file.path) ?? file.path).split('/').slice(0, -1);
  let at = top;
  for (const step of steps) {
    if (!at.folders.has(step)) at.folders.set(step, { path: joinPath(at.path, step), files: [], folders: new Map() });
    at = at.folders.get(step)!;
  }
  at.files.push(file);
}

type Pause = () => Promise<void> | undefined;

async function folderCandidates(folder: Folder, pause: Pause): Promise<Candidate[]> {
  await pause();
  const children = [...folder.folders.values()];
  const partition = partitionStep([...folder.folders.keys()]);
  if (partition) return candidatesOf(folder.path, [...folder.files, ...children.flatMap(allFiles)]);
  const found = candidatesOf(folder.path, folder.files);
  for (const child of children) found.push(...(await folderCandidates(child, pause)));
  return found;
}

function allFiles(folder: Folder): ObjectInfo[] {
  return [...folder.files, ...[...folder.folders.values()].flatMap(allFiles)];
}

/** Whether folder names read as values of one partition: `key=value` with one key, or numbers and dates. */
function partitionStep(names: string[]): boolean {
  if (names.length === 0) return false;
  const keys = new Set(names.map((name) => /^([^=]+)=/.exec(name)?.[1]));
  if (keys.size === 1 && !keys.has(undefined)) return true;
  return names.every((name) => /^\d{1,4}$/.test(name)) || names.every((name) => /^\d{4}-\d\d(-\d\d)?$/.test(name));
}

/** One for the files of each depth and ending, and for each sheet and table of one file. What is told apart has a label. */
function candidatesOf(root: string, files: readonly ObjectInfo[]): Candidate[] {
  const within = memberPath(root)?.kind;
  if (within === 'spreadsheet' || within === 'database') {
    const tables = files.map((file) => alone(root, file));
    return tables.length === 1 ? tables.map(({ label: _, ...only }) => only) : tables;
  }
  const data = files.filter((file) => !isBeside(file.path));
  const groups = new Map<string, ObjectInfo[]>();
  for (const file of data.length > 0 ? data : files) put(groups, `${depthOf(root, file)} ${extensionOf(file.path)}`, file);
  const candidates = [...groups.values()].flatMap((own) => tablesOf(root, own, files));
  const readable = candidates.filter(({ fileKind }) => fileKind !== 'other' && !WITHOUT_TABLE.has(fileKind));
  // One that is the only table of its folder is called like the folder.
  return candidates.map(({ label, ...each }) => (candidates.length === 1 || (readable.length === 1 && readable[0]!.files === each.files) ? each : { ...each, label }));
}

type Labelled = Extract<Candidate, { kind: 'files' }> & { label: string };

/** The files of one ending as one table, under a pattern that takes in them and nothing else that lies there; where there is none, file by file. */
function tablesOf(root: string, own: readonly ObjectInfo[], all: readonly ObjectInfo[]): Labelled[] {
  const guessed = guessPattern(root, own);
  const step = own.length === all.length ? '*' : fileStep(root, own, all);
  if (step === undefined) return own.map((file) => alone(root, file));
  const label = (guessed.partitions.length === 0 ? commonStem(own) : '') || extensionOf(own[0]!.path) || 'files';
  return [{ kind: 'files', root, files: [...own], fileKind: kindByName(own[0]!.path), ...guessed, pattern: guessed.pattern.replace(/\*$/, () => step), label }];
}

function alone(root: string, file: ObjectInfo): Labelled {
  return { kind: 'files', root, files: [file], fileKind: kindByName(file.path), pattern: below(root, file.path)!, partitions: [], label: nameStem(file.path) };
}

function depthOf(root: string, file: ObjectInfo): number {
  return below(root, file.path)!.split('/').length;
}

/** The last step of a pattern: the file's own name, or an ending that these files have and no other of their depth. */
function fileStep(root: string, own: readonly ObjectInfo[], all: readonly ObjectInfo[]): string | undefined {
  const [first, ...more] = own.map((file) => baseName(file.path));
  if (more.length === 0) return first!;
  const extension = extensionOf(first!);
  if (extension === '') return undefined;
  const taken = new Set(own);
  const depth = depthOf(root, own[0]!);
  const others = all.filter((file) => !taken.has(file) && depthOf(root, file) === depth).map((file) => baseName(file.path));
  const ending = first!.slice(first!.toLowerCase().lastIndexOf(`.${extension}`));
  if (more.every((name) => name.endsWith(ending))) return others.some((name) => name.endsWith(ending)) ? undefined : `*${ending}`;
  // Packed in several ways, or not all of them.
  const middle = `.${extension}`;
  return more.concat(first!).every((name) => name.includes(middle)) && !others.some((name) => name.includes(middle)) ? `*${middle}*` : undefined;
}

/** What all their names begin with, without a number at the end; all of it for one file. */
function commonStem(files: readonly ObjectInfo[]): string {
  const stems = files.map((file) => nameStem(file.path));
  return stems.length === 1 ? stems[0]! : commonStart(stems).replace(/[\d\s_.-]+$/, '');
}

/** The path pattern of files at one depth: `key={key}` for Hive steps, year/month/day for plain numbers. */
export function guessPattern(root: string, files: readonly ObjectInfo[]): { pattern: string; partitions: string[] } {
  const paths = files.map((file) => below(root, parentPath(file.path)) ?? '');
  const steps = paths[0] === '' || paths[0] === undefined ? 0 : paths[0].split('/').length;
  const partitions: string[] = [];
  const pattern: string[] = [];
  const context = dateSteps(root);
  for (let depth = 0; depth < steps; depth++) {
    const names = new Set(paths.map((path) => path.split('/')[depth]!));
    const hive = /^([^=]+)=/.exec([...names][0]!)?.[1];
    if (hive) {
      partitions.push(hive);
      pattern.push(`${hive}={${hive}}`);
    } else {
      const name = plainStepName([...names], [...context, ...partitions]);
      partitions.push(name);
      pattern.push(`{${name}}`);
    }
  }
  return { pattern: [...pattern, '*'].join('/'), partitions };
}

/** What the last steps of the folder itself are: under `logs/2026/03` the next step is a day. */
function dateSteps(root: string): string[] {
  const found: string[] = [];
  for (const step of root.split('/')) {
    const name = plainStepName([step], found);
    if (name.startsWith('step_')) found.length = 0;
    else found.push(name);
  }
  return found;
}

/** Names for steps that are bare values; what each is follows from its range and the steps before it. */
export function plainStepName(names: string[], before: string[]): string {
  const numbers = names.map(Number);
  const within = (low: number, high: number) => numbers.every((each) => Number.isInteger(each) && each >= low && each <= high);
  if (names.every((name) => /^\d{4}$/.test(name)) && within(1900, 2200)) return 'year';
  if (before.at(-1) === 'year' && within(1, 12)) return 'month';
  if (before.at(-1) === 'month' && within(1, 31)) return 'day';
  if (before.at(-1) === 'day' && within(0, 23)) return 'hour';
  if (names.every((name) => /^\d{4}-\d\d-\d\d$/.test(name)) && !before.includes('day')) return 'day';
  return `step_${before.length + 1}`;
}
