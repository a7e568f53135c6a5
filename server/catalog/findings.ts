/** What runs of crawls found, and what was decided on it. */
import { LakeError } from '../../core/errors';
import type { OtherWay } from '../../core/text/column-forms';
import { manyRows, type Database, type Sql } from './database';
import type { RelationDefinition } from './relations';

export type FindingStatus = 'new' | 'changed' | 'unchanged' | 'clash' | 'no-shape' | 'unreadable' | 'gone';
/** For what is gone, `register` takes it out of the catalog. */
export type Decision = 'register' | 'leave-out' | 'leave-out-always' | 'undecided' | 'registered' | 'unregistered';

export interface Finding {
  id: number;
  runId: number;
  storageId: number;
  storage: string;
  /** The folder. */
  location: string;
  /** What tells it from other findings of the same folder: its pattern, or the folder. */
  place: string;
  /** Of the files and of how they were judged; the same digest is the same finding. */
  digest: string;
  namespace: string;
  name: string;
  status: FindingStatus;
  decision: Decision;
  format: string | null;
  summary: string;
  files: number;
  bytes: number;
  rows: number | null;
  definition: RelationDefinition | null;
  evidence: Evidence;
  relationId: number | null;
}

export type NewFinding = Omit<Finding, 'id' | 'runId' | 'storage'>;

/** Why a finding is what it is, for people to judge. */
export interface Evidence {
  looked: number;
  of: number;
  known: number;
  read: string;
  columns: { name: string; type: string; presence: number[]; clash: boolean; fromPath: boolean; isNew: boolean; why?: string; isAmbiguous?: boolean; others?: OtherWay[] }[];
  buckets: string[];
  partitions: { name: string; type: string; values: number; first: string | null; last: string | null }[];
  clashes: { column: string; types: { type: string; files: number; example: string }[] }[];
  partial: { column: string; presentIn: number; of: number; firstIn: string }[];
  problems: { path: string; problem: string }[];
  /** Ways out of the problems, to be chosen. */
  mends?: { label: string; misfits: 'set-aside' }[];
  /** What was seen of the files' layout. Absent in findings of older crawls, as the two below. */
  notes?: string[];
  /** What reading the files by this very definition gave. */
  proof?: { rows: number | null; files: number; of: number; repairs: string[]; missing: { column: string; values: number; texts: string[] }[] };
  statement: string;
  /** One of the files, by path. */
  example: string | null;
  /** Views that read the registered table. */
  affected: string[];
  rowsAreEstimated: boolean;
  version: number | null;
}

/** What needs a decision comes first. */
const IN_ORDER = "ORDER BY array_position(ARRAY['clash', 'no-shape', 'unreadable', 'gone', 'changed', 'new', 'unchanged'], f.status), f.location, f.place";
const FINDING = `f.id, f.run_id AS "runId", f.storage_id AS "storageId", s.name AS storage, f.location, f.place, f.digest, f.namespace, f.name, f.status, f.decision, f.format, f.summary, f.files, f.bytes::float8 AS bytes, f.rows::float8 AS rows, f.definition, f.evidence, f.relation_id AS "relationId"
  FROM finding f JOIN storage s ON s.id = f.storage_id`;
/** Findings in one statement. */
const AT_ONCE = 200;

export async function addFindings(sql: Sql, runId: number, findings: readonly NewFinding[]): Promise<void> {
  for (let start = 0; start < findings.length; start += AT_ONCE) {
    await sql.query(
      `INSERT INTO finding (run_id, storage_id, location, place, digest, namespace, name, status, decision, format, summary, files, bytes, rows, definition, evidence, relation_id)
       SELECT $1, x."storageId", x.location, x.place, x.digest, x.namespace, x.name, x.status, x.decision, x.format, x.summary, x.files, x.bytes, x.rows, x.definition, x.evidence, x."relationId"
       FROM jsonb_to_recordset($2) AS x("storageId" int, location text, place text, digest text, namespace text, name text, status text, decision text, format text, summary text, files int, bytes bigint, rows bigint, definition jsonb, evidence jsonb, "relationId" int)`,
      [runId, JSON.stringify(findings.slice(start, start + AT_ONCE))],
    );
  }
}

/** A finding of an earlier run that says all there is to say again. */
export interface Repeated {
  id: number;
  status: FindingStatus;
  decision: Decision;
  relationId: number | null;
}

/** Copies findings of earlier runs whose files are as they were; nothing of them was opened. */
export async function repeatFindings(sql: Sql, runId: number, repeated: readonly Repeated[]): Promise<void> {
  for (let start = 0; start < repeated.length; start += AT_ONCE * 10) {
    await sql.query(
      `INSERT INTO finding (run_id, storage_id, location, place, digest, namespace, name, status, decision, format, summary, files, bytes, rows, definition, evidence, relation_id)
       SELECT $1, f.storage_id, f.location, f.place, f.digest, f.namespace, f.name, x.status, x.decision, f.format, f.summary, f.files, f.bytes, f.rows, f.definition, jsonb_set(f.evidence, '{known}', f.evidence->'looked'), x."relationId"
       FROM jsonb_to_recordset($2) AS x(id int, status text, decision text, "relationId" int) JOIN finding f ON f.id = x.id`,
      [runId, JSON.stringify(repeated.slice(start, start + AT_ONCE * 10))],
    );
  }
}

export interface EarlierFinding {
  id: number;
  storageId: number;
  place: string;
  digest: string;
  status: FindingStatus;
  decision: Decision;
}

/** Those of the crawl's last run that came to its end. */
export async function earlierFindings(sql: Sql, crawlId: number): Promise<EarlierFinding[]> {
  return sql.query(`SELECT id, storage_id AS "storageId", place, digest, status, decision FROM finding
    WHERE run_id = (SELECT max(id) FROM crawl_run WHERE crawl_id = $1 AND finished_at IS NOT NULL AND problem IS NULL)`, [crawlId]);
}

/** What needs a decision comes first. */
export async function findingsOf(sql: Sql, runId: number): Promise<Finding[]> {
  return sql.query(`SELECT ${FINDING} WHERE f.run_id = $1 ${IN_ORDER}`, [runId]);
}

/** A finding without what only it shows itself. */
export type FindingBrief = Omit<Finding, 'definition' | 'evidence' | 'digest'> & { isDefined: boolean; rowsAreEstimated: boolean };

/** The same of a run with many: what they rest on is asked for one by one. */
export async function briefFindingsOf(sql: Sql, runId: number): Promise<FindingBrief[]> {
  return manyRows(sql, `SELECT f.id, f.run_id AS "runId", f.storage_id AS "storageId", s.name AS storage, f.location, f.place, f.namespace, f.name, f.status, f.decision, f.format, f.summary, f.files, f.bytes::float8 AS bytes, f.rows::float8 AS rows, f.relation_id AS "relationId",
      nullif(f.definition, 'null') IS NOT NULL AS "isDefined", coalesce((f.evidence->>'rowsAreEstimated')::boolean, false) AS "rowsAreEstimated"
    FROM finding f JOIN storage s ON s.id = f.storage_id WHERE f.run_id = $1 ${IN_ORDER}`, [runId]);
}

export async function findFinding(sql: Sql, findingId: number): Promise<Finding | undefined> {
  const [found] = await sql.query<Finding>(`SELECT ${FINDING} WHERE f.id = $1`, [findingId]);
  return found;
}

/** Keeps what somebody decided; "always" is remembered by place, for later crawls. */
export async function decide(database: Database, finding: Finding, decision: Decision, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query('UPDATE finding SET decision = $2 WHERE id = $1', [finding.id, decision]);
    if (decision === 'leave-out-always') await sql.query('INSERT INTO left_out (storage_id, location, who) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING', [finding.storageId, finding.place, who]);
    else await sql.query('DELETE FROM left_out WHERE storage_id = $1 AND location = $2', [finding.storageId, finding.place]);
  });
}

/** Places that are left out for good, as `storage id` and place with a space between. */
export async function leftOutPlaces(sql: Sql): Promise<Set<string>> {
  const rows = await sql.query<{ storage_id: number; location: string }>('SELECT storage_id, location FROM left_out');
  return new Set(rows.map((row) => `${row.storage_id} ${row.location}`));
}

export type Corrected = Pick<Finding, 'namespace' | 'name' | 'definition' | 'evidence' | 'status' | 'decision' | 'summary' | 'format' | 'rows'>;

/** Takes a correction: where it will be registered, and as what. */
/** Nothing is no JSON either. */
function asJson(definition: RelationDefinition | null): string | null {
  return definition === null ? null : JSON.stringify(definition);
}

/** `before` is the finding that was corrected. Fails with `conflict` where somebody changed it meanwhile: trying a correction takes time. */
export async function correctFinding(sql: Sql, before: Finding, corrected: Corrected): Promise<void> {
  const changed = await sql.query(`UPDATE finding SET namespace = $2, name = $3, definition = $4, evidence = $5, status = $6, decision = $7, summary = $8, format = $9, rows = $10
      WHERE id = $1 AND namespace = $11 AND name = $12 AND decision = $13 AND nullif(definition, 'null') IS NOT DISTINCT FROM $14::jsonb RETURNING id`,
    [before.id, corrected.namespace, corrected.name, asJson(corrected.definition), JSON.stringify(corrected.evidence), corrected.status, corrected.decision, corrected.summary, corrected.format, corrected.rows, before.namespace, before.name, before.decision, asJson(before.definition)]);
  if (changed.length === 0) throw new LakeError('conflict', `${before.namespace}.${before.name} was changed meanwhile, so nothing was changed here.`, { hint: 'Look at it again, and do it once more where it is still wanted.' });
}

export async function markRegistered(sql: Sql, registered: readonly { finding: number; relation: number }[]): Promise<void> {
  await sql.query('UPDATE finding f SET decision = $2, relation_id = x.relation FROM jsonb_to_recordset($1) AS x(finding int, relation int) WHERE f.id = x.finding', [JSON.stringify(registered), 'registered']);
}

export async function markDecided(sql: Sql, findingId: number, decision: 'registered' | 'unregistered', relationId: number | null): Promise<void> {
  await sql.query('UPDATE finding SET decision = $2, relation_id = $3 WHERE id = $1', [findingId, decision, relationId]);
}
