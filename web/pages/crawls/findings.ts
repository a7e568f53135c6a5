/** How findings are sorted, counted and named on the page of a run. */
import type { FindingBrief } from '../../api/types';
import { formatName } from '../../design/format';

export interface FindingGroups {
  /** To be looked at: what needs a decision comes first, as the server sorts them. */
  open: FindingBrief[];
  /** Registered, and nothing differs: folded away. */
  unchanged: FindingBrief[];
  /** Left out for good: folded away too. */
  always: FindingBrief[];
}

export function groupFindings(findings: readonly FindingBrief[], filter: string): FindingGroups {
  const wanted = filter.trim().toLowerCase();
  const seen = findings.filter((each) => `${each.namespace}.${each.name} ${each.summary}`.toLowerCase().includes(wanted));
  const isAlways = (each: FindingBrief) => each.decision === 'leave-out-always';
  const isUnchanged = (each: FindingBrief) => each.status === 'unchanged' && !isAlways(each);
  return { open: seen.filter((each) => !isUnchanged(each) && !isAlways(each)), unchanged: seen.filter(isUnchanged), always: seen.filter(isAlways) };
}

export function countDecisions(findings: readonly FindingBrief[]): { undecided: number; register: number; leaveOut: number; registered: number } {
  const count = (decision: FindingBrief['decision']) => findings.filter((each) => each.decision === decision).length;
  return { undecided: count('undecided'), register: count('register'), leaveOut: count('leave-out') + count('leave-out-always'), registered: count('registered') };
}

type Tone = 'plain' | 'tide' | 'dusk' | 'rust' | 'kelp';

export function statusMark(finding: Pick<FindingBrief, 'status' | 'decision' | 'format'>): { words: string; tone: Tone } {
  if (finding.decision === 'unregistered') return { words: 'taken out', tone: 'kelp' };
  if (finding.decision === 'registered' && finding.status !== 'unchanged') return { words: 'registered', tone: 'kelp' };
  switch (finding.status) {
    case 'new':
      return finding.decision === 'undecided' ? { words: 'to decide', tone: 'dusk' } : { words: 'new', tone: 'tide' };
    case 'changed':
      return { words: 'changed', tone: 'dusk' };
    case 'clash':
      return { words: 'types clash', tone: 'rust' };
    case 'no-shape':
      return { words: 'no one shape', tone: 'rust' };
    case 'unreadable':
      return { words: 'not readable', tone: 'rust' };
    case 'gone':
      return { words: 'gone', tone: 'rust' };
    case 'unchanged':
      return { words: 'as before', tone: 'plain' };
  }
}

export function formatWord(finding: Pick<FindingBrief, 'status' | 'decision' | 'format'>): string {
  return finding.format === null ? 'mixed' : formatName(finding.format);
}
