/** What follows from a run's findings: what is gone, who is affected, the record of drift, and registering by rule. */
import type { CrawlDefinition, CrawlFolder } from '../../core/crawl/definition';
import { driftBetween, isAddition } from '../../core/crawl/drift';
import { parsePattern } from '../../core/folder/path-pattern';
import type { ObjectInfo } from '../../core/storage/object-store';
import { below } from '../../core/storage/paths';
import type { Identity } from '../access/access';
import type { Database } from '../catalog/database';
import { recordDrift } from '../catalog/drifts';
import { findingsOf, type Finding, type NewFinding } from '../catalog/findings';
import type { Relation } from '../catalog/relations';
import { viewsByTable } from '../query/readers';
import type { Statements } from '../query/statements';
import type { Lake } from '../lake/lake';
import { isUnder, type Judged } from './crawler';
import { noEvidence } from './evidence';

export interface AfterRun {
  database: Database;
  statements: Statements;
  /** Registers what is new or only adds columns, as far as one may; the number of tables that were. */
  registerAdditions(runId: number, as: Identity): Promise<number>;
  /** Of a token; fails when it is no longer good. */
  identityOf(token: string): Promise<Identity>;
}

const FILES_SHOWN = 5;

/** Registered tables under the crawled folders of which no file is left. */
export function goneFindings(definition: CrawlDefinition, relations: readonly Relation[], judged: readonly Judged[], listed: ReadonlyMap<CrawlFolder, readonly ObjectInfo[]>, lake: Lake): NewFinding[] {
  const there = new Set(judged.flatMap((each) => (each.relation ? [each.relation.id] : [])));
  return relations.filter((relation) => relation.kind === 'table' && !there.has(relation.id)).flatMap((relation): NewFinding[] => {
    const within = definition.folders.find((each) => isUnder(relation, each));
    if (!within || hasFiles(relation, listed.get(within)!)) return [];
    return [{
      storageId: lake.storage(within.storage).storage.id, location: relation.location!, place: `gone ${relation.id}`, digest: '', namespace: relation.namespace, name: relation.name, status: 'gone', decision: 'undecided', format: relation.format,
      summary: `no file of it is left under ${relation.location}`, files: 0, bytes: 0, rows: null, definition: relation.definition, evidence: noEvidence(0), relationId: relation.id,
    }];
  });
}

function hasFiles(relation: Relation, files: readonly ObjectInfo[]): boolean {
  const root = relation.location!;
  if (relation.definition.kind === 'source') return files.some((file) => file.path === root);
  const pattern = relation.definition.kind === 'folder' ? parsePattern(relation.definition.folder.pattern) : undefined;
  return files.some((file) => {
    const inside = below(root, file.path);
    return inside !== undefined && (!pattern || pattern.match(inside) !== undefined);
  });
}

/** Tells with each finding of a registered table which views read it. */
export async function affectedBy({ database, statements }: AfterRun, findings: NewFinding[], relations: readonly Relation[]): Promise<void> {
  const concerned = findings.filter((finding) => finding.relationId !== null && finding.status !== 'unchanged');
  if (concerned.length === 0) return;
  const views = await viewsByTable(database, statements);
  for (const finding of concerned) {
    const relation = relations.find((each) => each.id === finding.relationId);
    if (relation) finding.evidence.affected = views(`${relation.namespace}.${relation.name}`);
  }
}

export async function noteDrift({ database }: AfterRun, runId: number, findings: readonly NewFinding[], relations: readonly Relation[]): Promise<void> {
  for (const finding of findings) {
    const relation = relations.find((each) => each.id === finding.relationId);
    const old = relation?.definition.kind === 'folder' ? relation.definition.folder : undefined;
    if (!relation || !old || finding.definition?.kind !== 'folder' || finding.status === 'gone') continue;
    const drifts = driftBetween(old.found ?? old.fields, finding.definition.folder.found ?? finding.definition.folder.fields);
    if (drifts.length === 0) continue;
    const { partial, clashes, example } = finding.evidence;
    const filesOf = (column: string) => [...clashes.filter((clash) => clash.column === column).flatMap((clash) => clash.types.map((type) => type.example)), ...partial.filter((each) => each.column === column).map((each) => each.firstIn), ...(example ? [example] : [])];
    await recordDrift(database, { id: relation.id, name: `${relation.namespace}.${relation.name}` }, runId, drifts.map((drift) => ({ ...drift, files: [...new Set(filesOf(drift.column))].slice(0, FILES_SHOWN) })));
  }
}

/** Findings that a crawl may register by itself. */
export async function additionsOf(database: Database, runId: number, relations: readonly Relation[]): Promise<Finding[]> {
  return (await findingsOf(database, runId)).filter((finding) => {
    if (finding.decision !== 'register') return false;
    if (finding.status === 'new') return true;
    const relation = relations.find((each) => each.id === finding.relationId);
    if (finding.status !== 'changed' || relation?.definition.kind !== 'folder' || finding.definition?.kind !== 'folder') return false;
    const old = relation.definition.folder;
    return isAddition(driftBetween(old.found ?? old.fields, finding.definition.folder.found ?? finding.definition.folder.fields));
  });
}
