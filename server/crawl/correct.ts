/** Corrections to a finding before it is registered: its name, and the names and types of its columns. Tried on a file before they count. */
import { LakeError } from '../../core/errors';
import type { FolderDefinition } from '../../core/folder/table';
import { FolderTable, MemoryListings } from '../../core/folder/table';
import { filesToRead } from '../../core/scan/plan';
import { TRUE } from '../../core/scan/predicate';
import { parseTypeName, typeName } from '../../core/schema/type-names';
import { findField } from '../../core/schema/types';
import { nameAsSql } from '../../core/sql/tokens';
import { LATEST } from '../../core/table/contract';
import type { Evidence, Finding, PlacedFinding } from '../catalog/crawls';
import type { OpenStorage } from '../lake/lake';
import { scanRows, type ScanTools } from '../lake/scan-rows';
import { registerStatement } from './evidence';

export interface Correction {
  namespace?: string;
  name?: string;
  columns?: { name: string; rename?: string; type?: string }[];
}

/** So many rows of the first and last file are read with a correction before it is kept. */
const TRIED_ROWS = 1000;

/** The finding as corrected. Fails with `bad-request` for what cannot be, `bad-file` naming the file that does not fit. */
export async function corrected(finding: PlacedFinding, correction: Correction, storage: OpenStorage, tools: ScanTools): Promise<Pick<Finding, 'namespace' | 'name' | 'definition' | 'evidence'>> {
  const namespace = correction.namespace ?? finding.namespace;
  const name = correction.name ?? finding.name;
  const place = `${finding.storage}:${finding.location}`;
  if (finding.relationId !== null && (namespace !== finding.namespace || name !== finding.name)) {
    throw new LakeError('bad-request', `This place is registered as ${finding.namespace}.${finding.name} already; it cannot be given another name here.`);
  }
  if (finding.definition?.kind !== 'folder') {
    if (correction.columns?.length) throw new LakeError('bad-request', 'The columns of this finding are given by its own metadata; only its name can be corrected.');
    const statement = finding.evidence.statement.replace(/^CREATE TABLE .*/, () => `CREATE TABLE ${nameAsSql(namespace)}.${nameAsSql(name)}`);
    return { namespace, name, definition: finding.definition, evidence: { ...finding.evidence, statement } };
  }
  const folder = correctColumns(finding.definition.folder, correction.columns ?? []);
  if (correction.columns?.length) await tryOut(folder, `${namespace}.${name}`, finding.location, storage, tools);
  const statement = registerStatement([namespace, name], folder.fields, { format: folder.options.format, location: place, pattern: folder.pattern });
  return { namespace, name, definition: { kind: 'folder', folder }, evidence: { ...finding.evidence, columns: renamedEvidence(finding.evidence.columns, finding.definition.folder, folder), statement } };
}

function correctColumns(folder: FolderDefinition, corrections: NonNullable<Correction['columns']>): FolderDefinition {
  const positional = folder.options.format === 'csv' && !folder.options.header;
  const byName = new Map(corrections.map((each) => [each.name, each]));
  for (const { name } of corrections) if (!folder.fields.some((field) => field.name === name)) throw new LakeError('bad-request', `There is no column "${name}" to correct.`);
  const fields = folder.fields.map((field) => {
    const { rename, type } = byName.get(field.name) ?? { name: field.name };
    if (rename !== undefined && rename !== field.name && (!positional || folder.partitionColumns.includes(field.name))) {
      throw new LakeError('bad-request', `"${field.name}" is found by its name in the files or the path, so it cannot be called otherwise here; a view can.`);
    }
    return { ...field, ...(rename === undefined ? {} : { name: rename }), ...(type === undefined ? {} : { type: parseTypeName(type) }) };
  });
  const twice = fields.find((field, index) => findField(fields.slice(0, index), field.name));
  if (twice) throw new LakeError('bad-request', `Two columns would be called "${twice.name}".`);
  return { ...folder, fields };
}

function renamedEvidence(columns: Evidence['columns'], before: FolderDefinition, after: FolderDefinition): Evidence['columns'] {
  return columns.map((column) => {
    const now = after.fields[before.fields.findIndex((field) => field.name === column.name)];
    return now ? { ...column, name: now.name, type: typeName(now.type), clash: column.clash && typeName(now.type) === column.type } : column;
  });
}

/** Reads the beginning of the first and the last file. Fails naming the file and line that do not fit. */
export async function tryOut(folder: FolderDefinition, name: string, location: string, storage: OpenStorage, tools: ScanTools): Promise<void> {
  const table = new FolderTable(storage.store, location, name, folder, new MemoryListings());
  const plan = await (await table.snapshot(LATEST)).plan(TRUE);
  const files = filesToRead(plan);
  const ends = new Set([files[0]?.path, files.at(-1)?.path]);
  const sample = { ...plan, considered: plan.considered.filter(({ file }) => ends.has(file.path)) };
  await scanRows(tools, storage, sample, name, (relation) => `SELECT count(*) FROM (SELECT * FROM ${relation} LIMIT ${TRIED_ROWS}) AS t WHERE hash(t) IS NULL`);
}
