/** A finding that takes time to correct or to check is not written over what somebody decided meanwhile. */
import { beforeAll, expect, it } from 'vitest';
import { testDatabase } from '../testing/database';
import type { Database } from './database';
import { ensureCrawl, startRun } from './crawls';
import { plainCrawl } from '../../core/crawl/definition';
import { addFindings, briefFindingsOf, correctFinding, findingsOf, type Finding, type NewFinding } from './findings';

let database: Database;
let runId: number;
beforeAll(async () => {
  database = await testDatabase();
  await database.query("INSERT INTO storage (name, kind, location) VALUES ('bay', 'folder', '/x')");
  runId = await startRun(
    database,
    await ensureCrawl(database, 'all', plainCrawl('bay', ''), 'R. Holt'),
    'R. Holt',
    'asked',
  );
  const base = {
    storageId: 1,
    location: 'a',
    digest: '',
    namespace: 'n',
    status: 'new',
    decision: 'undecided',
    format: 'csv',
    summary: '',
    files: 1,
    bytes: 1,
    rows: 1,
    relationId: null,
    evidence: { rowsAreEstimated: true },
  };
  await addFindings(database, runId, [
    { ...base, place: 'a/*', name: 'a', definition: { kind: 'lake', pointer: 'files' } },
    { ...base, place: 'b/*', name: 'b', definition: null },
  ] as unknown as NewFinding[]);
});
const first = async () => (await findingsOf(database, runId))[0]!;
const renamed = (finding: Finding, name: string) => ({ ...finding, name });

it('takes a correction of the finding as it is, and refuses one of what it was before', async () => {
  const before = await first();
  await correctFinding(database, before, renamed(before, 'first'));
  await expect(correctFinding(database, before, renamed(before, 'second'))).rejects.toMatchObject({ kind: 'conflict' });
  expect((await first()).name).toBe('first');
  const [, nothing] = await findingsOf(database, runId);
  await correctFinding(database, nothing!, renamed(nothing!, 'c'));
});

it('tells findings in brief in the same order, with whether there is anything to register', async () => {
  const [full, brief] = await Promise.all([findingsOf(database, runId), briefFindingsOf(database, runId)]);
  expect(
    brief.map(({ isDefined, rowsAreEstimated, ...rest }) => [
      rest.id,
      rest.name,
      rest.bytes,
      isDefined,
      rowsAreEstimated,
    ]),
  ).toEqual(full.map((each) => [each.id, each.name, each.bytes, each.definition !== null, true]));
});
