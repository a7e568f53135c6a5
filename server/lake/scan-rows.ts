/** Trusted SQL over the files of a plan, in the work engine: for looking into files and trying how they are read. */
import type { ScanPlan } from '../../core/scan/plan';
import type { EngineCalls } from '../engine/engine';
import { loadRowFilters, scanOf } from '../engine/scan-sql';
import { translateError } from '../engine/translate';
import { csvHeaders } from './csv-headers';
import { rootsOf } from './inspect';
import type { OpenStorage } from './lake';
import type { LocalFiles } from './local-files';

export interface ScanTools {
  engine: EngineCalls;
  local: LocalFiles;
}

/** `sql` gets the relation's text; `name` is what errors call it. */
export async function scanRows({ engine, local }: ScanTools, storage: OpenStorage, plan: ScanPlan, name: string, sql: (relation: string) => string): Promise<unknown[][]> {
  const lease = await local.forPlan(storage, plan);
  try {
    const { setup, relation } = scanOf({ name: 'scanned', plan, localPath: (file) => lease.pathOf(file), headers: await csvHeaders(storage.store, plan, lease), rows: await loadRowFilters(plan) });
    const cleanUp = setup.filter((each) => each.startsWith('CREATE TEMP')).length > 0 ? ['DROP TABLE IF EXISTS "scanned_parts"'] : [];
    return (await engine.call('run', { sql: [...cleanUp, ...setup, sql(relation)].join('; ') })).rows;
  } catch (error) {
    throw translateError(error, { roots: rootsOf(storage), copies: lease.copies, names: new Map([['scanned', name]]) });
  } finally {
    lease.release();
  }
}
