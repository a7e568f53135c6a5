/** Loading rows into tables. */
import Joi from 'joi';
import { getRelation } from '../catalog/relations';
import type { Route } from '../http/routes';
import type { LoadRequest } from '../load/load';
import type { Services } from '../services';
import { id, name } from './schemas';

export function loadRoutes({ database, loads }: Services): Route[] {
  const params = Joi.object({ namespace: name.required(), table: name.required() });
  const column = Joi.string().min(1).max(500);
  const request = {
    from: Joi.object({ files: Joi.string().max(2000), table: Joi.string().max(1000).pattern(/.\../, 'namespace.table'), query: Joi.string().max(200_000) }).length(1).required(),
    mode: Joi.string().valid('append', 'overwrite', 'partitions', 'merge').default('append'), key: Joi.array().items(column).min(1).max(50), latestBy: column,
    map: Joi.object().pattern(column, Joi.string().allow('').max(500)), takeNewColumns: Joi.boolean(), cast: Joi.boolean(), again: Joi.boolean(),
  };
  return [
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
