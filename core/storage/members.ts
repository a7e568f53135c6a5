/**
 * Files within files: archives, spreadsheets and database files are folders too. `books/fleet.xlsx/Boats.csv` is a sheet of
 * `books/fleet.xlsx`. What is a container shows in its name.
 */
import type { ObjectInfo, ObjectStore } from './object-store';
import { baseName } from './paths';

export type ContainerKind = 'zip' | 'tar' | 'spreadsheet' | 'database';

/** By the endings of their names. */
const ENDINGS: Record<ContainerKind, string> = {
  zip: 'zip',
  tar: 'tar(\\.(gz|bz2|xz|zst|lz4))?|tgz|tbz2|txz',
  spreadsheet: 'xlsx|xlsm|xls|ods',
  database: 'sqlite3?|db',
};
const CONTAINERS = (Object.keys(ENDINGS) as ContainerKind[]).map((kind) => ({
  kind,
  form: new RegExp(`\\.(${ENDINGS[kind]})$`, 'i'),
}));
const INSIDE = new RegExp(`\\.(${Object.values(ENDINGS).join('|')})/`, 'i');

/** Undefined for a file that holds no others. */
export function containerKind(path: string): ContainerKind | undefined {
  const name = baseName(path);
  return CONTAINERS.find(({ form }) => form.test(name))?.kind;
}

/** Whether a path may lead into a container; asked of every file that is opened, so it is one look. */
export function mayLeadInside(path: string): boolean {
  return INSIDE.test(path);
}

/** The container that a path leads into, and the rest of it, '' for the container itself; undefined where no step is one. */
export function memberPath(path: string): { container: string; kind: ContainerKind; member: string } | undefined {
  for (let cut = path.indexOf('/'); ; cut = path.indexOf('/', cut + 1)) {
    const container = cut < 0 ? path : path.slice(0, cut);
    const kind = containerKind(container);
    if (kind) return { container, kind, member: cut < 0 ? '' : path.slice(cut + 1) };
    if (cut < 0) return undefined;
  }
}

/** The files below a folder that a path pattern could mean: those in containers too where a step before the last one is named like one. */
export function listForPattern(store: ObjectStore, root: string, pattern: string): Promise<ObjectInfo[]> {
  return mayLeadInside(pattern) && store.listWithMembers ? store.listWithMembers(root) : store.list(root);
}

/** A member's name as a path that stays within its container; undefined for what has no name, or is no data. */
export function memberName(name: string): string | undefined {
  const steps = name
    .replaceAll('\\', '/')
    .split('/')
    .filter((step) => step !== '' && step !== '.');
  // eslint-disable-next-line no-control-regex
  if (steps.length === 0 || steps.some((step) => step === '..' || step === '__MACOSX' || /[\0-\x1f]/.test(step)))
    return undefined;
  return steps.join('/');
}
