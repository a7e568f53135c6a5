/** What a crawl looks at, how it names what it finds, and what it does with it. */
import picomatch from 'picomatch';
import { LakeError } from '../errors';
import type { ObjectInfo } from '../storage/object-store';
import { containerKind } from '../storage/members';
import { baseName, below } from '../storage/paths';
import { tableName } from './names';

export interface CrawlFolder {
  storage: string;
  /** '' for the whole storage. */
  folder: string;
  /** Globs on the path below the folder, as `2026/**` or `*.csv`; none for everything. */
  include: string[];
  exclude: string[];
  /** Of a connected database: the kinds of objects that are taken; none for all. */
  kinds?: string[];
}

/** Ask about everything, or register what is new or only adds columns, and ask about the rest. */
export type FindingsRule = 'ask' | 'additions';

export interface CrawlDefinition {
  folders: CrawlFolder[];
  /** '' for the first folder of each path, or the namespace that is tied to a folder above. */
  namespace: string;
  /** Before every table's name. */
  prefix: string;
  /** A table is called after its folder alone, or after all folders below the crawled one. */
  naming: 'folder' | 'path';
  /** Text files of one folder that are opened. */
  sample: number;
  findings: FindingsRule;
  /** In the five fields of cron, UTC; null for on demand. */
  schedule: string | null;
  /** Id of the token whose rights hold for what it registers; absent for whoever starts it. */
  runAs?: string | null;
}

export const USUAL_SAMPLE = 16;

export function plainCrawl(storage: string, folder: string): CrawlDefinition {
  return { folders: [{ storage, folder, include: [], exclude: [] }], namespace: '', prefix: '', naming: 'folder', sample: USUAL_SAMPLE, findings: 'ask', schedule: null };
}

/** The files of a folder that its globs let through. */
export function wantedFiles(files: readonly ObjectInfo[], { folder, include, exclude }: CrawlFolder): ObjectInfo[] {
  if (include.length === 0 && exclude.length === 0) return [...files];
  const taken = include.length === 0 ? () => true : matcher(include);
  const left = exclude.length === 0 ? () => false : matcher(exclude);
  return files.filter((file) => {
    const inside = below(folder, file.path) ?? file.path;
    return taken(inside) && !left(inside);
  });
}

function matcher(globs: readonly string[]): (path: string) => boolean {
  // A glob without a slash means a name at any depth, as people write it.
  const deep = globs.map((glob) => (glob.includes('/') ? glob : `**/${glob}`));
  return picomatch(deep, { dot: true });
}

/** Fails on a glob that cannot be read. */
export function checkGlobs({ include, exclude }: Pick<CrawlFolder, 'include' | 'exclude'>): void {
  for (const glob of [...include, ...exclude]) {
    try {
      picomatch.makeRe(glob, { strictBrackets: true });
    } catch {
      throw new LakeError('bad-request', `"${glob}" is not a pattern of names; write it as *.csv or 2026/**.`);
    }
  }
}

/** A folder that a namespace belongs to: tables below it are put there. */
export interface TiedFolder {
  namespace: string;
  storage: string;
  folder: string;
}

/** An archive or spreadsheet gives its name without its ending. */
function withoutEnding(name: string): string {
  return containerKind(name) ? name.replace(/(\.tar)?\.[^.]+$/, '') : name;
}

/** Where a table at `root` would be registered, by the crawl's rules. */
export function nameByRule(root: string, { storage, folder }: Pick<CrawlFolder, 'storage' | 'folder'>, { namespace, prefix, naming }: Pick<CrawlDefinition, 'namespace' | 'prefix' | 'naming'>, tied: readonly TiedFolder[] = []): { namespace: string; name: string } {
  const owner = tied.filter((each) => each.storage === storage && (each.folder === '' || below(each.folder, root) !== undefined)).sort((a, b) => b.folder.length - a.folder.length)[0];
  const steps = root.split('/').filter((step) => step !== '');
  const inside = (below(owner?.folder ?? folder, root) ?? baseName(root)).split('/').filter((step) => step !== '');
  const own = naming === 'path' ? inside.map((step) => tableName(withoutEnding(step))).join('_') : tableName(steps.length === 0 ? storage : withoutEnding(baseName(root)));
  const first = steps.length > 1 ? tableName(steps[0]!) : tableName(storage);
  return { namespace: namespace || (owner?.namespace ?? first), name: `${prefix}${own === '' ? tableName(storage) : own}` };
}
