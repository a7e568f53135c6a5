/** A finding of large files read to their ends, a part after the other, when somebody asks for it. */
import { describeOptions } from '../../core/folder/read-options';
import { fullPattern, type FolderDefinition } from '../../core/folder/table';
import { LakeError } from '../../core/errors';
import { typeName } from '../../core/schema/type-names';
import type { ObjectInfo } from '../../core/storage/object-store';
import type { Corrected, Evidence, Finding } from '../catalog/findings';
import type { JobContext } from '../jobs/jobs';
import { byPattern } from '../lake/files-as-table';
import type { OpenStorage } from '../lake/lake';
import { prove } from '../lake/proof';
import type { ScanTools } from '../lake/scan-rows';
import { registerStatement } from './evidence';

type Missing = NonNullable<Evidence['proof']>['missing'][number];

/** Files that are read in one step, so that progress shows and each step stays within the time of a look. */
const STEP_BYTES = 256e6;
const STEP_FILES = 200;

/** The finding with what all of its files say. A value that does not fit widens its column; a file that cannot be read makes it unreadable. */
export async function checkedToTheEnd(
  finding: Finding,
  storage: OpenStorage,
  tools: ScanTools,
  context: JobContext,
): Promise<Corrected> {
  if (finding.definition?.kind !== 'folder')
    throw new LakeError(
      'bad-request',
      'Only plain files are read to their ends; a table in a lake format tells its own types.',
    );
  const before = finding.definition.folder;
  const { definite } = await byPattern(storage, fullPattern(finding.location, before));
  const found = { definition: before, rows: 0, files: 0, repairs: [] as string[], missing: new Map<string, Missing>() };
  let problem: { path: string; problem: string; line?: number } | undefined;
  let done = 0;
  for (const step of steps(definite.files)) {
    context.check();
    const { definition, proof } = await prove(tools, storage, found.definition, step, {
      name: `${finding.namespace}.${finding.name}`,
      mostBytes: Infinity,
      mostFiles: Infinity,
    });
    found.definition = definition;
    found.rows += proof.rows ?? 0;
    found.files += proof.files;
    found.repairs.push(...proof.repairs);
    for (const each of proof.missing)
      found.missing.set(each.column, { ...each, values: each.values + (found.missing.get(each.column)?.values ?? 0) });
    context.progress((done += step.length), definite.files.length, step.at(-1)!.path);
    if (proof.problem) {
      problem = proof.problem;
      break;
    }
  }
  return asFinding(finding, before, found, definite.files.length, problem);
}

interface Found {
  definition: FolderDefinition;
  rows: number;
  files: number;
  repairs: string[];
  missing: ReadonlyMap<string, Missing>;
}

function asFinding(
  finding: Finding,
  before: FolderDefinition,
  { definition, rows, files, repairs, missing }: Found,
  of: number,
  problem: { path: string; problem: string; line?: number } | undefined,
): Corrected {
  const place = `${finding.storage}:${finding.location}`;
  const isWhole = files === of && !problem;
  const proof = {
    rows: isWhole ? rows : null,
    files,
    of,
    repairs: [...(finding.evidence.proof?.repairs ?? []), ...repairs],
    missing: [...missing.values()],
  };
  const types = new Map(definition.fields.map((each) => [each.name, typeName(each.type)]));
  const columns = finding.evidence.columns.map((column) => ({
    ...column,
    type: types.get(column.name) ?? column.type,
  }));
  const statement = registerStatement([finding.namespace, finding.name], definition.fields, {
    format: definition.options.format,
    location: place,
    pattern: definition.pattern,
  });
  return {
    namespace: finding.namespace,
    name: finding.name,
    format: finding.format,
    rows: isWhole ? rows : finding.rows,
    status: problem ? 'unreadable' : finding.status,
    decision: problem ? 'undecided' : finding.decision,
    summary: problem
      ? `one file cannot be read: ${problem.problem}`
      : finding.summary.replace(describeOptions(before.options), () => describeOptions(definition.options)),
    definition: { kind: 'folder', folder: { ...definition, found: definition.fields } },
    evidence: {
      ...finding.evidence,
      columns,
      statement,
      proof,
      problems: problem ? [problem] : finding.evidence.problems,
      rowsAreEstimated: isWhole ? false : finding.evidence.rowsAreEstimated,
    },
  };
}

function* steps(files: readonly ObjectInfo[]): Generator<ObjectInfo[]> {
  let step: ObjectInfo[] = [];
  let bytes = 0;
  for (const file of files) {
    if (step.length > 0 && (bytes + file.bytes > STEP_BYTES || step.length >= STEP_FILES)) {
      yield step;
      step = [];
      bytes = 0;
    }
    step.push(file);
    bytes += file.bytes;
  }
  if (step.length > 0) yield step;
}
