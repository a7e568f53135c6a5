/** What plain files make, as findings: columns, clashes, and how they differ from what is registered. */
import { driftBetween, driftText, isAddition, mergeFields } from '../../core/crawl/drift';
import { splitFiles, type Part } from '../../core/crawl/split';
import { LakeError } from '../../core/errors';
import type { ObjectInfo } from '../../core/storage/object-store';
import { nameStem, tableName } from '../../core/crawl/names';
import { baseName, joinPath } from '../../core/storage/paths';
import { alikeKey, type Remembered } from '../catalog/corrections';
import type { Decision, FindingStatus, NewFinding } from '../catalog/findings';
import type { Relation } from '../catalog/relations';
import { folderDefinition, type PlainFiles } from '../lake/files-as-table';
import type { Inspected } from '../lake/inspect';
import type { OpenStorage } from '../lake/lake';
import { prove, type Proven } from '../lake/proof';
import type { ScanTools } from '../lake/scan-rows';
import { correctColumns, renamedEvidence } from './correct-columns';
import { folderEvidence, summaryOf } from './evidence';

export interface FindingTools extends ScanTools {
  /** How people corrected columns of files that look alike. */
  remembered?: ReadonlyMap<string, readonly Remembered[]>;
}

export type FindingBase = Omit<NewFinding, 'status' | 'decision' | 'format' | 'summary' | 'evidence'>;

/** A file that changed less than this ago and cannot be read may still be on its way. */
const SETTLED_MS = 120_000;

/** One finding, or one for each table of a folder that holds several. */
export async function folderFindings(tools: FindingTools, storage: OpenStorage, candidate: PlainFiles, base: FindingBase, { facts, opened }: { facts: readonly Inspected[]; opened: number }, relation: Relation | undefined, relationAt: (place: string) => Relation | undefined): Promise<NewFinding[]> {
  const split = relation || candidate.partitions.length > 0 || facts.length < candidate.files.length ? undefined : splitFiles(facts.filter((each) => !each.problem));
  const parts = split && [...split, ...unread(facts, split)];
  if (!parts) return [await folderFinding(tools, storage, candidate, base, facts, opened, relation)];
  return Promise.all(parts.map(({ stem, pattern: step, paths }) => {
    const own = new Set(paths);
    const files = candidate.files.filter((file) => own.has(file.path));
    const pattern = patternIn(candidate, step);
    const part: PlainFiles = { ...candidate, files, pattern };
    const place = joinPath(candidate.root, pattern);
    const known = relationAt(place);
    const name = known?.name ?? partName(base.name, candidate.root, stem);
    return folderFinding(tools, storage, part, { ...base, name, ...(known ? { namespace: known.namespace, relationId: known.id } : {}), place, files: files.length, bytes: files.reduce((sum, file) => sum + file.bytes, 0) }, facts.filter((each) => own.has(each.path)), Math.min(opened, files.length), known);
  }));
}

/** A file that cannot be read is told by itself where the others are several tables. */
function unread(facts: readonly Inspected[], parts: readonly Part[]): Part[] {
  const taken = new Set(parts.flatMap(({ paths }) => paths));
  return facts.filter(({ path }) => !taken.has(path)).map(({ path }) => ({ stem: nameStem(path), pattern: baseName(path), paths: [path] }));
}

/** Where a folder has all files of one ending, the pattern keeps it. */
function patternIn(candidate: PlainFiles, step: string): string {
  const ending = candidate.pattern.startsWith('*.') ? candidate.pattern.slice(1) : '';
  return step.endsWith('*') && ending !== '' ? `${step.slice(0, -1)}*${ending}` : step;
}

/** At the root of a storage the storage's name says nothing of a table. */
export function partName(name: string, root: string, label: string): string {
  return root === '' ? tableName(label) : `${name}_${tableName(label)}`;
}

export async function folderFinding(tools: FindingTools, storage: OpenStorage, candidate: PlainFiles, base: FindingBase, facts: readonly Inspected[], opened: number, relation: Relation | undefined): Promise<NewFinding> {
  const mended = facts.map(mend);
  const isMended = facts.every((each) => each.problem) && mended.some((each) => !each.problem);
  const { definition: seen, inference } = folderDefinition(candidate, isMended ? mended : facts);
  const unread = new Set(facts.filter((each) => each.problem).map((each) => each.path));
  const readable = candidate.files.filter((file) => isMended || !unread.has(file.path));
  const proven = await prove(tools, storage, seen, readable, { name: `${base.namespace}.${base.name}` });
  const recalled = relation || proven.proof.problem ? undefined : await asCorrectedBefore(tools, storage, proven, readable, base);
  const { definition: found, proof } = recalled ?? proven;
  const problems = [...facts.filter((each) => each.problem), ...(proof.problem ? [proof.problem] : [])].map((each) => ({ path: each.path, problem: withHaste(candidate, each) }));
  const old = relation?.definition.kind === 'folder' ? relation.definition.folder : undefined;
  const before = old && (old.found ?? old.fields);
  const drifts = before ? driftBetween(before, found.fields) : [];
  const definition = { ...found, fields: old ? mergeFields(old.fields, before!, found.fields) : found.fields, found: found.fields, ...(old?.readWith ? { readWith: old.readWith } : {}), ...(old?.exceptions ? { exceptions: old.exceptions } : {}) };
  const seenEvidence = folderEvidence({ candidate, facts, opened, definition: found, inference, problems, proof, place: `${storage.storage.name}:${candidate.root}`, name: [base.namespace, base.name] });
  const evidence = recalled ? { ...seenEvidence, columns: renamedEvidence(seenEvidence.columns, found, found, new Set(recalled.columns)), notes: [...(seenEvidence.notes ?? []), ...recalled.notes] } : seenEvidence;
  const counted = facts.length === candidate.files.length && facts.every((each) => each.rows !== undefined || each.problem);
  const sampled = facts.reduce((sum, each) => sum + (each.rows ?? each.aboutRows ?? 0), 0);
  const toldNothing = facts.every((each) => each.rows === undefined && each.aboutRows === undefined);
  const rows = proof.rows !== null && proof.files === candidate.files.length ? proof.rows : toldNothing ? null : counted ? sampled : Math.round((sampled / Math.max(1, facts.length)) * candidate.files.length);
  const clashes = inference.clashes.filter((clash) => !old || !before!.some((field) => field.name.toLowerCase() === clash.column.toLowerCase() && field.type.kind === 'string'));
  const ambiguous = evidence.columns.filter((each) => each.isAmbiguous).map((each) => each.name);
  const status: FindingStatus = problems.length > 0 ? 'unreadable' : clashes.length > 0 ? 'clash' : !relation ? 'new' : drifts.length > 0 ? 'changed' : 'unchanged';
  return {
    ...base, rows, status, decision: ambiguous.length > 0 && status === 'new' ? 'undecided' : decisionOf(status, drifts), format: found.options.format,
    summary: drifts.length > 0 && problems.length === 0 ? driftText(drifts) : `${ambiguous.length > 0 && status === 'new' ? `${ambiguous.join(', ')}: day and month can change places; ` : ''}${summaryOf(found, inference, problems)}`,
    definition: { kind: 'folder', folder: definition }, evidence: { ...evidence, ...(mended.some((each, index) => facts[index]!.problem && !each.problem) ? { mends: [SET_ASIDE] } : {}), rowsAreEstimated: !counted && !(proof.rows !== null && proof.files === candidate.files.length) },
  };
}

/** The definition with what somebody corrected of files that look alike, where these fit it to their ends. */
async function asCorrectedBefore(tools: FindingTools, storage: OpenStorage, { definition, proof }: Proven, files: readonly ObjectInfo[], base: FindingBase): Promise<(Proven & { columns: string[]; notes: string[] }) | undefined> {
  const corrections = tools.remembered?.get(alikeKey({ ...definition, found: definition.fields }));
  const known = corrections?.filter(({ name }) => definition.fields.some((each) => each.name === name));
  if (!known?.length) return undefined;
  try {
    const proven = await prove(tools, storage, correctColumns(definition, known), files, { name: `${base.namespace}.${base.name}`, mostRepairs: 0 });
    // What was read in one way must have been read in the other.
    if (proven.proof.problem || proven.proof.files < proof.files) return undefined;
    return { ...proven, columns: known.map(({ name }) => name), notes: known.map(({ name, place }) => `${name} is read as it was corrected for ${place}`) };
  } catch (error) {
    if (error instanceof LakeError && error.kind !== 'cancelled') return undefined;
    throw error;
  }
}

/** What only adds may be taken over at once; what takes away or changes waits for somebody. */
function decisionOf(status: FindingStatus, drifts: ReturnType<typeof driftBetween>): Decision {
  if (status === 'unchanged') return 'registered';
  return status === 'new' || (status === 'changed' && isAddition(drifts)) ? 'register' : 'undecided';
}

const SET_ASIDE = { label: 'set lines that do not fit aside', misfits: 'set-aside' as const };

/** A file whose lines are cut unevenly, read without those that do not fit. */
function mend(each: Inspected): Inspected {
  if (!each.problem || each.options?.format !== 'csv') return each;
  const { problem: _, line: __, ...rest } = each;
  return { ...rest, options: { ...each.options, misfits: SET_ASIDE.misfits } };
}

function withHaste(candidate: PlainFiles, { path, problem }: Pick<Inspected, 'path' | 'problem'>): string {
  const file = candidate.files.find((each) => each.path === path);
  return file && Date.now() - file.modified < SETTLED_MS ? `${problem} It changed a moment ago, so it may still be on its way; the next crawl looks again.` : problem!;
}
