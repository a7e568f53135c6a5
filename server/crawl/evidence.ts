/** The evidence beside a finding: what was looked at, a map of columns over time, and the statement that registers it. */
import { likelyCopies } from '../../core/crawl/copies';
import type { Candidate } from '../../core/crawl/group';
import type { Inference } from '../../core/crawl/infer';
import { parsePattern } from '../../core/folder/path-pattern';
import { describeOptions } from '../../core/folder/read-options';
import { fullPattern, type FolderDefinition } from '../../core/folder/table';
import { findField, type Field } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import { nameAsSql } from '../../core/sql/tokens';
import type { ObjectInfo } from '../../core/storage/object-store';
import { baseName, below } from '../../core/storage/paths';
import type { Snapshot } from '../../core/table/contract';
import type { Evidence } from '../catalog/findings';
import { groundsOf } from '../lake/grounds';
import type { Inspected } from '../lake/inspect';
import type { Proof } from '../lake/proof';

const BUCKETS = 14;

export function noEvidence(files: number): Evidence {
  return { looked: 0, of: files, known: 0, read: '', columns: [], buckets: [], partitions: [], clashes: [], partial: [], problems: [], statement: '', example: null, affected: [], rowsAreEstimated: false, version: null };
}

interface FolderInput {
  candidate: Extract<Candidate, { kind: 'files' }>;
  facts: readonly Inspected[];
  opened: number;
  definition: FolderDefinition;
  inference: Inference;
  problems: Evidence['problems'];
  proof: Proof;
  place: string;
  name: readonly [string, string];
}

export function folderEvidence({ candidate, facts, opened, definition, inference, problems, proof, place, name }: FolderInput): Evidence {
  const readable = facts.filter((each) => !each.problem);
  const { labels, indexOf } = buckets(readable, candidate.root, definition);
  const named = readable.map((each) => ({ path: each.path, names: new Set(each.columns.map((column) => column.name.toLowerCase())) }));
  const partial = new Set(inference.partial.map((each) => each.column));
  const fromPath = new Set(definition.partitionColumns);
  const clashing = new Set(inference.clashes.map((clash) => clash.column.toLowerCase()));
  const columns = definition.fields.map((field) => ({
    name: field.name,
    type: typeName(field.type),
    presence: presenceOf(field, named, labels.length, indexOf),
    clash: clashing.has(field.name.toLowerCase()),
    fromPath: fromPath.has(field.name),
    isNew: partial.has(field.name),
    ...groundsOf(inference.guesses.get(field.name)),
  }));
  return {
    looked: facts.length,
    of: candidate.files.length,
    known: facts.length - opened,
    read: `${fullPattern(candidate.root, definition)}: ${describeOptions(definition.options)}`,
    columns,
    buckets: labels,
    partitions: partitionsOf(candidate, definition),
    clashes: inference.clashes,
    partial: inference.partial,
    problems,
    notes: [...new Set(readable.flatMap((each) => each.notes ?? [])), ...copyNotes(candidate.files)],
    proof: { rows: proof.rows, files: proof.files, of: proof.of, repairs: proof.repairs, missing: proof.missing },
    statement: registerStatement(name, definition.fields, { format: definition.options.format, location: place, pattern: definition.pattern }),
    example: candidate.files[0]?.path ?? null,
    affected: [],
    rowsAreEstimated: false,
    version: null,
  };
}

export function lakeEvidence(snapshot: Snapshot, files: number, place: string, [namespace, table]: readonly [string, string]): Evidence {
  return {
    ...noEvidence(files),
    read: `${snapshot.format === 'delta' ? 'Delta log' : 'Iceberg metadata'}, version ${snapshot.version}`,
    columns: snapshot.schema.fields.map((field) => ({ name: field.name, type: typeName(field.type), presence: [], clash: false, fromPath: false, isNew: false })),
    statement: `CREATE TABLE ${nameAsSql(namespace)}.${nameAsSql(table)}\nWITH (format = '${snapshot.format}', location = '${place}')`,
    version: snapshot.version,
  };
}

/** Rows of a copy count twice. */
function copyNotes(files: readonly ObjectInfo[]): string[] {
  const copies = likelyCopies(files);
  const [first] = copies;
  return first ? [`${baseName(first.path)} is of the size of ${baseName(first.of)} and may be a copy of it, whose rows count twice${copies.length > 1 ? `; so may ${copies.length - 1} more` : ''}`] : [];
}

/** Files in path order, cut into a few groups; labelled by date where a path column is one. */
function buckets(facts: readonly Inspected[], root: string, definition: FolderDefinition): { labels: string[]; indexOf: (path: string) => number } {
  const pattern = parsePattern(definition.pattern);
  const date = definition.partitionColumns.find((name) => findField(definition.fields, name)?.type.kind === 'date');
  const dateSteps = ['year', 'month', 'day'].filter((name) => definition.partitionColumns.includes(name));
  const labelOf = (path: string) => {
    const match = pattern.match(below(root, path)!) ?? {};
    if (date) return match[date] ?? '';
    if (dateSteps.length > 0) return dateSteps.map((name) => match[name]).join('-');
    return below(root, path)!;
  };
  const ordered = [...facts].map((each) => each.path).sort();
  const count = Math.min(BUCKETS, ordered.length);
  const index = new Map(ordered.map((path, position) => [path, Math.min(count - 1, Math.floor((position * count) / ordered.length))]));
  const labels = Array.from({ length: count }, (_, bucket) => labelOf(ordered.find((path) => index.get(path) === bucket)!));
  return { labels, indexOf: (path) => index.get(path) ?? 0 };
}

/** Share of the files of each bucket that have the column, 0 to 1. */
function presenceOf(field: Field, facts: readonly { path: string; names: ReadonlySet<string> }[], count: number, indexOf: (path: string) => number): number[] {
  const have = new Array<number>(count).fill(0);
  const all = new Array<number>(count).fill(0);
  for (const file of facts) {
    const bucket = indexOf(file.path);
    all[bucket]!++;
    if (file.names.has(field.name.toLowerCase())) have[bucket]!++;
  }
  return have.map((part, bucket) => (all[bucket] ? part / all[bucket]! : 0));
}

function partitionsOf(candidate: FolderInput['candidate'], definition: FolderDefinition): Evidence['partitions'] {
  const pattern = parsePattern(definition.pattern);
  const matches = candidate.files.map((file) => pattern.match(below(candidate.root, file.path)!) ?? {});
  return definition.partitionColumns.map((name) => {
    const values = [...new Set(matches.map((match) => match[name] ?? null))].filter((value) => value !== null).sort();
    return { name, type: typeName(findField(definition.fields, name)!.type), values: values.length, first: values[0] ?? null, last: values.at(-1) ?? null };
  });
}

/** The statement that says what will be registered; `name` is namespace and table. */
export function registerStatement([namespace, table]: readonly [string, string], fields: readonly Field[], options: Record<string, string>): string {
  const columns = fields.map((field) => `  ${nameAsSql(field.name)} ${typeName(field.type)}`).join(',\n');
  const settings = Object.entries(options).map(([key, value]) => `${key} = '${value.replaceAll("'", "''")}'`).join(', ');
  return `CREATE TABLE ${nameAsSql(namespace)}.${nameAsSql(table)} (\n${columns}\n)\nWITH (${settings})`;
}

export function summaryOf(definition: FolderDefinition, inference: Inference, problems: Evidence['problems']): string {
  if (problems.length > 0) return `${problems.length === 1 ? 'one file' : `${problems.length} files`} cannot be read: ${problems[0]!.problem}`;
  const clash = inference.clashes[0];
  if (clash) return `${clash.column}: ${clash.types.map((each) => `${each.type} in ${each.files} ${each.files === 1 ? 'file' : 'files'}`).join(', ')}`;
  const parts = [describeOptions(definition.options)];
  if (definition.partitionColumns.length > 0) parts.push(`${definition.partitionColumns.join(', ')} from the path`);
  const partial = inference.partial[0];
  if (partial) parts.push(`${inference.partial.map((each) => each.column).join(', ')} in ${partial.presentIn} of ${partial.of} files`);
  return parts.join('; ');
}
