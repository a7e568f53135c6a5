/** Loading rows into tables. */
import Joi from 'joi';
import { LakeError } from '../../core/errors';
import { FILE_PLAN_OPTIONS } from '../../core/write/plan';
import { normalPath } from '../../core/storage/paths';
import { getRelation } from '../catalog/relations';
import type { Route } from '../http/routes';
import type { LandingRequest } from '../load/landing';
import type { LoadRequest } from '../load/load';
import type { Services } from '../services';
import { id, name, sqlText, storagePath } from './schemas';

export function loadRoutes({ database, loads, landings, lake, jobs }: Services): Route[] {
  const params = Joi.object({ namespace: name.required(), table: name.required() });
  const column = Joi.string().min(1).max(500);
  const request = {
    from: Joi.object({ files: Joi.string().max(2000), table: Joi.string().max(1000).pattern(/.\../, 'namespace.table'), query: Joi.string().max(200_000) }).length(1).required(),
    mode: Joi.string().valid('append', 'overwrite', 'partitions', 'merge').default('append'), key: Joi.array().items(column).min(1).max(50), latestBy: column,
    map: Joi.object().pattern(column, Joi.string().allow('').max(500)), takeNewColumns: Joi.boolean(), cast: Joi.boolean(), again: Joi.boolean(),
    files: Joi.object(Object.fromEntries(FILE_PLAN_OPTIONS.map((option) => [option, Joi.string().max(2000)]))),
  };
  const landing = {
    database: Joi.string().trim().min(1).max(200), query: sqlText.min(1), tables: Joi.array().items(Joi.string().trim().min(1).max(300)).max(500).default([]), kinds: Joi.array().items(Joi.string().valid('table', 'view', 'materialized view', 'foreign table', 'partitioned table')).default(['table', 'partitioned table']),
    to: Joi.object({ storage: name.required(), folder: storagePath.required() }).required(), atOnce: Joi.number().integer().min(1).max(50).default(20),
  };
  const inStorage = Joi.object({ storage: name.required() });
  const landingOf = (body: Record<string, unknown>): LandingRequest => {
    const { to, ...rest } = body as unknown as LandingRequest;
    return { ...rest, to: { storage: lake.storage(to.storage).storage.name, folder: normalPath(to.folder) } };
  };
  return [
    {
      method: 'post', path: '/storages/{storage}/landing/plan', right: 'read', summary: 'Which tables of a connected database a landing would copy, and where to', answer: 'Each table, and whether it is new there',
      params: inStorage, body: Joi.object(landing),
      handle: async ({ params: of, body, as }) => ({ tables: await landings.plan(lake.storage(of.storage!), landingOf(body), as) }),
    },
    {
      method: 'post', path: '/storages/{storage}/landing', summary: 'Copy tables of a connected database to a folder, one Parquet file each, many at a time', answer: 'The job; its result counts both sides, table by table',
      params: inStorage, body: Joi.object(landing),
      handle: async ({ params: of, body, as }) => {
        const { job } = await landings.start(lake.storage(of.storage!), landingOf(body), as);
        return { jobId: job.id };
      },
    },
    {
      method: 'get', path: '/jobs/{id}', summary: 'One run, with its outcome', answer: 'The job',
      params: Joi.object({ id: id.required() }),
      handle: async ({ params: of }) => {
        const found = await jobs.find(of.id!);
        if (!found) throw new LakeError('not-found', 'There is no such run.');
        return found;
      },
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/load/plan', right: 'write', summary: 'What a load would do: how its columns fit, rows that do not, whether it came before', answer: 'Columns, problems, rows, and the statement that would be run',
      params, body: Joi.object(request),
      handle: async ({ params: of, body, as }) => loads.plan(await getRelation(database, of.namespace!, of.table!), body as unknown as LoadRequest, as),
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/load', right: 'write', summary: 'Load rows into a Delta or Iceberg table; what was loaded before is not loaded twice', answer: 'The version, and rows at the source, written and in the table counted against each other',
      params, body: Joi.object({ ...request, id }),
      handle: async ({ params: of, body: { id: given, ...body }, as }) => loads.run(await getRelation(database, of.namespace!, of.table!), body as unknown as LoadRequest, as, given as string | undefined),
    },
  ];
}
