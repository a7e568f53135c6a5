/** What is wrong with a log, in sentences. */
import type { LogCheck } from '../../api/delta-types';
import { plural } from '../../design/format';

export interface LogFinding {
  words: string;
  /** Whether a repair mends it, or only one that closes gaps. */
  repair: 'always' | 'gap' | 'never';
}

export function findingsOf({ missing, checkpoints, checksums, lateMinimums }: LogCheck): LogFinding[] {
  const gaps = missing.length === 0 ? [] : [{ words: `${missing.length === 1 ? `Version ${missing[0]} is` : `Versions ${missing.join(', ')} are`} missing: no commit file stands between its neighbours.`, repair: 'gap' as const }];
  const wrong = checkpoints.filter(({ status }) => status === 'wrong').map(({ version, lacking, extra }) => {
    const parts = [...(lacking > 0 ? [`leaves out ${plural(lacking, 'live file')}`] : []), ...(extra > 0 ? [`names ${plural(extra, 'removed file')}`] : [])];
    return { words: `The checkpoint of version ${version} ${parts.join(' and ') || 'has other columns, properties or transactions than its commits'}.`, repair: 'always' as const };
  });
  const sums = checksums.map(({ version }) => ({ words: `The checksum file of version ${version} contradicts its commits.`, repair: 'always' as const }));
  const bounds = lateMinimums === 0 ? [] : [{ words: `${plural(lateMinimums, 'file')} may have a minimum of times before 1970 that is up to a millisecond too late, so that other engines could skip rows.`, repair: 'always' as const }];
  return [...gaps, ...wrong, ...sums, ...bounds];
}

const STATES = { whole: 'whole', wrong: 'read wrong because of a checkpoint', missing: 'missing', unreadable: 'unreadable behind a missing one' };

/** "Versions 0 to 3 are whole; version 4 is missing." */
export function rangesWords(ranges: LogCheck['versions']): string {
  const words = ranges.map(({ from, to, state }) => (from === to ? `version ${from} is ${STATES[state]}` : `versions ${from} to ${to} are ${STATES[state]}`)).join('; ');
  return `${words.charAt(0).toUpperCase()}${words.slice(1)}.`;
}
