import { describe, expect, it } from 'vitest';
import type { FindingBrief } from '../../api/types';
import { countDecisions, groupFindings, statusMark } from './findings';

const finding = (name: string, status: FindingBrief['status'], decision: FindingBrief['decision']) => ({ namespace: 'landing', name, status, decision, summary: `about ${name}` }) as FindingBrief;
const all = [finding('tide', 'clash', 'undecided'), finding('logs', 'new', 'register'), finding('limits', 'new', 'leave-out'), finding('bottles', 'unchanged', 'registered'), finding('sheets', 'new', 'registered')];

describe('findings of a crawl', () => {
  it('fold away only what is as it was', () => {
    const { open, unchanged } = groupFindings(all, '');
    expect([open.map((each) => each.name), unchanged.map((each) => each.name)]).toEqual([['tide', 'logs', 'limits', 'sheets'], ['bottles']]);
  });

  it('are filtered by name and by what is said of them', () => {
    expect(groupFindings(all, 'LANDING.lo').open.map((each) => each.name)).toEqual(['logs']);
    expect(groupFindings(all, 'about tide').open.length).toBe(1);
  });

  it('are counted by decision, and one that was just registered says so', () => {
    expect(countDecisions(all)).toEqual({ undecided: 1, register: 1, leaveOut: 1, registered: 2 });
    expect([statusMark(all[4]!).words, statusMark(all[3]!).words]).toEqual(['registered', 'as before']);
  });
});
