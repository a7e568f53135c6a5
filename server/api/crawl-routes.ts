import cronstrue from 'cronstrue';
import Joi from 'joi';
import { checkGlobs, USUAL_SAMPLE, type CrawlDefinition } from '../../core/crawl/definition';
import { LakeError } from '../../core/errors';
import { normalPath } from '../../core/storage/paths';
import { changeCrawl, createCrawl, deleteCrawl, findRun, getCrawl, listCrawls, listRuns } from '../catalog/crawls';
import { closeDrift, listDrift } from '../catalog/drifts';
import { rememberCorrections } from '../catalog/corrections';
import { briefFindingsOf, correctFinding, decide, findFinding, findingsOf, type Decision } from '../catalog/findings';
import { givenOptions } from '../catalog/saved-options';
import { corrected, type Correction } from '../crawl/correct';
import { registerFindings } from '../crawl/register';
import { checkSchedule } from '../crawl/schedules';
import { checkedToTheEnd } from '../crawl/full-check';
import type { Route } from '../http/routes';
import { readOptionsBody, valueForm } from '../lake/read-options-schema';
import type { Services } from '../services';
import { name, namespaceName, rowId, sqlName, storagePath } from './schemas';

export function crawlRoutes({ crawler, jobs, schedules, database, lake, events, inspector }: Services): Route[] {
  const tools = { engine: inspector.engine, local: inspector.local, inspector };
  const getFinding = async (id: number) => {
    const finding = await findFinding(database, id);
    if (!finding) throw new LakeError('not-found', `There is no finding ${id}.`);
    return finding;
  };
  /** A finding that can still be decided and corrected. */
  const openFinding = async (id: number) => {
    const finding = await getFinding(id);
    if (finding.decision === 'registered' || finding.decision === 'unregistered') throw new LakeError('conflict', `${finding.namespace}.${finding.name} is ${finding.decision} already.`);
    return finding;
  };
  const runOf = async (id: number) => {
    const run = await findRun(database, id);
    if (!run) throw new LakeError('not-found', `There is no crawl run ${id}.`);
    return run;
  };
  const globs = Joi.array().items(Joi.string().trim().min(1).max(300)).max(50).default([]);
  const definition = {
    name: Joi.string().trim().min(1).max(200).required(),
    folders: Joi.array().items(Joi.object({ storage: name.required(), folder: storagePath, include: globs, exclude: globs, kinds: Joi.array().items(Joi.string().valid('table', 'view', 'materialized view', 'foreign table', 'partitioned table')).max(5) })).min(1).max(50).required(),
    namespace: namespaceName.allow('').default(''), prefix: Joi.string().trim().allow('').max(60).default(''), naming: Joi.string().valid('folder', 'path').default('folder'),
    sample: Joi.number().integer().min(1).max(1000).default(USUAL_SAMPLE), findings: Joi.string().valid('ask', 'additions').default('ask'), schedule: Joi.string().trim().max(100).allow(null).default(null), runAs: Joi.string().hex().length(16).allow(null),
  };
  /** Fails at once where a storage is not there or a rule cannot be read. */
  const definitionOf = ({ name: _, ...rest }: Record<string, unknown>): CrawlDefinition => {
    const given = rest as unknown as CrawlDefinition;
    const folders = given.folders.map((each) => ({ ...each, storage: lake.storage(each.storage).storage.name, folder: normalPath(each.folder) }));
    folders.forEach(checkGlobs);
    if (given.schedule !== null) checkSchedule(given.schedule);
    return { ...given, folders };
  };
  const crawlId = Joi.object({ crawl: rowId.required() });
  return [
    {
      method: 'get', path: '/crawls', summary: 'Crawls with their last outcome', answer: 'Crawls; a schedule is told in words too',
      handle: async () => (await listCrawls(database)).map((crawl) => ({ ...crawl, scheduleWords: scheduleWords(crawl.definition.schedule) })),
    },
    {
      method: 'post', path: '/crawls', summary: 'Crawl a folder by the usual rules', answer: 'The run that was started; nothing is registered by it',
      body: Joi.object({ storage: name.required(), folder: storagePath }),
      handle: async ({ body, as }) => {
        const { runId, job } = await crawler.startFolder(body.storage as string, normalPath(body.folder as string), as);
        return { runId, jobId: job.id };
      },
    },
    {
      method: 'post', path: '/crawls/define', summary: 'Define a crawl: folders, names, what to do with findings, when', answer: 'Its id',
      body: Joi.object(definition),
      handle: async ({ body, who }) => {
        const id = await createCrawl(database, body.name as string, definitionOf(body), who);
        await schedules.refresh();
        return { id };
      },
    },
    {
      method: 'post', path: '/crawls/schedule-words', summary: 'A schedule in words', answer: 'Words, or what is wrong with it',
      body: Joi.object({ schedule: Joi.string().trim().max(100).required() }),
      handle: async ({ body }) => {
        checkSchedule(body.schedule as string);
        return { words: scheduleWords(body.schedule as string) };
      },
    },
    {
      method: 'get', path: '/crawls/{crawl}', summary: 'A crawl with its history', answer: 'Its rules, and its runs, newest first',
      params: crawlId,
      handle: async ({ params }) => {
        const crawl = await getCrawl(database, Number(params.crawl));
        return { ...crawl, scheduleWords: scheduleWords(crawl.definition.schedule), runs: await listRuns(database, crawl.id, 100) };
      },
    },
    {
      method: 'put', path: '/crawls/{crawl}', summary: 'Change a crawl', answer: 'The crawl',
      params: crawlId, body: Joi.object(definition),
      handle: async ({ params, body, who }) => {
        const { id } = await getCrawl(database, Number(params.crawl));
        await changeCrawl(database, id, body.name as string, definitionOf(body), who);
        await schedules.refresh();
        return getCrawl(database, id);
      },
    },
    {
      method: 'delete', path: '/crawls/{crawl}', summary: 'Forget a crawl with its runs and findings; what was registered stays', answer: 'Its name',
      params: crawlId,
      handle: async ({ params, who }) => {
        const crawl = await getCrawl(database, Number(params.crawl));
        await deleteCrawl(database, crawl, who);
        await schedules.refresh();
        return { forgotten: crawl.name };
      },
    },
    {
      method: 'post', path: '/crawls/{crawl}/run', summary: 'Run a crawl now', answer: 'The run that was started',
      params: crawlId,
      handle: async ({ params, as }) => {
        const { runId, job } = await crawler.start(Number(params.crawl), as);
        return { runId, jobId: job.id };
      },
    },
    {
      method: 'get', path: '/crawl-runs/{run}', summary: 'A run with its findings', answer: 'The run; findings that need a decision first',
      params: Joi.object({ run: rowId.required() }), query: Joi.object({ brief: Joi.boolean().default(false).description('Without what each finding rests on, which is asked for by finding') }),
      handle: async ({ params, query }) => {
        const run = await runOf(Number(params.run));
        return { ...run, findings: query.brief ? await briefFindingsOf(database, run.id) : await findingsOf(database, run.id) };
      },
    },
    {
      method: 'get', path: '/findings/{finding}', summary: 'A finding with what it rests on', answer: 'The finding',
      params: Joi.object({ finding: rowId.required() }),
      handle: ({ params }) => getFinding(Number(params.finding)),
    },
    {
      method: 'patch', path: '/findings/{finding}', summary: 'Decide on a finding', answer: 'The finding',
      params: Joi.object({ finding: rowId.required() }),
      body: Joi.object({ decision: Joi.string().valid('register', 'leave-out', 'leave-out-always', 'undecided').required() }),
      handle: async ({ params, body, who }) => {
        const finding = await openFinding(Number(params.finding));
        if (body.decision === 'register' && !finding.definition) throw new LakeError('conflict', 'There is nothing in this finding that could be registered.');
        if (body.decision === 'register' && finding.status === 'unreadable') throw new LakeError('conflict', `It cannot be read as it stands: ${finding.evidence.problems[0]?.problem ?? finding.summary}`, { hint: 'Correct how it is read, or take the file at fault out of the folder, and crawl again.' });
        await decide(database, finding, body.decision as Decision, who);
        if (finding.relationId !== null && String(body.decision).startsWith('leave-out')) await closeDrift(database, finding.relationId, 'left as it was', who);
        return findFinding(database, finding.id);
      },
    },
    {
      method: 'post', path: '/findings/{finding}/check', summary: 'Read all files of a finding to their ends', answer: 'The job that does it',
      params: Joi.object({ finding: rowId.required() }),
      handle: async ({ params, who }) => {
        const finding = await openFinding(Number(params.finding));
        const { job } = await jobs.start('check', `Read all of ${finding.namespace}.${finding.name}`, who, async (context) => {
          const checked = await checkedToTheEnd(finding, lake.storage(finding.storage), tools, context);
          // A decision that was made while it ran stands, unless there is nothing left to decide on.
          const { decision } = await openFinding(finding.id);
          await correctFinding(database, { ...finding, decision }, { ...checked, ...(checked.status === 'unreadable' ? {} : { decision }) });
          events.tell({ topic: 'crawl', runId: finding.runId });
          return { rows: checked.rows, files: checked.evidence.proof?.files ?? 0 };
        });
        return { jobId: job.id };
      },
    },
    {
      method: 'post', path: '/findings/{finding}/correct', summary: 'Correct a finding before it is registered', answer: 'The finding as corrected',
      params: Joi.object({ finding: rowId.required() }),
      body: Joi.object({ namespace: namespaceName, name: sqlName, options: readOptionsBody, readWith: Joi.string().max(200), columns: Joi.array().items(Joi.object({ name: Joi.string().max(500).required(), rename: sqlName, type: Joi.string().max(2000), form: valueForm, setAside: Joi.boolean() })).max(5000) }),
      handle: async ({ params, body, who }) => {
        const finding = await openFinding(Number(params.finding));
        const options = await givenOptions(database, body);
        const correction = { ...(body as Correction), ...(options ? { options } : {}) };
        await correctFinding(database, finding, await corrected(finding, correction, lake.storage(finding.storage), tools));
        if (finding.definition?.kind === 'folder' && correction.columns) await rememberCorrections(database, finding.definition.folder, correction.columns, `${finding.namespace}.${finding.name}`, who);
        return findFinding(database, finding.id);
      },
    },
    {
      method: 'post', path: '/crawl-runs/{run}/register', summary: 'Carry out what was decided on', answer: 'What was registered or taken out, and what could not be with the reason',
      params: Joi.object({ run: rowId.required() }),
      handle: async ({ params, as }) => {
        const run = await runOf(Number(params.run));
        const done = await registerFindings(database, (await findingsOf(database, run.id)).filter((each) => each.decision === 'register' && each.definition), as);
        events.tell({ topic: 'catalog' });
        events.tell({ topic: 'crawl', runId: run.id });
        return done;
      },
    },
    {
      method: 'get', path: '/drift', summary: 'Changes of columns and types that crawls saw in registered tables', answer: 'Entries, newest first',
      query: Joi.object({ table: Joi.string().max(500), limit: Joi.number().integer().min(1).max(1000).default(200) }),
      handle: ({ query }) => listDrift(database, query.table as string | undefined, query.limit as number),
    },
  ];
}

function scheduleWords(schedule: string | null): string | null {
  if (schedule === null) return null;
  return `${cronstrue.toString(schedule, { use24HourTimeFormat: true, verbose: false })}, UTC`;
}
