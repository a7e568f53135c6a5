/** Corrections to a finding before it is registered: its name, and the names and types of its columns. Tried on a file before they count. */
import { LakeError } from '../../core/errors';
import { describeOptions, type ReadOptions } from '../../core/folder/read-options';
import { FolderTable, fullPattern, MemoryListings, type FolderDefinition } from '../../core/folder/table';
import { filesToRead } from '../../core/scan/plan';
import { TRUE } from '../../core/scan/predicate';
import { nameAsSql } from '../../core/sql/tokens';
import { LATEST } from '../../core/table/contract';
import type { Corrected, Evidence, Finding, NewFinding } from '../catalog/findings';
import type { OpenStorage } from '../lake/lake';
import { byPattern } from '../lake/files-as-table';
import type { Inspector } from '../lake/inspect';
import { prove } from '../lake/proof';
import { scanRows, type ScanTools } from '../lake/scan-rows';
import { correctColumns, renamedEvidence, type ColumnCorrection } from './correct-columns';
import { folderFinding } from './folder-finding';
import { registerStatement } from './evidence';

export interface Correction {
  /** Reads the files like this instead of as they seem; an answer to a clash, say. */
  options?: ReadOptions;
  readWith?: string;
  namespace?: string;
  name?: string;
  columns?: ColumnCorrection[];
}

export interface CorrectTools extends ScanTools {
  inspector: Inspector;
}

/** So many rows of the first and last file are read with a correction before it is kept. */
const TRIED_ROWS = 1000;

/** The finding as corrected. Fails with `bad-request` for what cannot be, `bad-file` naming the file that does not fit. */
export async function corrected(finding: Finding, correction: Correction, storage: OpenStorage, tools: CorrectTools): Promise<Corrected> {
  const namespace = correction.namespace ?? finding.namespace;
  const name = correction.name ?? finding.name;
  const place = `${finding.storage}:${finding.location}`;
  const { status, decision, summary, format, rows } = finding;
  if (finding.relationId !== null && (namespace !== finding.namespace || name !== finding.name)) {
    throw new LakeError('bad-request', `This place is registered as ${finding.namespace}.${finding.name} already; it cannot be given another name here.`);
  }
  if (finding.definition?.kind !== 'folder') {
    if (correction.columns?.length || correction.options) throw new LakeError('bad-request', 'The columns of this finding are given by its own metadata; only its name can be corrected.');
    const statement = finding.evidence.statement.replace(/^CREATE TABLE .*/, () => `CREATE TABLE ${nameAsSql(namespace)}.${nameAsSql(name)}`);
    return { namespace, name, status, decision, summary, format, rows, definition: finding.definition, evidence: { ...finding.evidence, statement } };
  }
  const base = correction.options ? await readAgain({ ...finding, namespace, name }, finding.definition.folder, correction.options, storage, tools) : { status, decision, summary, format, rows, definition: finding.definition, evidence: finding.evidence };
  const before = (base.definition as { folder: FolderDefinition }).folder;
  const folder = { ...correctColumns(before, correction.columns ?? []), ...(correction.readWith ? { readWith: correction.readWith } : {}) };
  const proof = correction.columns?.length || correction.options ? await tryOut(folder, `${namespace}.${name}`, finding.location, storage, tools) : undefined;
  const statement = registerStatement([namespace, name], folder.fields, { format: folder.options.format, location: place, pattern: folder.pattern });
  const told = new Set((correction.columns ?? []).filter((each) => each.form !== undefined || each.type !== undefined).map((each) => each.name));
  const columns = renamedEvidence(base.evidence.columns, before, folder, told);
  const settled = base.status === 'new' && base.decision === 'undecided' && !columns.some((each) => each.isAmbiguous);
  return { ...base, ...(settled ? { decision: 'register' as const } : {}), summary: base.summary.replace(describeOptions(before.options), () => describeOptions(folder.options)).replace(settled ? /^[^;]*can change places; / : /^$/, ''), namespace, name, definition: { kind: 'folder', folder }, evidence: { ...base.evidence, read: `${fullPattern(finding.location, folder)}: ${describeOptions(folder.options)}`, columns, statement, ...(proof ? { proof } : {}) } };
}

/** The finding as it is when its files are read in another way. */
async function readAgain(finding: Finding, folder: FolderDefinition, options: ReadOptions, storage: OpenStorage, { inspector }: CorrectTools): Promise<NewFinding> {
  const { definite: candidate } = await byPattern(storage, fullPattern(finding.location, folder));
  const facts = await inspector.inspect(storage, candidate.fileKind, candidate.files, { given: options });
  const bad = facts.find((each) => each.problem);
  if (bad && facts.every((each) => each.problem)) throw new LakeError('bad-file', bad.problem!, { path: bad.path, ...(bad.line === undefined ? {} : { line: bad.line }) });
  return folderFinding(inspector, storage, candidate, finding, facts, facts.length, undefined);
}

/** Reads the files to their ends where they are small, and fails naming the file and line that do not fit; of Parquet the beginning of the first and the last. */
export async function tryOut(folder: FolderDefinition, name: string, location: string, storage: OpenStorage, tools: ScanTools): Promise<Evidence['proof']> {
  if (folder.options.format !== 'parquet') {
    const { definite } = await byPattern(storage, fullPattern(location, folder));
    const { proof } = await prove(tools, storage, folder, definite.files, { name, mostRepairs: 0 });
    if (proof.problem) throw new LakeError('bad-file', proof.problem.problem, { path: proof.problem.path, ...(proof.problem.line === undefined ? {} : { line: proof.problem.line }), hint: 'Choose another type or another way of reading, or have lines that do not fit set aside.' });
    return { rows: proof.rows, files: proof.files, of: proof.of, repairs: [], missing: proof.missing };
  }
  const table = new FolderTable(storage.store, location, name, folder, new MemoryListings());
  const plan = await (await table.snapshot(LATEST)).plan(TRUE);
  const files = filesToRead(plan);
  const ends = new Set([files[0]?.path, files.at(-1)?.path]);
  const sample = { ...plan, considered: plan.considered.filter(({ file }) => ends.has(file.path)) };
  await scanRows(tools, storage, sample, name, (relation) => `SELECT count(*) FROM (SELECT * FROM ${relation} LIMIT ${TRIED_ROWS}) AS t WHERE hash(t) IS NULL`);
  return undefined;
}
