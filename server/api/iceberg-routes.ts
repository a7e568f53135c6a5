/** Iceberg tables beyond reading: columns, partitioning, properties, branches and tags, upkeep. */
import Joi from 'joi';
import { LakeError } from '../../core/errors';
import { expireSnapshots, planExpiry, planOrphans, removeOrphans } from '../../core/iceberg/expire';
import { currentSnapshot, lineTo, refsOf, snapshotById, versionOf, type TableMetadata } from '../../core/iceberg/metadata';
import { addColumns, changePartitioning, changeSchema, changeSortOrder, setProperties, upgrade } from '../../core/iceberg/operations';
import { checkProperty, PROPERTIES } from '../../core/iceberg/properties';
import { cherryPick, dropRef, fastForward, rollBack, setRef, type RefRequest } from '../../core/iceberg/refs';
import { rewriteManifests } from '../../core/iceberg/rewrite';
import { parseSchema } from '../../core/iceberg/schema';
import { withChangedColumn, withMovedColumn, withoutColumn, withRenamedColumn, withWidenedColumn } from '../../core/iceberg/schema-edit';
import { IcebergTable } from '../../core/iceberg/table';
import { field, findField } from '../../core/schema/types';
import { parseTypeName } from '../../core/schema/type-names';
import { getRelation, type Relation } from '../catalog/relations';
import type { Inputs, Route } from '../http/routes';
import { randomIds, systemClock } from '../lake/lake';
import { writeWithReceipt } from '../lake/writes';
import type { Services } from '../services';
import { name } from './schemas';

const FILES_SHOWN = 200;
const HOUR = 3_600_000;
const MANIFEST_BYTES = 8 * 1024 * 1024;

export function icebergRoutes(services: Services): Route[] {
  const { database, lake, events, icebergUpkeep } = services;
  const tableParams = Joi.object({ namespace: name.required(), table: name.required() });
  const column = Joi.string().min(1).max(500);
  const refName = Joi.string().trim().min(1).max(200);
  const snapshotId = Joi.string().pattern(/^\d{1,19}$/, 'a snapshot id');
  const opened = async ({ params }: Inputs): Promise<{ relation: Relation; table: IcebergTable; fullName: string }> => {
    const relation = await getRelation(database, params.namespace!, params.table!);
    const fullName = `${relation.namespace}.${relation.name}`;
    const table = relation.kind === 'table' ? lake.table(relation) : undefined;
    if (!(table instanceof IcebergTable)) throw new LakeError('unsupported', `${fullName} is not an Iceberg table.`, { table: fullName });
    return { relation, table, fullName };
  };
  const ports = (who: string) => ({ clock: systemClock, ids: randomIds, who });
  /** One commit, with a receipt; pages are told. */
  const written = async (input: Inputs, words: (fullName: string) => string, write: (table: IcebergTable) => Promise<TableMetadata>) => {
    const { relation, table, fullName } = await opened(input);
    const result = await writeWithReceipt(services, input.who, words(fullName), relation, async () => {
      const metadata = await write(table);
      const current = currentSnapshot(metadata);
      return current ? versionOf(metadata, current) : 0;
    });
    events.tell({ topic: 'table', name: fullName });
    return result;
  };
  return [
    {
      method: 'get', path: '/catalog/{namespace}/{table}/iceberg', summary: 'Format version, properties, branches and tags, partitionings and sort orders of an Iceberg table', answer: 'Each with its meaning',
      params: tableParams,
      handle: async (input) => factsOf(await opened(input)),
    },
    {
      method: 'put', path: '/catalog/{namespace}/{table}/iceberg/properties', summary: 'Set properties of an Iceberg table, or take them away with null', answer: 'The version and the receipt of the write',
      params: tableParams, body: Joi.object({ properties: Joi.object().pattern(Joi.string().max(200), Joi.string().allow(null).max(4000)).min(1).required() }),
      handle: (input) => {
        const properties = input.body.properties as Record<string, string | null>;
        return written(input, (of) => `SET PROPERTIES OF ${of} ${JSON.stringify(properties)}`, (table) => {
          for (const [key, value] of Object.entries(properties)) if (value !== null) checkProperty(key, value, table.name);
          return setProperties(table, properties, ports(input.who));
        });
      },
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/iceberg/columns', summary: 'Add, rename, drop, move or widen a column of an Iceberg table, make it optional, or describe it; no file is rewritten', answer: 'The version and the receipt of the write',
      params: tableParams,
      body: Joi.object({
        add: Joi.object({ name: column.required(), type: Joi.string().max(2000).required(), comment: Joi.string().max(2000), within: column }), rename: Joi.object({ from: column.required(), to: column.required() }), drop: column,
        move: Joi.object({ name: column.required(), after: column.allow(null).required() }), widen: Joi.object({ name: column.required(), type: Joi.string().max(200).required() }), optional: column, describe: Joi.object({ name: column.required(), comment: Joi.string().allow(null).max(2000).required() }),
      }).length(1),
      handle: (input) => {
        const body = input.body as { add?: { name: string; type: string; comment?: string; within?: string }; rename?: { from: string; to: string }; drop?: string; move?: { name: string; after: string | null }; widen?: { name: string; type: string }; optional?: string; describe?: { name: string; comment: string | null } };
        const edit = (words: (of: string) => string, change: (metadata: TableMetadata, of: string) => ReturnType<typeof withoutColumn>) => written(input, words, (table) => changeSchema(table, (metadata) => change(metadata, table.name), ports(input.who)));
        const { add, rename, drop, move, widen, optional, describe } = body;
        if (add) return written(input, (of) => `ADD COLUMN ${add.name} ${add.type} TO ${of}`, (table) => addColumns(table, [field(add.name, parseTypeName(add.type), add.comment === undefined ? {} : { comment: add.comment })], ports(input.who), add.within));
        if (rename) return edit((of) => `RENAME COLUMN ${rename.from} OF ${of} TO ${rename.to}`, (metadata, of) => withRenamedColumn(metadata, of, rename.from, rename.to));
        if (drop !== undefined) return edit((of) => `DROP COLUMN ${drop} OF ${of}`, (metadata, of) => withoutColumn(metadata, of, drop));
        if (move) return edit((of) => `MOVE COLUMN ${move.name} OF ${of} ${move.after === null ? 'FIRST' : `AFTER ${move.after}`}`, (metadata, of) => withMovedColumn(metadata, of, move.name, move.after));
        if (widen) return edit((of) => `WIDEN COLUMN ${widen.name} OF ${of} TO ${widen.type}`, (metadata, of) => withWidenedColumn(metadata, of, widen.name, parseTypeName(widen.type)));
        if (optional !== undefined) return edit((of) => `MAKE COLUMN ${optional} OF ${of} OPTIONAL`, (metadata, of) => withChangedColumn(metadata, of, optional, { optional: true }));
        return edit((of) => `DESCRIBE COLUMN ${describe!.name} OF ${of}`, (metadata, of) => withChangedColumn(metadata, of, describe!.name, { comment: describe!.comment }));
      },
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/iceberg/partitioning', summary: 'Add and take away partition fields; files that are there keep their partitioning', answer: 'The version and the receipt of the write',
      params: tableParams,
      body: Joi.object({ add: Joi.array().items(Joi.object({ source: column.required(), transform: Joi.string().max(40).required(), name: column })).max(20), remove: Joi.array().items(column).max(20) }).or('add', 'remove'),
      handle: (input) => written(input, (of) => `PARTITION ${of} ${JSON.stringify(input.body)}`, (table) => changePartitioning(table, input.body as Parameters<typeof changePartitioning>[1], ports(input.who))),
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/iceberg/sort-order', summary: 'Set the order of rows in files that are written from now on', answer: 'The version and the receipt of the write',
      params: tableParams, body: Joi.object({ by: Joi.array().items(Joi.object({ column: column.required(), descending: Joi.boolean(), nullsLast: Joi.boolean() })).max(20).required() }),
      handle: (input) => written(input, (of) => `SORT ${of} ${JSON.stringify(input.body.by)}`, (table) => changeSortOrder(table, input.body.by as Parameters<typeof changeSortOrder>[1], ports(input.who))),
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/iceberg/upgrade', summary: 'Raise the format version; no file is rewritten, and there is no way back', answer: 'The version and the receipt of the write',
      params: tableParams, body: Joi.object({ formatVersion: Joi.number().valid(2, 3).required() }),
      handle: (input) => written(input, (of) => `UPGRADE ${of} TO FORMAT VERSION ${input.body.formatVersion as number}`, (table) => upgrade(table, input.body.formatVersion as number, ports(input.who))),
    },
    {
      method: 'put', path: '/catalog/{namespace}/{table}/iceberg/refs', right: 'write', summary: 'Make a branch or tag, or set what it names and how long it is kept', answer: 'The version and the receipt of the write',
      params: tableParams,
      body: Joi.object({ name: refName.required(), type: Joi.string().valid('branch', 'tag').required(), snapshotId, minSnapshotsToKeep: Joi.number().integer().positive(), maxSnapshotAgeMs: Joi.number().integer().positive(), maxRefAgeMs: Joi.number().integer().positive() }),
      handle: (input) => {
        const { snapshotId: id, ...rest } = input.body as Omit<RefRequest, 'snapshotId'> & { snapshotId?: string };
        return written(input, (of) => `SET ${rest.type.toUpperCase()} ${rest.name} OF ${of}${id ? ` TO SNAPSHOT ${id}` : ''}`, (table) => setRef(table, { ...rest, ...(id === undefined ? {} : { snapshotId: BigInt(id) }) }, ports(input.who)));
      },
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/iceberg/refs', right: 'write', summary: 'Drop a branch or tag, move a branch on to another, roll the table back, or take over a snapshot of another branch', answer: 'The version and the receipt of the write',
      params: tableParams,
      body: Joi.object({ drop: refName, forward: Joi.object({ branch: refName.required(), to: refName.required() }), rollBack: Joi.object({ snapshotId: snapshotId.required(), branch: refName.default('main') }), pick: snapshotId }).length(1),
      handle: (input) => {
        const { drop, forward, rollBack: back, pick } = input.body as { drop?: string; forward?: { branch: string; to: string }; rollBack?: { snapshotId: string; branch: string }; pick?: string };
        if (drop !== undefined) return written(input, (of) => `DROP BRANCH OR TAG ${drop} OF ${of}`, (table) => dropRef(table, drop, ports(input.who)));
        if (forward) return written(input, (of) => `FORWARD ${forward.branch} OF ${of} TO ${forward.to}`, (table) => fastForward(table, forward.branch, forward.to, ports(input.who)));
        if (back) return written(input, (of) => `ROLL ${back.branch} OF ${of} BACK TO SNAPSHOT ${back.snapshotId}`, (table) => rollBack(table, BigInt(back.snapshotId), ports(input.who), back.branch));
        return written(input, (of) => `PICK SNAPSHOT ${pick!} INTO ${of}`, async (table) => {
          await cherryPick(table, BigInt(pick!), ports(input.who));
          return (await table.current()).metadata;
        });
      },
    },
    {
      method: 'get', path: '/catalog/{namespace}/{table}/iceberg/upkeep', summary: 'What upkeep of an Iceberg table would do', answer: 'Files and manifests that would be put together, snapshots that could go with their files, and files that nothing names',
      params: tableParams, query: Joi.object({ olderThanHours: Joi.number().min(0).max(24 * 3650), keepLast: Joi.number().integer().min(1).max(10_000), orphanHours: Joi.number().min(1).max(24 * 3650) }),
      handle: async (input) => {
        const { table } = await opened(input);
        const now = Date.now();
        const [groups, deleted, expiry, orphans, manifests] = await Promise.all([
          icebergUpkeep.plan(table, {}), icebergUpkeep.plan(table, { onlyDeletes: true }), planExpiry(table, wishOf(input.query, now)), planOrphans(table, now, hours(input.query.orphanHours)), rewriteManifests(table, MANIFEST_BYTES, ports(input.who), false),
        ]);
        const countOf = (all: typeof groups) => ({ groups: all.length, files: all.reduce((sum, group) => sum + group.files.length, 0), bytes: all.reduce((sum, group) => sum + group.bytes, 0) });
        return {
          rewrite: countOf(groups), deletes: countOf(deleted), manifests: { before: manifests.before, after: manifests.after },
          expiry: { snapshots: expiry.snapshots.map((each) => ({ ...each, id: String(each.id) })), refs: expiry.refs, kept: expiry.kept, files: expiry.files.length, bytes: expiry.bytes, paths: expiry.files.slice(0, FILES_SHOWN) },
          orphans: { files: orphans.files.length, bytes: orphans.bytes, young: orphans.young, paths: orphans.files.slice(0, FILES_SHOWN) },
        };
      },
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/iceberg/upkeep', right: 'write', summary: 'Upkeep of an Iceberg table', answer: 'What was done',
      params: tableParams,
      body: Joi.object({
        do: Joi.string().valid('rewrite', 'apply-deletes', 'rewrite-manifests', 'expire', 'remove-orphans').required(),
        layout: Joi.object({ kind: Joi.string().valid('sort', 'z-order').required(), columns: Joi.array().items(column).min(1).max(6).required() }),
        targetBytes: Joi.number().integer().min(1_000_000).max(10e9), branch: refName, olderThanHours: Joi.number().min(0).max(24 * 3650), keepLast: Joi.number().integer().min(1).max(10_000), orphanHours: Joi.number().min(1).max(24 * 3650),
      }),
      handle: async (input) => {
        const { relation, table, fullName } = await opened(input);
        const body = input.body as { do: string; layout?: { kind: 'sort' | 'z-order'; columns: string[] }; targetBytes?: number; branch?: string; orphanHours?: number };
        const rewrite = (onlyDeletes: boolean) => icebergUpkeep.rewrite(table, lake.storageOf(relation), { onlyDeletes, ...(body.layout ? { layout: body.layout } : {}), ...(body.targetBytes ? { targetBytes: body.targetBytes } : {}), ...(body.branch ? { branch: body.branch } : {}) }, input.who);
        const done = await (async () => {
          switch (body.do) {
            case 'rewrite':
              return rewrite(false);
            case 'apply-deletes':
              return rewrite(true);
            case 'rewrite-manifests': {
              const { before, after } = await rewriteManifests(table, MANIFEST_BYTES, ports(input.who), true);
              return { before, after };
            }
            case 'expire': {
              const plan = await expireSnapshots(table, wishOf(input.body, Date.now()), ports(input.who));
              return { snapshots: plan.snapshots.length, refs: plan.refs, files: plan.files.length, bytes: plan.bytes, kept: plan.kept };
            }
            default: {
              const plan = await planOrphans(table, Date.now(), hours(body.orphanHours));
              await removeOrphans(table, plan);
              return { files: plan.files.length, bytes: plan.bytes };
            }
          }
        })();
        events.tell({ topic: 'table', name: fullName });
        return done;
      },
    },
  ];
}

function hours(given: unknown): number | undefined {
  return given === undefined ? undefined : Number(given) * HOUR;
}

function wishOf({ olderThanHours, keepLast }: Record<string, unknown>, now: number) {
  return { now, ...(olderThanHours === undefined ? {} : { olderThanMs: Number(olderThanHours) * HOUR }), ...(keepLast === undefined ? {} : { keepLast: Number(keepLast) }) };
}

async function factsOf({ table, relation }: { table: IcebergTable; relation: Relation }) {
  const { metadata, path } = await table.current();
  const properties = metadata.properties ?? {};
  const { fields } = parseSchema(metadata.schemas.find((each) => (each['schema-id'] ?? 0) === metadata['current-schema-id'])!, table.name);
  const nameOf = (id: number) => fields.find((each) => each.id === id)?.name ?? `column ${id}`;
  const main = refsOf(metadata).main?.['snapshot-id'];
  const line = new Set(lineTo(metadata, snapshotById(metadata, main)).map((each) => String(each['snapshot-id'])));
  return {
    formatVersion: metadata['format-version'], uuid: metadata['table-uuid'], location: metadata.location, metadataFile: path, ownedBy: relation.definition.kind === 'lake' ? relation.definition.pointer : 'files', snapshots: metadata.snapshots?.length ?? 0,
    properties: [
      ...Object.entries(PROPERTIES).map(([property, meaning]) => ({ name: property, value: properties[property] ?? null, ...meaning })),
      ...Object.entries(properties).filter(([property]) => !(property in PROPERTIES)).map(([property, value]) => ({ name: property, value, means: '', standard: '', form: 'text' })),
    ],
    refs: Object.entries(refsOf(metadata)).map(([ref, each]) => {
      const snapshot = snapshotById(metadata, each['snapshot-id']);
      return {
        name: ref, type: each.type, snapshotId: String(each['snapshot-id']), version: snapshot ? versionOf(metadata, snapshot) : null, at: snapshot?.['timestamp-ms'] ?? null, isOnMain: line.has(String(each['snapshot-id'])),
        minSnapshotsToKeep: each['min-snapshots-to-keep'] ?? null, maxSnapshotAgeMs: each['max-snapshot-age-ms'] ?? null, maxRefAgeMs: each['max-ref-age-ms'] ?? null,
      };
    }),
    partitionings: metadata['partition-specs'].map((spec) => ({ id: spec['spec-id'], isCurrent: spec['spec-id'] === metadata['default-spec-id'], fields: spec.fields.map((each) => ({ name: each.name, transform: each.transform, source: nameOf(each['source-id']) })) })),
    sortOrder: (metadata['sort-orders'].find((each) => each['order-id'] === metadata['default-sort-order-id'])?.fields ?? []).map((each) => ({ column: nameOf(each['source-id']), direction: each.direction })),
    key: (metadata.schemas.find((each) => (each['schema-id'] ?? 0) === metadata['current-schema-id'])?.['identifier-field-ids'] ?? []).map(nameOf).filter((each) => findField(fields, each)),
  };
}
