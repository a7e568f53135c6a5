/** A crawl's rules as a sentence. */
import { USUAL_SAMPLE, type CrawlDefinition, type CrawlFolder } from '../../../core/crawl/definition';

export interface EditedCrawl {
  /** Undefined for one that is not kept yet. */
  id?: number;
  name: string;
  definition: CrawlDefinition;
}

export function newCrawl(storage: string): EditedCrawl {
  return { name: '', definition: { folders: [newFolder(storage)], namespace: '', prefix: '', naming: 'folder', sample: USUAL_SAMPLE, findings: 'ask', schedule: null, runAs: null } };
}

export function newFolder(storage: string): CrawlFolder {
  return { storage, folder: '', include: [], exclude: [] };
}

/** "tern-bay/landing without *.tmp; tables after their folder; asks about everything; on demand". */
export function sentenceOf(definition: CrawlDefinition, scheduleWords: string | null): string {
  const folders = definition.folders.map(({ storage, folder, include, exclude }) => `${storage}${folder === '' ? '' : `/${folder}`}${include.length > 0 ? `, only ${include.join(', ')}` : ''}${exclude.length > 0 ? `, without ${exclude.join(', ')}` : ''}`);
  const names = `tables called ${definition.prefix === '' ? '' : `${definition.prefix} and `}after ${definition.naming === 'folder' ? 'their folder' : 'all folders above them'}${definition.namespace === '' ? '' : `, in ${definition.namespace}`}`;
  const findings = definition.findings === 'ask' ? 'asks about everything' : 'registers what only adds, asks about the rest';
  return [folders.join(' and '), names, findings, scheduleWords ?? 'on demand'].join('; ');
}

/** Globs as people list them. */
export function globsOf(text: string): string[] {
  return text.split(',').map((each) => each.trim()).filter((each) => each !== '');
}

export const TIMES: readonly { value: string; words: string }[] = [
  { value: '', words: 'when asked' }, { value: '*/15 * * * *', words: 'every 15 minutes' }, { value: '0 * * * *', words: 'every hour' }, { value: '0 2 * * *', words: 'every night at 2' }, { value: '0 6 * * 1', words: 'every Monday at 6' }, { value: 'own', words: 'at times of its own' },
];
