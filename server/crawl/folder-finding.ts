/** What plain files make, as a finding: columns, clashes, and how it differs from what is registered. */
import type { Decision, Finding, FindingStatus } from '../catalog/crawls';
import type { Relation } from '../catalog/relations';
import { folderDefinition, type PlainFiles } from '../lake/files-as-table';
import type { Inspected } from '../lake/inspect';
import type { OpenStorage } from '../lake/lake';
import { compareDefinition, folderEvidence, summaryOf } from './evidence';

export type NewFinding = Omit<Finding, 'id' | 'runId'>;

export function folderFinding(storage: OpenStorage, candidate: PlainFiles, base: Omit<NewFinding, 'status' | 'decision' | 'format' | 'summary' | 'evidence'>, facts: Inspected[], opened: number, relation: Relation | undefined): NewFinding {
  const { definition, inference } = folderDefinition(candidate, facts);
  const problems = facts.filter((each) => each.problem).map((each) => ({ path: each.path, problem: each.problem! }));
  const evidence = folderEvidence({ candidate, facts, opened, definition, inference, problems, place: `${storage.storage.name}:${candidate.root}`, name: [base.namespace, base.name] });
  const counted = facts.length === candidate.files.length && facts.every((each) => each.rows !== undefined || each.problem);
  const sampled = facts.reduce((sum, each) => sum + (each.rows ?? each.aboutRows ?? 0), 0);
  const toldNothing = facts.every((each) => each.rows === undefined && each.aboutRows === undefined);
  const rows = toldNothing ? null : counted ? sampled : Math.round((sampled / Math.max(1, facts.length)) * candidate.files.length);
  const old = relation?.definition.kind === 'folder' ? relation.definition.folder : undefined;
  const drift = old && compareDefinition(old, definition);
  const status: FindingStatus = problems.length > 0 ? 'unreadable' : inference.clashes.length > 0 ? 'clash' : !relation ? 'new' : drift ? 'changed' : 'unchanged';
  const decision: Decision = status === 'unchanged' ? 'registered' : status === 'new' || status === 'changed' ? 'register' : 'undecided';
  return { ...base, rows, status, decision, format: definition.options.format, summary: drift ?? summaryOf(definition, inference, problems), definition: { kind: 'folder', folder: definition }, evidence: { ...evidence, rowsAreEstimated: !counted } };
}
