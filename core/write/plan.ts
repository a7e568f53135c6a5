/** How a write is cut into files: said as a goal, from which a mechanism follows that can also be chosen by hand. */
import { LakeError } from '../errors';
import { Cursor } from '../sql/cursor';
import { formatBytes, parseBytes } from '../values/bytes';

export type FileGoal =
  | { kind: 'size'; bytes: number }
  /** In each folder. */
  | { kind: 'at-most'; files: number }
  | { kind: 'one' }
  | { kind: 'per-key' };

/**
 * `hash`: rows of one key go to one file, chosen by the key's hash. `range`: each file has a range of the key.
 * `even`: rows are counted off in their order. `key`: a file for each key.
 */
export type Mechanism = 'hash' | 'range' | 'even' | 'key';

export interface SortTerm {
  column: string;
  descending: boolean;
  /** Rows without a value come last elsewhere. */
  nullsFirst?: boolean;
}

export interface FilePlan {
  goal: FileGoal;
  /** Columns that rows are told apart by. */
  by: string[];
  mechanism: Mechanism;
  /** Order of the rows in each file; where empty, none is promised. */
  sort: SortTerm[];
}

export const DEFAULT_FILE_BYTES = 128_000_000;
const MOST_FILES = 10_000;

/** Names of the options that say a file plan. */
export const FILE_PLAN_OPTIONS = ['files', 'by', 'mechanism', 'sort'] as const;

/** `columnOf` gives a column as it is spelled. Undefined where none of the options is given. */
export function readFilePlan(options: Readonly<Record<string, string>>, columnOf: (name: string) => string | undefined): FilePlan | undefined {
  if (!FILE_PLAN_OPTIONS.some((name) => options[name] !== undefined)) return undefined;
  const known = (name: string, option: string): string => {
    const column = columnOf(name);
    if (column === undefined) throw new LakeError('bad-request', `The rows have no column "${name}", which "${option}" names.`);
    return column;
  };
  const goal = readGoal(options.files ?? `about ${formatBytes(DEFAULT_FILE_BYTES)}`);
  const by = readTerms(options.by ?? '').map(({ column }) => known(column, 'by'));
  const sort = readTerms(options.sort ?? '').map((term) => ({ ...term, column: known(term.column, 'sort') }));
  return { goal, by, mechanism: mechanismOf(goal, by, options.mechanism), sort };
}

/** `about 128 MB`, `at most 5`, `one`, `per key`. */
export function readGoal(text: string): FileGoal {
  const words = text.trim().toLowerCase().replace(/\s+/g, ' ');
  if (words === 'one') return { kind: 'one' };
  if (words === 'per key') return { kind: 'per-key' };
  const most = /^at most (\d+)$/.exec(words);
  if (most) {
    const files = Number(most[1]);
    if (files < 1 || files > MOST_FILES) throw new LakeError('bad-request', `At most 1 to ${MOST_FILES} files, not ${files}.`);
    return { kind: 'at-most', files };
  }
  const size = /^about (.+)$/.exec(words);
  const bytes = size ? parseBytes(size[1]!) : undefined;
  if (bytes === undefined) throw new LakeError('bad-request', `"${text}" says no goal for files.`, { hint: "Write 'about 128 MB', 'at most 5', 'one' or 'per key'." });
  if (bytes < 1000) throw new LakeError('bad-request', 'Files of less than 1 kB make no sense.');
  return { kind: 'size', bytes };
}

export function goalText(goal: FileGoal): string {
  switch (goal.kind) {
    case 'size':
      return `about ${formatBytes(goal.bytes)}`;
    case 'at-most':
      return `at most ${goal.files}`;
    case 'one':
      return 'one';
    case 'per-key':
      return 'per key';
  }
}

function mechanismOf(goal: FileGoal, by: readonly string[], wanted: string | undefined): Mechanism {
  if (goal.kind === 'per-key' && by.length === 0) throw new LakeError('bad-request', 'A file per key needs the columns of the key.', { hint: "Add by = 'column'." });
  const byKey: Mechanism = goal.kind === 'size' && by.length === 1 ? 'range' : 'hash';
  const follows: Mechanism = goal.kind === 'per-key' ? 'key' : goal.kind === 'one' || by.length === 0 ? 'even' : byKey;
  if (wanted === undefined) return follows;
  const mechanism = (['hash', 'range', 'even'] as const).find((each) => each === wanted.trim().toLowerCase());
  if (!mechanism) throw new LakeError('bad-request', `Rows are cut by hash, by range or even, not by "${wanted}".`);
  if (goal.kind === 'per-key' || goal.kind === 'one') throw new LakeError('bad-request', `With the goal "${goalText(goal)}" there is nothing to choose a mechanism for.`, { hint: 'Leave the mechanism out.' });
  if (mechanism !== 'even' && by.length === 0) throw new LakeError('bad-request', `Cutting by ${mechanism} needs the columns to go by.`, { hint: "Add by = 'column'." });
  if (mechanism === 'range' && by.length > 1) throw new LakeError('bad-request', 'Ranges are cut by one column.', { hint: 'Name one, or cut by hash.' });
  return mechanism;
}

/** `site, taken_at DESC`. */
function readTerms(text: string): SortTerm[] {
  if (text.trim() === '') return [];
  const cursor = new Cursor(text);
  const terms: SortTerm[] = [];
  do {
    const column = cursor.columnName();
    const descending = cursor.take('DESC');
    if (!descending) cursor.take('ASC');
    terms.push({ column, descending });
  } while (cursor.takeMark(','));
  if (!cursor.atEnd()) throw cursor.wanted('a comma, or the end of the list');
  return terms;
}

/** What the mechanism does and what it costs, in words. */
export function explainPlan({ goal, by, mechanism, sort }: FilePlan, hasFolders: boolean): string[] {
  const each = hasFolders ? 'in each folder' : 'in all';
  const key = by.join(', ');
  const cut: Record<Mechanism, string> = {
    key: `One file for each ${key}, ${each}: rows of one key are together, and a key with many rows is a large file.`,
    hash: `Rows go by the hash of ${key}: all rows of one key are in one file, keys are spread about evenly, and a key with many rows makes its file large.`,
    range: `Each file holds a range of ${key}, with about as many rows each: readers that ask for a range read few files. The bounds are taken from the rows beforehand.`,
    even: `Rows are counted off ${sort.length > 0 ? 'in the order of the rows' : 'as they come'}: files are of one size, and a key may be in several.`,
  };
  const goals: Record<FileGoal['kind'], string> = {
    size: `As many files ${each} as make them ${goalText(goal)} each.`,
    'at-most': `No more than ${goal.kind === 'at-most' ? goal.files : 0} files ${each}.`,
    one: `One file ${each}: nothing of it is written side by side, which is slow when it is large.`,
    'per-key': '',
  };
  return [goals[goal.kind], ...(goal.kind === 'one' ? [] : [cut[mechanism]]), sort.length > 0 ? `In each file rows are in the order of ${sort.map(({ column, descending }) => `${column}${descending ? ' descending' : ''}`).join(', ')}.` : ''].filter((text) => text !== '');
}
