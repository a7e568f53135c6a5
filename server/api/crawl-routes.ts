import Joi from 'joi';
import { LakeError } from '../../core/errors';
import { normalPath } from '../../core/storage/paths';
import { correctFinding, decide, findFinding, findRun, listCrawls, markRegistered, type Decision, type Finding } from '../catalog/crawls';
import { createRelation, getRelation, listRelations, redefineRelation } from '../catalog/relations';
import type { Route } from '../http/routes';
import { givenOptions } from '../catalog/saved-options';
import { readOptionsBody } from '../lake/read-options-schema';
import type { Services } from '../services';
import { corrected, type Correction } from '../crawl/correct';
import { name, rowId, sqlName, storagePath } from './schemas';

export function crawlRoutes({ crawler, database, lake, events, config, inspector }: Services): Route[] {
  const tools = { engine: inspector.engine, local: inspector.local };
  /** A finding that can still be decided and corrected. */
  const openFinding = async (id: number) => {
    const finding = await findFinding(database, id);
    if (!finding) throw new LakeError('not-found', `There is no finding ${id}.`);
    if (finding.decision === 'registered') throw new LakeError('conflict', `${finding.namespace}.${finding.name} is registered already.`);
    return finding;
  };
  const runOf = async (id: number) => {
    const run = await findRun(database, id);
    if (!run) throw new LakeError('not-found', `There is no crawl run ${id}.`);
    return run;
  };
  return [
    { method: 'get', path: '/crawls', summary: 'Crawls with their last outcome', answer: 'Crawls', handle: () => listCrawls(database) },
    {
      method: 'post', path: '/crawls', summary: 'Crawl a folder', answer: 'The run that was started; nothing is registered by it',
      body: Joi.object({ storage: name.required(), folder: storagePath }),
      handle: async ({ body }) => {
        const { runId, job } = await crawler.start(body.storage as string, normalPath(body.folder as string), config.person);
        return { runId, jobId: job.id };
      },
    },
    {
      method: 'get', path: '/crawl-runs/{run}', summary: 'A run with its findings', answer: 'The run; findings that need a decision first',
      params: Joi.object({ run: rowId.required() }),
      handle: ({ params }) => runOf(Number(params.run)),
    },
    {
      method: 'patch', path: '/findings/{finding}', summary: 'Decide on a finding', answer: 'The finding',
      params: Joi.object({ finding: rowId.required() }),
      body: Joi.object({ decision: Joi.string().valid('register', 'leave-out', 'leave-out-always', 'undecided').required() }),
      handle: async ({ params, body }) => {
        const finding = await openFinding(Number(params.finding));
        if (body.decision === 'register' && !finding.definition) throw new LakeError('conflict', 'There is nothing in this finding that could be registered.');
        await decide(database, finding, body.decision as Decision, config.person);
        return findFinding(database, finding.id);
      },
    },
    {
      method: 'post', path: '/findings/{finding}/correct', summary: 'Correct a finding before it is registered', answer: 'The finding as corrected',
      params: Joi.object({ finding: rowId.required() }),
      body: Joi.object({ namespace: sqlName, name: sqlName, options: readOptionsBody, readWith: Joi.string().max(200), columns: Joi.array().items(Joi.object({ name: Joi.string().max(500).required(), rename: sqlName, type: Joi.string().max(2000) })).max(5000) }),
      handle: async ({ params, body }) => {
        const finding = await openFinding(Number(params.finding));
        const options = await givenOptions(database, body);
        const correction = { ...(body as Correction), ...(options ? { options } : {}) };
        await correctFinding(database, finding.id, await corrected(finding, correction, lake.storage(finding.storage), { ...tools, inspector }));
        return findFinding(database, finding.id);
      },
    },
    {
      method: 'post', path: '/crawl-runs/{run}/register', summary: 'Register what was decided on', answer: 'What was registered, and what could not be with the reason',
      params: Joi.object({ run: rowId.required() }),
      handle: async ({ params }) => {
        const run = await runOf(Number(params.run));
        const registered: string[] = [];
        const failed: { name: string; problem: string }[] = [];
        for (const finding of run.findings.filter((each) => each.decision === 'register' && each.definition)) {
          try {
            registered.push(await register(finding, run.storage));
          } catch (error) {
            if (!(error instanceof LakeError)) throw error;
            failed.push({ name: `${finding.namespace}.${finding.name}`, problem: error.message });
          }
        }
        events.tell({ topic: 'catalog' });
        events.tell({ topic: 'crawl', runId: run.id });
        return { registered, failed };
      },
    },
  ];

  async function register(finding: Finding, storage: string): Promise<string> {
    const fullName = `${finding.namespace}.${finding.name}`;
    if (finding.relationId !== null) {
      const relation = (await listRelations(database)).find((each) => each.id === finding.relationId);
      if (!relation) throw new LakeError('not-found', `${fullName} has left the catalog since the crawl.`);
      await redefineRelation(database, relation, finding.definition!, config.person);
      await markRegistered(database, finding.id, relation.id);
      return fullName;
    }
    await createRelation(database, {
      namespace: finding.namespace, name: finding.name, kind: 'table', format: finding.format as never, storageId: lake.storage(storage).storage.id, location: finding.location, definition: finding.definition!,
    }, config.person);
    await markRegistered(database, finding.id, (await getRelation(database, finding.namespace, finding.name)).id);
    return fullName;
  }
}
