/** What an entry of a table's history says beyond its counts. */
import type { TimelineEntry } from '../../api/types';
import { countText } from '../../design/format';

const METRICS: [name: string, words: (count: string) => string][] = [
  ['numTargetRowsInserted', (count) => `${count} inserted`], ['numUpdatedRows', (count) => `${count} updated`], ['numTargetRowsUpdated', (count) => `${count} updated`],
  ['numDeletedRows', (count) => `${count} deleted`], ['numTargetRowsDeleted', (count) => `${count} deleted`], ['numCopiedRows', (count) => `${count} copied along`], ['numTargetRowsCopied', (count) => `${count} copied along`],
  ['numDeletionVectorsAdded', (count) => `${count} by vector`], ['numTargetDeletionVectorsAdded', (count) => `${count} by vector`], ['numConvertedFiles', (count) => `${count} files adopted`],
];

/** "1 updated, 23 copied along". */
export function metricWords({ details }: TimelineEntry): string {
  return METRICS.flatMap(([name, words]) => (Number(details[name] ?? 0) > 0 ? [words(countText(Number(details[name])))] : [])).join(', ');
}

/** The condition of a statement; what was restored; columns that were added. Writers give lists as JSON texts. */
export function predicateWords({ details, operation }: TimelineEntry): string {
  if (operation === 'RESTORE' && details.version !== undefined) return `to version ${details.version}`;
  const text = details.predicate ?? details.mergePredicate ?? details.columns ?? details.properties ?? '';
  const list = jsonList(text);
  const words = list ? list.join(' AND ') : text === '{}' ? '' : text;
  return words || (/overwrite/i.test(details.mode ?? '') ? 'overwrite' : '');
}

function jsonList(text: string): string[] | undefined {
  try {
    const value = JSON.parse(text) as unknown;
    return Array.isArray(value) ? value.map((each) => (typeof each === 'string' ? each : JSON.stringify(each))) : undefined;
  } catch {
    return undefined;
  }
}
