/** Crawls, their runs and findings, and what files said of themselves. */
import type { ObjectInfo } from '../../core/storage/object-store';
import type { Inspected } from '../lake/inspect';
import type { Database, Sql } from './database';
import type { RelationDefinition } from './relations';

export type FindingStatus = 'new' | 'changed' | 'unchanged' | 'clash' | 'no-shape' | 'unreadable';
export type Decision = 'register' | 'leave-out' | 'leave-out-always' | 'undecided' | 'registered';

export interface Finding {
  id: number;
  runId: number;
  location: string;
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

/** Why a finding is what it is, for people to judge. */
export interface Evidence {
  looked: number;
  of: number;
  known: number;
  read: string;
  columns: { name: string; type: string; presence: number[]; clash: boolean; fromPath: boolean; isNew: boolean }[];
  buckets: string[];
  partitions: { name: string; type: string; values: number; first: string | null; last: string | null }[];
  clashes: { column: string; types: { type: string; files: number; example: string }[] }[];
  partial: { column: string; presentIn: number; of: number; firstIn: string }[];
  problems: { path: string; problem: string }[];
  statement: string;
  /** One of the files, by path. */
  example: string | null;
  rowsAreEstimated: boolean;
  version: number | null;
}

export interface CrawlRun {
  id: number;
  crawlId: number;
  storage: string;
  folder: string;
  jobId: string | null;
  startedAt: string;
  finishedAt: string | null;
  files: number;
  opened: number;
}

export interface Crawl {
  id: number;
  storage: string;
  folder: string;
  lastRun: { id: number; startedAt: string; finishedAt: string | null; files: number; opened: number; findings: number; undecided: number } | null;
}

export async function listCrawls(sql: Sql): Promise<Crawl[]> {
  const rows = await sql.query<{ id: number; storage: string; folder: string; run: Crawl['lastRun'] }>(`
    SELECT c.id, s.name AS storage, c.folder, (
      SELECT json_build_object('id', r.id, 'startedAt', r.started_at, 'finishedAt', r.finished_at, 'files', r.files, 'opened', r.opened,
               'findings', (SELECT count(*) FROM finding f WHERE f.run_id = r.id),
               'undecided', (SELECT count(*) FROM finding f WHERE f.run_id = r.id AND f.decision IN ('undecided')))
      FROM crawl_run r WHERE r.crawl_id = c.id ORDER BY r.id DESC LIMIT 1) AS run
    FROM crawl c JOIN storage s ON s.id = c.storage_id ORDER BY s.name, c.folder`);
  return rows.map(({ run, ...rest }) => ({ ...rest, lastRun: run }));
}

export async function ensureCrawl(sql: Sql, storageId: number, folder: string): Promise<number> {
  const [row] = await sql.query<{ id: number }>('INSERT INTO crawl (storage_id, folder) VALUES ($1, $2) ON CONFLICT (storage_id, folder) DO UPDATE SET folder = EXCLUDED.folder RETURNING id', [storageId, folder]);
  return row!.id;
}

export async function startRun(sql: Sql, crawlId: number): Promise<number> {
  const [row] = await sql.query<{ id: number }>('INSERT INTO crawl_run (crawl_id, started_at) VALUES ($1, now()) RETURNING id', [crawlId]);
  return row!.id;
}

export async function setRunJob(sql: Sql, runId: number, jobId: string): Promise<void> {
  await sql.query('UPDATE crawl_run SET job_id = $2 WHERE id = $1', [runId, jobId]);
}

/** The run's findings and its end, together. */
export async function finishRun(database: Database, runId: number, files: number, opened: number, findings: Omit<Finding, 'id' | 'runId'>[]): Promise<void> {
  await database.transaction(async (sql) => {
    for (const each of findings) {
      await sql.query(
        `INSERT INTO finding (run_id, location, namespace, name, status, decision, format, summary, files, bytes, rows, definition, evidence, relation_id)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14)`,
        [runId, each.location, each.namespace, each.name, each.status, each.decision, each.format, each.summary, each.files, each.bytes, each.rows,
          each.definition && JSON.stringify(each.definition), JSON.stringify(each.evidence), each.relationId],
      );
    }
    await sql.query('UPDATE crawl_run SET finished_at = now(), files = $2, opened = $3 WHERE id = $1', [runId, files, opened]);
  });
}

const FINDING = `id, run_id AS "runId", location, namespace, name, status, decision, format, summary, files, bytes::float8 AS bytes, rows::float8 AS rows, definition, evidence, relation_id AS "relationId"`;

export async function findRun(sql: Sql, runId: number): Promise<(CrawlRun & { findings: Finding[] }) | undefined> {
  const [run] = await sql.query<CrawlRun>(`
    SELECT r.id, r.crawl_id AS "crawlId", s.name AS storage, c.folder, r.job_id AS "jobId", r.started_at AS "startedAt", r.finished_at AS "finishedAt", r.files, r.opened
    FROM crawl_run r JOIN crawl c ON c.id = r.crawl_id JOIN storage s ON s.id = c.storage_id WHERE r.id = $1`, [runId]);
  if (!run) return undefined;
  // What needs a decision comes first.
  const findings = await sql.query<Finding>(`SELECT ${FINDING} FROM finding WHERE run_id = $1
    ORDER BY array_position(ARRAY['clash', 'no-shape', 'unreadable', 'changed', 'new', 'unchanged'], status), location`, [runId]);
  return { ...run, findings };
}

export interface PlacedFinding extends Finding {
  storage: string;
  storageId: number;
}

const PLACE = (column: string) => `(SELECT s.${column} FROM crawl_run r JOIN crawl c ON c.id = r.crawl_id JOIN storage s ON s.id = c.storage_id WHERE r.id = finding.run_id)`;

/** A finding with the storage of its run. */
export async function findFinding(sql: Sql, findingId: number): Promise<PlacedFinding | undefined> {
  const [found] = await sql.query<PlacedFinding>(`SELECT ${FINDING}, ${PLACE('name')} AS storage, ${PLACE('id')} AS "storageId" FROM finding WHERE id = $1`, [findingId]);
  return found;
}

/** Keeps what somebody decided; "always" is remembered by place, for later crawls. */
export async function decide(database: Database, finding: PlacedFinding, decision: Decision, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query('UPDATE finding SET decision = $2 WHERE id = $1', [finding.id, decision]);
    if (decision === 'leave-out-always') await sql.query('INSERT INTO left_out (storage_id, location, who) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING', [finding.storageId, finding.location, who]);
    else await sql.query('DELETE FROM left_out WHERE storage_id = $1 AND location = $2', [finding.storageId, finding.location]);
  });
}

/** Places that are left out for good. */
export async function leftOutPlaces(sql: Sql, storageId: number): Promise<Set<string>> {
  const rows = await sql.query<{ location: string }>('SELECT location FROM left_out WHERE storage_id = $1', [storageId]);
  return new Set(rows.map(({ location }) => location));
}

/** Takes a correction: where it will be registered, and as what. */
export async function correctFinding(sql: Sql, findingId: number, corrected: Pick<Finding, 'namespace' | 'name' | 'definition' | 'evidence' | 'status' | 'decision' | 'summary' | 'format' | 'rows'>): Promise<void> {
  await sql.query('UPDATE finding SET namespace = $2, name = $3, definition = $4, evidence = $5, status = $6, decision = $7, summary = $8, format = $9, rows = $10 WHERE id = $1', [findingId, corrected.namespace, corrected.name, JSON.stringify(corrected.definition), JSON.stringify(corrected.evidence), corrected.status, corrected.decision, corrected.summary, corrected.format, corrected.rows]);
}

export async function markRegistered(sql: Sql, findingId: number, relationId: number): Promise<void> {
  await sql.query("UPDATE finding SET decision = 'registered', relation_id = $2 WHERE id = $1", [findingId, relationId]);
}

/** Raised when guesses get better, so that what was guessed before is looked at again. */
const JUDGED_BY = 2;

/** What is known of files that have not changed since they were opened. */
export async function knownFacts(sql: Sql, storageId: number, folder: string, files: readonly ObjectInfo[]): Promise<Map<string, Inspected>> {
  const rows = await sql.query<{ path: string; bytes: number; modified: number; facts: Inspected & { judgedBy?: number } }>(
    `SELECT path, bytes::float8 AS bytes, modified::float8 AS modified, facts FROM seen_file WHERE storage_id = $1 AND starts_with(path, $2)`,
    [storageId, folder === '' ? '' : `${folder}/`],
  );
  const now = new Map(files.map((file) => [file.path, file]));
  return new Map(rows.filter((row) => row.facts.judgedBy === JUDGED_BY && now.get(row.path)?.bytes === row.bytes && now.get(row.path)?.modified === row.modified).map((row) => [row.path, row.facts]));
}

export async function rememberFacts(sql: Sql, storageId: number, files: readonly ObjectInfo[], facts: readonly Inspected[]): Promise<void> {
  const byPath = new Map(files.map((file) => [file.path, file]));
  const known = facts.filter((each) => byPath.has(each.path));
  await sql.query(
    `INSERT INTO seen_file (storage_id, path, bytes, modified, facts)
     SELECT $1, * FROM unnest($2::text[], $3::bigint[], $4::bigint[], $5::jsonb[])
     ON CONFLICT (storage_id, path) DO UPDATE SET bytes = EXCLUDED.bytes, modified = EXCLUDED.modified, facts = EXCLUDED.facts`,
    [storageId, known.map((each) => each.path), known.map((each) => byPath.get(each.path)!.bytes), known.map((each) => byPath.get(each.path)!.modified), known.map((each) => JSON.stringify({ ...each, judgedBy: JUDGED_BY }))],
  );
}
