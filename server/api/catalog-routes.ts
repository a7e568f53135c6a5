import Joi from 'joi';
import { mayDo, maySeeNamespace } from '../access/access';
import { DeltaTable } from '../../core/delta/table';
import { restore } from '../../core/delta/operations';
import { LakeError } from '../../core/errors';
import { rollBack } from '../../core/iceberg/refs';
import { IcebergTable } from '../../core/iceberg/table';
import { LATEST, type AsOf } from '../../core/table/contract';
import { parseTimestamp } from '../../core/values/text';
import { annotateRelation, dropRelation, getRelation, listNamespaces, nameOf, type Knowledge, type Relation } from '../catalog/relations';
import { listDropped } from '../catalog/dropped';
import { dropToTrash, undrop } from '../define/trash';
import { readersOf } from '../query/readers';
import { compareRevisions, listRevisions } from '../catalog/revisions';
import type { Inputs, Route } from '../http/routes';
import { removeUnder, teardownOf } from '../lake/account';
import { describeSnapshot } from '../lake/describe';
import { randomIds, systemClock } from '../lake/lake';
import { writeWithReceipt } from '../lake/writes';
import type { Services } from '../services';
import { isoTime, name, version } from './schemas';

export function catalogRoutes(services: Services): Route[] {
  const { database, lake, events, queries } = services;
  const tableParams = Joi.object({ namespace: name.required(), table: name.required() });
  const text = Joi.string().trim().allow('').max(2000);
  const tags = Joi.array().items(Joi.string().trim().min(1).max(60)).max(50).unique();
  const relationOf = ({ params }: Inputs) => getRelation(database, params.namespace!, params.table!);
  return [
    {
      method: 'get', path: '/catalog', right: 'asked-inside', summary: 'Namespaces, tables and views', answer: 'All names; details by table',
      handle: async ({ as }) => {
        const [namespaces, relations] = await Promise.all([listNamespaces(database), services.names.all()]);
        return { namespaces: namespaces.filter((each) => maySeeNamespace(as, each.name)), relations: relations.filter((each) => mayDo(as, 'see', each)).map((each) => ({ ...each, viewSql: mayDo(as, 'read', each) ? each.viewSql : null })) };
      },
    },
    {
      method: 'get', path: '/catalog/{namespace}/{table}', right: 'see', summary: 'A table or view as it is, or was at a version or time', answer: 'Columns, size, layout, place, and the version that was meant',
      params: tableParams, query: Joi.object({ version, at: isoTime }).oxor('version', 'at'),
      handle: async (input) => {
        const relation = await relationOf(input);
        const base = { namespace: relation.namespace, name: relation.name, kind: relation.kind, format: relation.format, storage: relation.storage, location: relation.location, managed: relation.managed, description: relation.description, owner: relation.owner, tags: relation.tags, ownProperties: relation.properties, vouched: relation.vouched, notes: relation.notes };
        if (relation.definition.kind === 'view') return { ...base, viewSql: mayDo(input.as, 'read', relation) ? relation.definition.sql : null, viewColumns: relation.columns ?? [], ...(relation.definition.foreign ? { viewDialect: relation.definition.foreign } : {}) };
        const table = lake.table(relation);
        const asOf = asOfFrom(input.query);
        const snapshot = await table.snapshot(asOf);
        if (asOf.kind === 'latest') await services.columns.seen(relation, snapshot);
        const latest = asOf.kind === 'latest' ? snapshot : await table.snapshot(LATEST);
        return { ...base, ...(await describeSnapshot(snapshot)), latestVersion: latest.version, past: latest.version !== snapshot.version };
      },
    },
    {
      method: 'get', path: '/catalog/{namespace}/{table}/history', right: 'see', summary: 'The versions of a table', answer: 'Timeline entries, oldest first; of very long logs the newest',
      params: tableParams, query: Joi.object({ most: Joi.number().integer().min(1).max(100_000).default(3000) }),
      handle: async (input) => ({ entries: await lake.table(await relationOf(input)).history(input.query.most as number) }),
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/restore', right: 'write', summary: 'Make a Delta or Iceberg table read as it did at an earlier version', answer: 'The new version and the receipt of the write',
      params: tableParams, body: Joi.object({ version: version.required() }),
      handle: async (input) => {
        const relation = await relationOf(input);
        const table = relation.kind === 'table' ? lake.table(relation) : undefined;
        const fullName = `${relation.namespace}.${relation.name}`;
        const asked = BigInt(input.body.version as string);
        if (table instanceof IcebergTable) return restoreIceberg(services, input.who, relation, table, asked);
        if (!(table instanceof DeltaTable)) throw new LakeError('unsupported', `${fullName} is neither a Delta nor an Iceberg table; only those can be restored.`, { table: fullName });
        const result = await writeWithReceipt(services, input.who, `RESTORE ${fullName} TO VERSION ${asked}`, relation, async () =>
          restore(table, { kind: 'number', number: asked }, { clock: systemClock, ids: randomIds, who: input.who }));
        await services.upkeep.afterCommit(table, lake.storageOf(relation));
        events.tell({ topic: 'table', name: fullName });
        return result;
      },
    },
    {
      method: 'get', path: '/catalog/{namespace}/{table}/readers', right: 'see', summary: 'Views that read a table or view, directly or by way of others', answer: 'Full names',
      params: tableParams,
      handle: async (input) => ({ views: await readersOf(database, queries.statements, await relationOf(input), input.as) }),
    },
    {
      method: 'patch', path: '/catalog/{namespace}/{table}', right: 'write', summary: 'What people know of a table or view and its columns: description, owner, tags, properties, who vouches for it', answer: 'All of it, as it is now',
      params: tableParams,
      body: Joi.object({
        description: text, owner: Joi.string().trim().allow('').max(200), tags, properties: Joi.object().pattern(Joi.string().max(200), Joi.string().allow('').max(4000)).max(200),
        vouched: Joi.object({ why: Joi.string().trim().min(1).max(1000).required(), until: Joi.date().iso().greater('now').required() }).allow(null),
        notes: Joi.object().pattern(Joi.string().max(500), Joi.object({ description: text.default(''), tags: tags.default([]) }).allow(null)).max(5000),
      }).min(1),
      handle: async (input) => {
        const relation = await relationOf(input);
        const { vouched, ...rest } = input.body as Knowledge & { vouched?: { why: string; until: Date } | null };
        const unknown = relation.columns && Object.keys(rest.notes ?? {}).find((name) => !relation.columns!.some((column) => column.name === name));
        if (unknown) throw new LakeError('bad-request', `${nameOf(relation)} has no column "${unknown}".`, { table: nameOf(relation) });
        await annotateRelation(database, relation, { ...rest, ...(vouched === undefined ? {} : { vouched: vouched && { who: input.who, why: vouched.why, since: new Date().toISOString(), until: vouched.until.toISOString() } }) }, input.who);
        events.tell({ topic: 'catalog' });
        const { description, owner, tags: now, properties, vouched: vouchedNow, notes } = await relationOf(input);
        return { description, owner, tags: now, properties, vouched: vouchedNow, notes };
      },
    },
    {
      method: 'get', path: '/catalog/{namespace}/{table}/teardown', right: 'see', summary: 'What taking a table or view down would remove, leave and break', answer: 'Files, bytes and versions in its folder, and the views that read it',
      params: tableParams,
      handle: async (input) => teardownOf(database, lake, queries.statements, await relationOf(input), input.as),
    },
    {
      method: 'delete', path: '/catalog/{namespace}/{table}', summary: 'Take a table or view out of the catalog; the files of a managed table wait in the trash, those of an external one stay', answer: 'What was taken out, the files and bytes that went, and until when they can come back',
      params: tableParams, query: Joi.object({ files: Joi.string().valid('keep', 'trash', 'remove'), confirm: Joi.string().max(500) }),
      handle: async (input) => {
        const relation = await relationOf(input);
        const fullName = `${relation.namespace}.${relation.name}`;
        const files = relation.kind === 'view' ? 'keep' : (input.query.files ?? (relation.managed ? 'trash' : 'keep'));
        if (files === 'trash') {
          if (!relation.managed) throw new LakeError('bad-request', `${fullName} is external, so its files are not put in the trash; they stay or are removed.`, { table: fullName });
          const { files: count, bytes, keepUntil } = await dropToTrash(services, relation, input.as);
          return { unregistered: fullName, files: count, bytes, keepUntil: keepUntil.toISOString() };
        }
        if (files === 'keep') {
          await dropRelation(database, relation, input.who);
          events.tell({ topic: 'catalog' });
          return { unregistered: fullName, files: 0, bytes: 0 };
        }
        if (input.query.confirm !== fullName) throw new LakeError('conflict', `Taking ${fullName} down removes its files. Confirm with its full name; nothing was changed.`, { table: fullName });
        const { inside } = await teardownOf(database, lake, queries.statements, relation, input.as);
        if (inside.length > 0) throw new LakeError('conflict', `${inside.join(', ')} ${inside.length === 1 ? 'lies' : 'lie'} in the folder of ${fullName}. Nothing was changed.`, { table: fullName });
        const storage = lake.storageOf(relation);
        const own = await storage.store.list(relation.location!);
        await dropRelation(database, relation, input.who);
        await removeUnder(storage, [relation.location!], own);
        events.tell({ topic: 'catalog' });
        return { unregistered: fullName, files: own.length, bytes: own.reduce((sum, file) => sum + file.bytes, 0) };
      },
    },
    {
      method: 'get', path: '/dropped', right: 'asked-inside', summary: 'Managed tables that were dropped and can come back', answer: 'Each with its files and until when they are kept, newest first',
      handle: async ({ as }) => (await listDropped(database)).filter((each) => mayDo(as, 'manage', each)),
    },
    {
      method: 'post', path: '/dropped/{namespace}/{table}', summary: 'Bring a dropped table back, with all its versions and what was known of it', answer: 'Where it is',
      params: tableParams,
      handle: ({ params, who }) => undrop(services, { namespace: params.namespace!, name: params.table! }, who),
    },
    {
      method: 'get', path: '/revisions', summary: 'Changes of the catalog', answer: 'Numbered revisions, newest first',
      query: Joi.object({ limit: Joi.number().integer().min(1).max(1000).default(100), subject: Joi.string().max(500) }),
      handle: ({ query }) => listRevisions(database, query.limit as number, query.subject as string | undefined),
    },
    {
      method: 'get', path: '/revisions/compare', summary: 'Tables and columns that came, went, changed or look renamed between two revisions', answer: 'Tables and columns with their changes',
      query: Joi.object({ from: Joi.number().integer().min(0).required(), to: Joi.number().integer().min(0).required() }),
      handle: ({ query }) => compareRevisions(database, query.from as number, query.to as number),
    },
  ];
}

/** The earlier snapshot becomes the current one again; the later ones stay until they expire. */
async function restoreIceberg(services: Services, who: string, relation: Relation, table: IcebergTable, version: bigint) {
  const result = await writeWithReceipt(services, who, `RESTORE ${nameOf(relation)} TO VERSION ${version}`, relation, async () => {
    const { snapshotId, version: restored } = await table.snapshot({ kind: 'number', number: version });
    await rollBack(table, BigInt(snapshotId!), { clock: systemClock, ids: randomIds, who });
    return restored;
  });
  services.events.tell({ topic: 'table', name: nameOf(relation) });
  return result;
}

function asOfFrom(query: Record<string, unknown>): AsOf {
  if (query.version !== undefined) return { kind: 'number', number: BigInt(query.version as string) };
  if (query.at === undefined) return LATEST;
  const micros = parseTimestamp(query.at as string);
  if (micros === undefined) throw new LakeError('bad-request', `"${String(query.at)}" is not a time; write it as 2026-03-14T06:00Z.`);
  return { kind: 'time', at: Number(micros / 1000n) };
}
