/** Runs whatever a person writes: a query, a change of rows, a definition; or several of them, one after the other. */
import { randomUUID } from 'node:crypto';
import { LakeError } from '../../core/errors';
import { isChange } from '../../core/sql/change';
import { isDefinition } from '../../core/sql/define';
import { splitStatements } from '../../core/sql/script';
import { isWrite } from '../../core/sql/write';
import type { Identity } from '../access/access';
import type { ChangeResult } from '../change/changes';
import type { DefineResult } from '../define/definitions';
import type { Services } from '../services';
import type { PlannedTable } from './prepare';
import type { WriteResult } from '../write/file-writes';
import type { QueryResult } from './queries';

type StatementServices = Pick<Services, 'queries' | 'changes' | 'definitions' | 'writes'>;

export interface StatementOptions {
  /** Chosen by the caller when it may want to cancel. */
  id?: string;
  sql: string;
  as: Identity;
  maxRows: number;
  /** Keep the rows for paging. */
  keep: boolean;
}

export function runStatement({ queries, changes, definitions, writes }: StatementServices, given: StatementOptions): Promise<QueryResult | ChangeResult | DefineResult | WriteResult> {
  return queries.begin<QueryResult | ChangeResult | DefineResult | WriteResult>(given.id, given.as, (id) => {
    const options = { ...given, id };
    if (isWrite(options.sql)) return writes.run(options);
    if (isDefinition(options.sql)) return definitions.run(options);
    return isChange(options.sql) ? changes.run(options) : queries.run(options);
  });
}

export interface StatementPlan {
  tables: PlannedTable[];
  /** What a definition would do, in words. */
  does: string[];
}

export async function planStatement({ queries, changes, definitions, writes }: StatementServices, sql: string, as: Identity): Promise<StatementPlan> {
  if (isWrite(sql)) return writes.plan(sql, as);
  if (isDefinition(sql)) return { tables: [], does: await definitions.plan(sql, as) };
  return { tables: await (isChange(sql) ? changes : queries).plan(sql, as), does: [] };
}

export interface ScriptStep {
  sql: string;
  /** Where it stands in the script. */
  start: number;
  result?: QueryResult | ChangeResult | DefineResult | WriteResult;
  problem?: { kind: string; message: string; hint?: string; position: number };
}

export interface ScriptOutcome {
  steps: ScriptStep[];
  /** Statements that were not run, after one that failed. */
  left: number;
}

/** Stops at the first statement that fails; what was done before it stays. `onStep` is told the id of each that begins, by which it can be cancelled. */
export async function runScript(services: StatementServices, { sql, ...options }: Omit<StatementOptions, 'id'>, onStep: (id: string) => void = () => undefined): Promise<ScriptOutcome> {
  const ranges = splitStatements(sql);
  if (ranges.length === 0) throw new LakeError('bad-request', 'There is no statement in the text.');
  const steps: ScriptStep[] = [];
  for (const { start, end } of ranges) {
    const step = { sql: sql.slice(start, end), start };
    const id = randomUUID();
    onStep(id);
    try {
      steps.push({ ...step, result: await runStatement(services, { ...options, id, sql: step.sql }) });
    } catch (error) {
      if (!(error instanceof LakeError)) throw error;
      steps.push({ ...step, problem: { kind: error.kind, message: error.message, position: start + (error.details.position ?? 0), ...(error.details.hint === undefined ? {} : { hint: error.details.hint }) } });
      break;
    }
  }
  return { steps, left: ranges.length - steps.length };
}
