/** Delta tables beyond reading: protocol and properties, columns renamed and dropped, upkeep; and folders that are not registered. */
import Joi from 'joi';
import { adoptFolder, dropColumn, latestState, renameColumn, setProperties, shallowCopy } from '../../core/delta/operations';
import { PROPERTIES } from '../../core/delta/properties';
import { FEATURES, readerFeatures, writerFeatures } from '../../core/delta/protocol';
import { rulesOf } from '../../core/delta/rules';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { adoptFolder as adoptAsIceberg } from '../../core/iceberg/operations';
import { normalPath } from '../../core/storage/paths';
import { LATEST } from '../../core/table/contract';
import { getNamespace, getRelation, type Relation } from '../catalog/relations';
import type { Inputs, Route } from '../http/routes';
import { checkPlaceForNew } from '../lake/belonging';
import { describeSnapshot } from '../lake/describe';
import { randomIds, systemClock } from '../lake/lake';
import { writeWithReceipt } from '../lake/writes';
import type { Services } from '../services';
import { name } from './schemas';

const HISTORY_SHOWN = 200;
const HOUR = 3_600_000;

export function deltaRoutes(services: Services): Route[] {
  const { database, lake, events, upkeep, files } = services;
  const tableParams = Joi.object({ namespace: name.required(), table: name.required() });
  const column = Joi.string().min(1).max(500);
  const opened = async ({ params }: Inputs): Promise<{ relation: Relation; table: DeltaTable; fullName: string }> => {
    const relation = await getRelation(database, params.namespace!, params.table!);
    const fullName = `${relation.namespace}.${relation.name}`;
    const table = relation.kind === 'table' ? lake.table(relation) : undefined;
    if (!(table instanceof DeltaTable)) throw new LakeError('unsupported', `${fullName} is not a Delta table.`, { table: fullName });
    return { relation, table, fullName };
  };
  const ports = (who: string) => ({ clock: systemClock, ids: randomIds, who });
  /** One version, with a receipt; pages are told. */
  const written = async (input: Inputs, words: (fullName: string) => string, write: (table: DeltaTable) => Promise<number>) => {
    const { relation, table, fullName } = await opened(input);
    const result = await writeWithReceipt(services, input.who, words(fullName), relation, () => write(table));
    await upkeep.afterCommit(table, lake.storageOf(relation));
    events.tell({ topic: 'table', name: fullName });
    return result;
  };
  return [
    {
      method: 'get', path: '/catalog/{namespace}/{table}/delta', summary: 'Protocol, features, properties and rules of a Delta table', answer: 'Each with its meaning',
      params: tableParams,
      handle: async (input) => protocolOf((await opened(input)).table),
    },
    {
      method: 'put', path: '/catalog/{namespace}/{table}/delta/properties', summary: 'Set properties of a Delta table, or take them away with null', answer: 'The new version and the receipt of the write',
      params: tableParams, body: Joi.object({ properties: Joi.object().pattern(Joi.string().max(200), Joi.string().allow(null).max(2000)).min(1).required() }),
      handle: (input) => {
        const properties = input.body.properties as Record<string, string | null>;
        return written(input, (of) => `SET PROPERTIES OF ${of} ${JSON.stringify(properties)}`, (table) => setProperties(table, properties, ports(input.who)));
      },
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/delta/columns', summary: 'Rename or drop a column of a Delta table without rewriting files', answer: 'The new version and the receipt of the write',
      params: tableParams, body: Joi.object({ rename: Joi.object({ from: column.required(), to: column.required() }), drop: column }).xor('rename', 'drop'),
      handle: (input) => {
        const { rename, drop } = input.body as { rename?: { from: string; to: string }; drop?: string };
        return rename
          ? written(input, (of) => `RENAME COLUMN ${rename.from} OF ${of} TO ${rename.to}`, (table) => renameColumn(table, rename.from, rename.to, ports(input.who)))
          : written(input, (of) => `DROP COLUMN ${drop!} OF ${of}`, (table) => dropColumn(table, drop!, ports(input.who)));
      },
    },
    {
      method: 'get', path: '/catalog/{namespace}/{table}/delta/upkeep', summary: 'What upkeep of a Delta table would do', answer: 'Files that would be put together, files that could go, log entries that could go',
      params: tableParams, query: Joi.object({ retentionHours: Joi.number().min(0).max(24 * 3650) }),
      handle: async (input) => {
        const { table } = await opened(input);
        const retention = input.query.retentionHours === undefined ? undefined : Number(input.query.retentionHours) * HOUR;
        const [groups, clearing, log, listing] = await Promise.all([upkeep.planCompaction(table, {}), upkeep.planVacuum(table, retention), upkeep.expireLog(table, false), table.log()]);
        return {
          compaction: { groups: groups.length, files: groups.reduce((sum, group) => sum + group.keys.length, 0), bytes: groups.reduce((sum, group) => sum + group.bytes, 0) },
          clearing: { ...clearing, files: clearing.files.length, paths: clearing.files.slice(0, HISTORY_SHOWN).map(({ path, bytes }) => ({ path, bytes })) },
          log: { ...log, commits: listing.commits.size, lastCheckpoint: Math.max(-1, ...listing.checkpoints.keys()) },
        };
      },
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/delta/upkeep', right: 'write', summary: 'Upkeep of a Delta table', answer: 'What was done',
      params: tableParams,
      body: Joi.object({
        do: Joi.string().valid('compact', 'clear-files', 'clear-log', 'checkpoint', 'repair-log').required(), closeGaps: Joi.boolean().default(false),
        layout: Joi.object({ kind: Joi.string().valid('sort', 'z-order').required(), columns: Joi.array().items(column).min(1).max(6).required() }),
        targetBytes: Joi.number().integer().min(1_000_000).max(10e9), retentionHours: Joi.number().min(0).max(24 * 3650), breakVersions: Joi.boolean().default(false),
      }),
      handle: async (input) => {
        const { relation, table, fullName } = await opened(input);
        const storage = lake.storageOf(relation);
        const body = input.body as { do: string; layout?: { kind: 'sort' | 'z-order'; columns: string[] }; targetBytes?: number; retentionHours?: number; breakVersions: boolean; closeGaps: boolean };
        const done = await (async () => {
          switch (body.do) {
            case 'compact':
              return upkeep.compact(table, storage, { ...(body.layout ? { layout: body.layout } : {}), ...(body.targetBytes ? { targetBytes: body.targetBytes } : {}) }, input.who);
            case 'clear-files': {
              const { files: gone, ...plan } = await upkeep.vacuum(table, body.retentionHours === undefined ? undefined : body.retentionHours * HOUR, { toBreak: body.breakVersions });
              return { ...plan, files: gone.length };
            }
            case 'clear-log':
              return upkeep.expireLog(table, true);
            case 'repair-log':
              return upkeep.repairLog(table, storage, { closeGaps: body.closeGaps }, input.who);
            default:
              return upkeep.checkpoint(table, storage);
          }
        })();
        events.tell({ topic: 'table', name: fullName });
        return done;
      },
    },
    {
      method: 'get', path: '/catalog/{namespace}/{table}/delta/log-check', summary: 'Hold the log of a Delta table against itself: checkpoints and checksums against the commits', answer: 'Which versions are whole, which are missing, which checkpoints lack live files or name removed ones',
      params: tableParams,
      handle: async (input) => {
        const { checkpoints, lateMinimums, ...report } = await upkeep.checkLog((await opened(input)).table);
        return {
          ...report, lateMinimums: lateMinimums.length,
          checkpoints: checkpoints.map(({ lacking, extra, ...checkpoint }) => ({ ...checkpoint, lacking: lacking.length, extra: extra.length, paths: checkpoint.paths, files: [...lacking, ...extra].slice(0, HISTORY_SHOWN) })),
        };
      },
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/delta/copy', summary: 'A second Delta table over the files of a version, which are shared and not copied', answer: 'The folder of the copy and its version; it can be read by its path, or crawled and registered',
      params: tableParams, body: Joi.object({ path: Joi.string().min(1).max(2000).required(), version: Joi.number().integer().min(0) }),
      handle: async (input) => {
        const { relation, table } = await opened(input);
        const { storage, store } = lake.storageOf(relation);
        const path = normalPath(input.body.path as string);
        // Files of its own lie in a folder of its own, which its namespace gives, or nobody has.
        await checkPlaceForNew({ sql: services.database, lake, as: input.as }, { name: `${storage.name}:${path}`, place: { storage: lake.storageOf(relation), path } }, await getNamespace(services.database, relation.namespace));
        const asOf = input.body.version === undefined ? LATEST : { kind: 'number' as const, number: BigInt(input.body.version as number) };
        const copy = new DeltaTable(store, path, `${storage.name}:${path}`);
        return { path: copy.name, version: await shallowCopy(table, asOf, copy, ports(input.who)) };
      },
    },
    {
      method: 'post', path: '/storages/{storage}/adopt', summary: 'Make a Delta or Iceberg table of a folder of Parquet files, in place: no file is rewritten', answer: 'The folder and how many files became part of the table',
      params: Joi.object({ storage: name.required() }), body: Joi.object({ path: Joi.string().min(1).max(2000).required(), format: Joi.string().valid('delta', 'iceberg').default('delta') }),
      handle: async ({ params, body, who }) => {
        const path = normalPath(body.path as string);
        const full = `${params.storage!}:${path}`;
        const { table, storage } = await files.open(full);
        if (table.format !== 'parquet') throw new LakeError('bad-request', `${full} is ${table.format}; only folders of Parquet files can become a table in place.`, { path });
        const snapshot = await table.snapshot(LATEST);
        const counted = await upkeep.withRows(storage, await snapshot.files());
        const asFolder = { schema: snapshot.schema, partitionColumns: snapshot.partitioning.map((each) => each.name) };
        if (body.format === 'iceberg') {
          const made = await adoptAsIceberg(lake.icebergTable(storage, path, full), asFolder, counted, ports(who));
          return { path: full, version: made['sequence-number'] ?? 0, files: counted.length };
        }
        const version = await adoptFolder(new DeltaTable(storage.store, path, full), asFolder, counted, ports(who));
        return { path: full, version, files: counted.length };
      },
    },
    {
      method: 'get', path: '/storages/{storage}/table', summary: 'A table by its folder, registered or not: columns, size and newest versions', answer: 'As of a table of the catalog, with its history',
      params: Joi.object({ storage: name.required() }), query: Joi.object({ path: Joi.string().allow('').max(2000).required() }),
      handle: async ({ params, query }) => {
        const { table } = await files.open(`${params.storage!}:${query.path as string}`);
        const entries = await table.history(HISTORY_SHOWN);
        return { format: table.format, ...(await describeSnapshot(await table.snapshot(LATEST))), history: entries.slice(-HISTORY_SHOWN) };
      },
    },
  ];
}

async function protocolOf(table: DeltaTable) {
  const { protocol, metadata, version, domains, txns } = await latestState(table);
  const readers = new Set(readerFeatures(protocol));
  const { configuration } = metadata;
  const rules = rulesOf(metadata, table.name);
  return {
    version,
    readerVersion: protocol.minReaderVersion,
    writerVersion: protocol.minWriterVersion,
    features: writerFeatures(protocol).map((feature) => ({ name: feature, forReaders: readers.has(feature), means: FEATURES[feature]?.means ?? 'Not known here.', write: FEATURES[feature]?.write ?? 'no' })),
    properties: [
      ...Object.entries(PROPERTIES).map(([property, meaning]) => ({ name: property, value: configuration[property] ?? null, ...meaning })),
      ...Object.entries(configuration).filter(([property]) => !(property in PROPERTIES)).map(([property, value]) => ({ name: property, value, means: '', standard: '', form: 'text' })),
    ],
    rules: { required: rules.required, conditions: rules.conditions, generated: rules.generated, defaults: rules.defaults },
    domains: [...domains.keys()],
    applications: [...txns.values()].map(({ appId, version: last }) => ({ name: appId, version: Number(last) })),
  };
}
