/** Tables made ones of the other open format. */
import Joi from 'joi';
import { getRelation } from '../catalog/relations';
import type { Route } from '../http/routes';
import { convertTable, planConversion } from '../lake/convert-table';
import type { Services } from '../services';
import { name } from './schemas';

export function conversionRoutes(services: Services): Route[] {
  const params = Joi.object({ namespace: name.required(), table: name.required() });
  const path = '/catalog/{namespace}/{table}/conversion';
  return [
    {
      method: 'get', path, summary: 'What making a Delta table an Iceberg table, or the other way, would come to', answer: 'How many files it is of, what would stay behind, and what forbids it', params,
      handle: async ({ params: of }) => planConversion(services, await getRelation(services.database, of.namespace!, of.table!)),
    },
    {
      method: 'post', path, summary: 'Make a Delta table an Iceberg table, or the other way, over the same data files: metadata alone is written', answer: 'The version of the new table and the receipt of the write', params,
      handle: async ({ params: of, who }) => convertTable(services, await getRelation(services.database, of.namespace!, of.table!), who),
    },
  ];
}
