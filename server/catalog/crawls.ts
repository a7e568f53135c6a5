/** Crawls by name, and their runs. */
import type { CrawlDefinition } from '../../core/crawl/definition';
import { LakeError } from '../../core/errors';
import { DatabaseError, UNIQUE_VIOLATION, type Database, type Sql } from './database';
import { recordRevision } from './revisions';

export type RunCause = 'asked' | 'schedule' | 'restart';

export interface CrawlRun {
  id: number;
  crawlId: number;
  crawl: string;
  definition: CrawlDefinition;
  jobId: string | null;
  askedAt: string | null;
  startedAt: string;
  finishedAt: string | null;
  who: string;
  cause: RunCause;
  /** Files listed, and opened. */
  files: number;
  opened: number;
  /** Findings, those that wait for a decision, and tables that the run registered by itself. */
  found: number;
  undecided: number;
  added: number;
  problem: string | null;
}

export interface Crawl {
  id: number;
  name: string;
  definition: CrawlDefinition;
  lastRun: CrawlRun | null;
}

const RUN = `r.id, r.crawl_id AS "crawlId", c.name AS crawl, c.definition, r.job_id AS "jobId", r.asked_at AS "askedAt", r.started_at AS "startedAt", r.finished_at AS "finishedAt", r.who, r.cause, r.files, r.opened, r.added, r.problem,
  (SELECT count(*)::int FROM finding f WHERE f.run_id = r.id) AS found, (SELECT count(*)::int FROM finding f WHERE f.run_id = r.id AND f.decision = 'undecided') AS undecided
  FROM crawl_run r JOIN crawl c ON c.id = r.crawl_id`;

export async function listCrawls(sql: Sql): Promise<Crawl[]> {
  const [crawls, runs] = await Promise.all([
    sql.query<Omit<Crawl, 'lastRun'>>('SELECT id, name, definition FROM crawl ORDER BY lower(name)'),
    sql.query<CrawlRun>(`SELECT ${RUN} WHERE r.id IN (SELECT max(id) FROM crawl_run GROUP BY crawl_id)`),
  ]);
  return crawls.map((crawl) => ({ ...crawl, lastRun: runs.find((run) => run.crawlId === crawl.id) ?? null }));
}

/** Fails with `not-found`. */
export async function getCrawl(sql: Sql, id: number): Promise<Omit<Crawl, 'lastRun'>> {
  const [found] = await sql.query<Omit<Crawl, 'lastRun'>>('SELECT id, name, definition FROM crawl WHERE id = $1', [id]);
  if (!found) throw new LakeError('not-found', `There is no crawl ${id}.`);
  return found;
}

/** The crawl of that name; made with `definition` when there is none. */
export async function ensureCrawl(sql: Sql, name: string, definition: CrawlDefinition, who: string): Promise<number> {
  const [row] = await sql.query<{ id: number }>('INSERT INTO crawl (name, definition, who) VALUES ($1, $2, $3) ON CONFLICT (lower(name)) DO UPDATE SET name = crawl.name RETURNING id', [name, JSON.stringify(definition), who]);
  return row!.id;
}

export async function createCrawl(database: Database, name: string, definition: CrawlDefinition, who: string): Promise<number> {
  return database.transaction(async (sql) => {
    const [made] = await sql.query<{ id: number }>('INSERT INTO crawl (name, definition, who) VALUES ($1, $2, $3) RETURNING id', [name, JSON.stringify(definition), who]).catch(taken(name));
    await recordRevision(sql, who, 'define crawl', name, { definition });
    return made!.id;
  });
}

export async function changeCrawl(database: Database, id: number, name: string, definition: CrawlDefinition, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query('UPDATE crawl SET name = $2, definition = $3, who = $4 WHERE id = $1', [id, name, JSON.stringify(definition), who]).catch(taken(name));
    await recordRevision(sql, who, 'change crawl', name, { definition });
  });
}

/** Forgets a crawl with its runs and findings; what was registered stays. */
export async function deleteCrawl(database: Database, crawl: Omit<Crawl, 'lastRun'>, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    for (const table of ['finding', 'drift']) await sql.query(`DELETE FROM ${table} WHERE run_id IN (SELECT id FROM crawl_run WHERE crawl_id = $1)`, [crawl.id]);
    await sql.query('DELETE FROM crawl_run WHERE crawl_id = $1', [crawl.id]);
    await sql.query('DELETE FROM crawl WHERE id = $1', [crawl.id]);
    await recordRevision(sql, who, 'forget crawl', crawl.name);
  });
}

function taken(name: string): (error: unknown) => never {
  return (error) => {
    if (error instanceof DatabaseError && error.code === UNIQUE_VIOLATION) throw new LakeError('conflict', `There is a crawl named "${name}" already.`);
    throw error;
  };
}

export async function startRun(sql: Sql, crawlId: number, who: string, cause: RunCause): Promise<number> {
  const [row] = await sql.query<{ id: number }>('INSERT INTO crawl_run (crawl_id, asked_at, started_at, who, cause) VALUES ($1, now(), now(), $2, $3) RETURNING id', [crawlId, who, cause]);
  return row!.id;
}

export async function setRunJob(sql: Sql, runId: number, jobId: string): Promise<void> {
  await sql.query('UPDATE crawl_run SET job_id = $2 WHERE id = $1', [runId, jobId]);
}

export async function endRun(sql: Sql, runId: number, outcome: { files?: number; opened?: number; added?: number; problem?: string }): Promise<void> {
  await sql.query('UPDATE crawl_run SET finished_at = now(), files = coalesce($2, files), opened = coalesce($3, opened), added = coalesce($4, added), problem = $5 WHERE id = $1',
    [runId, outcome.files ?? null, outcome.opened ?? null, outcome.added ?? null, outcome.problem ?? null]);
}

export async function findRun(sql: Sql, runId: number): Promise<CrawlRun | undefined> {
  const [run] = await sql.query<CrawlRun>(`SELECT ${RUN} WHERE r.id = $1`, [runId]);
  return run;
}

/** Newest first. */
export async function listRuns(sql: Sql, crawlId: number, limit: number): Promise<CrawlRun[]> {
  return sql.query(`SELECT ${RUN} WHERE r.crawl_id = $1 ORDER BY r.id DESC LIMIT $2`, [crawlId, limit]);
}

/** Runs that a stop or a crash cut off. They are closed; what they had opened is remembered. */
export async function takeInterrupted(sql: Sql): Promise<{ crawlId: number; who: string }[]> {
  return sql.query("UPDATE crawl_run SET finished_at = now(), problem = 'The server stopped while this ran; it went on in another run.' WHERE finished_at IS NULL RETURNING crawl_id AS \"crawlId\", who");
}
