/** Namespaces, profiles, and the catalog as a document. */
import Joi from 'joi';
import { LakeError } from '../../core/errors';
import { normalPath } from '../../core/storage/paths';
import { LATEST } from '../../core/table/contract';
import { documentSchema, exportCatalog, importCatalog } from '../catalog/document';
import { changeNamespace, deleteNamespace, dropRelation, ensureNamespace, getNamespace, getRelation, listRelations, nameOf } from '../catalog/relations';
import { demand, demandEverywhere } from '../access/access';
import type { Route } from '../http/routes';
import { removeUnder, teardownOf } from '../lake/account';
import { profileByQuery, profileFromMetadata, type TableProfile } from '../query/profile';
import type { Services } from '../services';
import { name, namespaceName, storagePath } from './schemas';

export function knowledgeRoutes({ database, lake, queries, events }: Services): Route[] {
  const tableParams = Joi.object({ namespace: name.required(), table: name.required() });
  const namespaceParams = Joi.object({ namespace: name.required() });
  const knowledge = {
    description: Joi.string().trim().allow('').max(2000), owner: Joi.string().trim().allow('').max(200), properties: Joi.object().pattern(Joi.string().max(200), Joi.string().allow('').max(4000)).max(200),
    /** Tables that are found below this folder are put here. */
    place: Joi.object({ storage: name.required(), folder: storagePath }).allow(null),
  };
  const placeOf = (place: { storage: string; folder: string } | null | undefined) => (place ? { storageId: lake.storage(place.storage).storage.id, folder: normalPath(place.folder) } : place);
  const snapshotOf = async (params: Record<string, string>) => {
    const relation = await getRelation(database, params.namespace!, params.table!);
    return { relation, snapshot: await lake.table(relation).snapshot(LATEST) };
  };
  return [
    {
      method: 'post', path: '/namespaces', right: 'asked-inside', summary: 'Make a namespace; dots in its name nest it', answer: 'The namespace',
      body: Joi.object({ name: namespaceName.required(), ...knowledge }),
      handle: async ({ body, who, as }) => {
        demand(as, 'manage', { namespace: body.name as string });
        if (body.place) demandEverywhere(as, 'manage', 'tie a namespace to a folder');
        await database.transaction((sql) => ensureNamespace(sql, body.name as string, who));
        const made = await getNamespace(database, body.name as string);
        await changeNamespace(database, made, { ...(body as object), place: placeOf(body.place as never) }, who);
        events.tell({ topic: 'catalog' });
        return getNamespace(database, made.name);
      },
    },
    {
      method: 'patch', path: '/namespaces/{namespace}', summary: 'What people know of a namespace, and the folder that it belongs to', answer: 'The namespace',
      params: namespaceParams, body: Joi.object(knowledge).min(1),
      handle: async ({ params, body, who, as }) => {
        const namespace = await getNamespace(database, params.namespace!);
        if (body.place) demandEverywhere(as, 'manage', 'tie a namespace to a folder');
        await changeNamespace(database, namespace, { ...(body as object), place: placeOf(body.place as never) }, who);
        events.tell({ topic: 'catalog' });
        return getNamespace(database, namespace.name);
      },
    },
    {
      method: 'get', path: '/namespaces/{namespace}/teardown', right: 'see', summary: 'What taking a namespace down would remove, leave and break', answer: 'The account of each table and view in it',
      params: namespaceParams,
      handle: async ({ params, as }) => {
        const namespace = await getNamespace(database, params.namespace!);
        return { namespace: namespace.name, relations: await Promise.all((await listRelations(database, namespace.name)).map((relation) => teardownOf(database, lake, queries.statements, relation, as))) };
      },
    },
    {
      method: 'delete', path: '/namespaces/{namespace}', summary: 'Take a namespace down with all in it; files of managed tables go only when asked', answer: 'What was taken out',
      params: namespaceParams, query: Joi.object({ files: Joi.string().valid('keep', 'remove').default('keep'), confirm: Joi.string().max(200) }),
      handle: async ({ params, query, who }) => {
        const namespace = await getNamespace(database, params.namespace!);
        const relations = await listRelations(database, namespace.name);
        if (relations.length > 0 && query.confirm !== namespace.name) throw new LakeError('conflict', `${namespace.name} holds ${relations.length} tables and views. Confirm with its name; nothing was changed.`);
        let files = 0;
        for (const relation of relations) {
          await dropRelation(database, relation, who);
          if (query.files !== 'remove' || !relation.managed || relation.location === null) continue;
          const storage = lake.storageOf(relation);
          const own = await storage.store.list(relation.location);
          await removeUnder(storage, [relation.location], own);
          files += own.length;
        }
        await deleteNamespace(database, namespace, who);
        events.tell({ topic: 'catalog' });
        return { namespace: namespace.name, relations: relations.map(nameOf), files };
      },
    },
    {
      method: 'get', path: '/catalog/{namespace}/{table}/profile', summary: 'What the columns of a table are like: the last profile, else what metadata tells', answer: 'Rows, and for each column nulls, bounds and more',
      params: tableParams,
      handle: async ({ params }) => {
        const { relation, snapshot } = await snapshotOf(params);
        const [kept] = await database.query<{ result: TableProfile }>('SELECT result FROM profile WHERE relation_id = $1', [relation.id]);
        return { ...(kept?.result ?? (await profileFromMetadata(snapshot))), latestVersion: snapshot.version };
      },
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/profile', right: 'read', summary: 'Profile a table, from a sample or from all rows', answer: 'Rows, and for each column nulls, distinct values, bounds, mean, quantiles, frequent values and a histogram',
      params: tableParams, body: Joi.object({ sample: Joi.boolean().default(true), columns: Joi.array().items(Joi.string().max(500)).max(500) }),
      handle: async ({ params, body, as }) => {
        const { relation, snapshot } = await snapshotOf(params);
        const profile = await profileByQuery(queries, { namespace: relation.namespace, table: relation.name }, snapshot, { sample: body.sample as boolean, as, ...(body.columns ? { columns: body.columns as string[] } : {}) });
        if (!body.columns) await database.query('INSERT INTO profile (relation_id, result) VALUES ($1, $2) ON CONFLICT (relation_id) DO UPDATE SET result = EXCLUDED.result', [relation.id, JSON.stringify(profile)]);
        return { ...profile, latestVersion: snapshot.version };
      },
    },
    { method: 'get', path: '/catalog-document', summary: "The catalog's own knowledge as one JSON document", answer: 'The document', handle: () => exportCatalog(database, new Date().toISOString()) },
    {
      method: 'post', path: '/catalog-document', summary: 'Take a catalog document in: what is missing is registered, what people know is brought up to it', answer: 'What was created, updated, and left with the reason',
      body: Joi.object({ document: Joi.any().required() }).unknown(true),
      handle: async ({ body, who }) => {
        const imported = await importCatalog(database, body, who);
        events.tell({ topic: 'catalog' });
        return imported;
      },
    },
    {
      method: 'get', path: '/catalog-document/schema', right: 'asked-inside', summary: 'The JSON Schema of a catalog document', answer: 'JSON Schema, draft 2020-12',
      handle: async () => (documentSchema as unknown as { '~standard': { jsonSchema: { input(options: { target: string }): object } } })['~standard'].jsonSchema.input({ target: 'draft-2020-12' }),
    },
  ];
}
