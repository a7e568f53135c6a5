/**
 * Files within files: archives, spreadsheets and database files are folders too. `books/fleet.xlsx/Boats.csv` is a sheet of
 * `books/fleet.xlsx`. What is a container shows in its name.
 */
import { baseName } from './paths';

export type ContainerKind = 'zip' | 'tar' | 'spreadsheet' | 'database';

const CONTAINERS: readonly [ContainerKind, RegExp][] = [
  ['zip', /\.zip$/i],
  ['tar', /\.(tar(\.(gz|bz2|xz|zst|lz4))?|tgz|tbz2|txz)$/i],
  ['spreadsheet', /\.(xlsx|xlsm|xls|ods)$/i],
  ['database', /\.(sqlite3?|db)$/i],
];

/** Undefined for a file that holds no others. */
export function containerKind(path: string): ContainerKind | undefined {
  const name = baseName(path);
  return CONTAINERS.find(([, form]) => form.test(name))?.[0];
}

/** Whether a path may lead into a container; asked of every file that is opened, so it is one look. */
export function mayLeadInside(path: string): boolean {
  return /\.(zip|tar(\.\w{2,3})?|tgz|tbz2|txz|xlsx|xlsm|xls|ods|sqlite3?|db)\//i.test(path);
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

/** Whether a path pattern leads into containers: a step before the last one is named like one. */
export function leadsIntoContainers(pattern: string): boolean {
  return pattern.split('/').slice(0, -1).some((step) => containerKind(step) !== undefined);
}

/** A member's name as a path that stays within its container; undefined for what has no name, or is no data. */
export function memberName(name: string): string | undefined {
  const steps = name.replaceAll('\\', '/').split('/').filter((step) => step !== '' && step !== '.');
  // eslint-disable-next-line no-control-regex
  if (steps.length === 0 || steps.some((step) => step === '..' || step === '__MACOSX' || /[\0-\x1f]/.test(step))) return undefined;
  return steps.join('/');
}
