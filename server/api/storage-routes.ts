import { accessSync, constants, realpathSync, statSync } from 'node:fs';
import path from 'node:path';
import Joi from 'joi';
import { LakeError } from '../../core/errors';
import { normalPath } from '../../core/storage/paths';
import type { Inputs, Route } from '../http/routes';
import { splitPattern } from '../../core/folder/path-pattern';
import { pathRuler } from '../../core/crawl/path-ruler';
import { givenOptions } from '../catalog/saved-options';
import { FolderPages } from '../lake/folder-pages';
import { readOptionsBody } from '../lake/read-options-schema';
import type { NewStorage, Storage } from '../catalog/storages';
import { lookAtFile } from '../lake/look';
import { lookAtSource } from '../sources/look';
import { DatabaseStore } from '../sources/database-store';
import type { PostgresSettings } from '../sources/postgres';
import { checkDatabase, checkStorage } from '../storage/check';
import type { LakeStore } from '../storage/lake-store';
import type { S3Settings } from '../storage/s3-store';
import type { Services } from '../services';
import { name, storageName, storagePath } from './schemas';

const PAGE = 1000;

export function storageRoutes({ lake, inspector, database, events }: Services): Route[] {
  const inStorage = Joi.object({ storage: name.required() });
  const pages = new FolderPages(events);
  const bucketOf = ({ name: called, endpoint, region, bucket, prefix, addressing, keys }: Record<string, unknown>): NewStorage => {
    if (!endpoint || !bucket) throw new LakeError('bad-request', 'A bucket needs the address of its store (endpoint) and its name (bucket).');
    const { username, password } = new URL(endpoint as string);
    if (username !== '' || password !== '') throw new LakeError('bad-request', 'The address of the store has a name or password in it, which would be kept and shown as it is.', { hint: 'Give the keys as keys; they are kept sealed.' });
    return { name: called as string, kind: 's3', location: '', settings: { endpoint, region, bucket, prefix, addressing } as S3Settings, secret: keys ? lake.secrets.seal(keys) : null };
  };
  const databaseOf = ({ name: called, host, port, database: inside, user, password, ssl }: Record<string, unknown>): NewStorage => {
    if (!host || !inside || !user) throw new LakeError('bad-request', 'A database needs its host, its name (database) and a user.');
    return { name: called as string, kind: 'postgres', location: '', settings: { host, port, database: inside, user, ssl } as PostgresSettings, secret: lake.secrets.seal(password ?? '') };
  };
  const checkAny = (store: LakeStore) => (store instanceof DatabaseStore ? checkDatabase(store) : checkStorage(store));
  return [
    {
      method: 'get', path: '/storages', summary: 'Connected storages', answer: 'Storages by name; keys are never told',
      handle: async () => lake.storages().map(({ storage }) => shown(storage)),
    },
    {
      method: 'post', path: '/storages', summary: 'Connect a local folder or an S3-compatible bucket', answer: 'The storage',
      body: Joi.object({
        name: storageName.required(), kind: Joi.string().valid('folder', 's3', 'postgres').default('folder'),
        location: Joi.string().trim().min(1).max(4000).when('kind', { is: 'folder', then: Joi.required(), otherwise: Joi.forbidden() }),
        ...Object.fromEntries(Object.entries(BUCKET).map(([key, schema]) => [key, schema.when('kind', { not: 's3', then: Joi.forbidden() })])), keys: KEYS,
        ...Object.fromEntries(Object.entries(DATABASE).map(([key, schema]) => [key, schema.when('kind', { not: 'postgres', then: Joi.forbidden() })])),
      }),
      handle: async ({ body, who }) => {
        const { storage } = await lake.addStorage(body.kind === 's3' ? bucketOf(body) : body.kind === 'postgres' ? databaseOf(body) : { name: body.name as string, kind: 'folder', location: folderOnThisMachine(body.location as string), settings: null, secret: null }, who);
        events.tell({ topic: 'catalog' });
        return shown(storage);
      },
    },
    {
      method: 'post', path: '/storages/check', summary: 'Whether a bucket or a database could be used, before it is connected', answer: 'What works and what is missing, step by step',
      body: Joi.object({ kind: Joi.string().valid('s3', 'postgres').default('s3'), ...BUCKET, keys: KEYS, ...DATABASE }),
      handle: async ({ body }) => ({ steps: await checkAny(lake.openStore(body.kind === 'postgres' ? databaseOf({ ...body, name: 'new' }) : bucketOf({ ...body, name: 'new' }))) }),
    },
    {
      method: 'post', path: '/storages/{storage}/check', summary: 'Whether a storage can be listed, read and written', answer: 'What works and what is missing, step by step',
      params: inStorage,
      handle: async ({ params }) => ({ steps: await checkAny(lake.storage(params.storage!).store) }),
    },
    {
      method: 'patch', path: '/storages/{storage}', summary: 'Give a bucket other keys, or none: then those of the environment count; or a database another password', answer: 'The storage',
      params: inStorage, body: Joi.object({ keys: KEYS, password: Joi.string().allow('').max(500) }),
      handle: async ({ params, body, who }) => {
        const { storage } = lake.storage(params.storage!);
        if (storage.kind === 'folder') throw new LakeError('bad-request', `${storage.name} is a local folder; it has no keys.`);
        if (storage.kind === 'postgres') return shown((await lake.changeKeys(storage, lake.secrets.seal(body.password ?? ''), who)).storage);
        return shown((await lake.changeKeys(storage, body.keys ? lake.secrets.seal(body.keys) : null, who)).storage);
      },
    },
    {
      method: 'delete', path: '/storages/{storage}', summary: 'Forget a storage in which no table of the catalog lies; its files stay', answer: 'What was forgotten',
      params: inStorage,
      handle: async ({ params, who }) => {
        const opened = lake.storage(params.storage!);
        await lake.removeStorage(opened, who);
        events.tell({ topic: 'catalog' });
        return { disconnected: opened.storage.name };
      },
    },
    {
      method: 'get', path: '/storages/{storage}/list', summary: 'One level of a folder', answer: 'Folders, a page of files, and the tables that stand here',
      params: inStorage,
      query: Joi.object({ path: storagePath, filter: Joi.string().allow('').max(200).default(''), offset: Joi.number().integer().min(0).default(0), limit: Joi.number().integer().min(1).max(PAGE).default(PAGE) }),
      handle: async ({ params, query }) => {
        const { path: asked, filter, offset, limit } = query as { path: string; filter: string; offset: number; limit: number };
        const { store, storage } = lake.storage(params.storage!);
        const folder = normalPath(asked);
        const page = await pages.get(lake.storage(params.storage!), folder, offset === 0 && filter === '');
        if (folder !== '' && page.folders.length === 0 && page.files.length === 0 && !(await store.hasFolder(folder))) {
          throw new LakeError('not-found', `There is no folder ${folder} in ${storage.name}.`, { path: folder });
        }
        const wanted = filter.toLowerCase();
        const matches = (each: string) => each.toLowerCase().includes(wanted);
        const files = page.files.filter((file) => matches(file.path.slice(folder.length)));
        const tables = await database.query<{ name: string; location: string; format: string }>(
          `SELECT n.name || '.' || r.name AS name, r.location, r.format FROM relation r JOIN namespace n ON n.id = r.namespace_id
           WHERE r.storage_id = $1 AND (r.location = $2 OR starts_with(r.location, $3))`, [storage.id, folder, folder === '' ? '' : `${folder}/`]);
        return {
          storage: storage.name,
          path: folder,
          folders: page.folders.filter(matches),
          files: files.slice(offset, offset + limit),
          fileCount: files.length,
          bytes: files.reduce((sum, file) => sum + file.bytes, 0),
          tables,
        };
      },
    },
    {
      method: 'get', path: '/storages/{storage}/objects', summary: 'What a connected database holds, by schema and kind', answer: 'Counts',
      params: inStorage,
      handle: async ({ params }) => {
        const { store, storage } = lake.storage(params.storage!);
        if (!(store instanceof DatabaseStore)) throw new LakeError('bad-request', `${storage.name} is no database.`);
        const counts = new Map<string, { schema: string; kind: string; count: number }>();
        for (const { schema, kind } of await store.driver.objects()) {
          const entry = counts.get(`${schema} ${kind}`) ?? { schema, kind, count: 0 };
          entry.count++;
          counts.set(`${schema} ${kind}`, entry);
        }
        return { objects: [...counts.values()] };
      },
    },
    {
      method: 'get', path: '/storages/{storage}/summary', summary: 'All that lies under a folder', answer: 'Counts and sizes of files below the folder',
      params: inStorage, query: Joi.object({ path: storagePath }),
      handle: async ({ params, query }: Inputs) => {
        const files = await lake.storage(params.storage!).store.list(normalPath(query.path as string));
        return { files: files.length, bytes: files.reduce((sum, file) => sum + file.bytes, 0) };
      },
    },
    {
      method: 'get', path: '/storages/{storage}/look', summary: 'Look into a file', answer: 'Guessed format with evidence, columns, first rows, raw lines, Parquet row groups',
      params: inStorage, query: Joi.object({ path: storagePath }),
      handle: async ({ params, query }) => {
        const storage = lake.storage(params.storage!);
        return storage.storage.kind === 'postgres' ? lookAtSource(storage, normalPath(query.path as string)) : lookAtFile(storage, normalPath(query.path as string), inspector);
      },
    },
    {
      method: 'post', path: '/storages/{storage}/look', summary: 'Look into a file read in a given way, or as saved options say', answer: 'As looking does, with the lines that do not fit',
      params: inStorage, body: Joi.object({ path: storagePath.required(), options: readOptionsBody, readWith: Joi.string().max(200) }).xor('options', 'readWith'),
      handle: async ({ params, body }) => lookAtFile(lake.storage(params.storage!), normalPath(body.path as string), inspector, await givenOptions(database, body)),
    },
    {
      method: 'get', path: '/storages/{storage}/ruler', summary: 'The steps of the paths under a folder, and what a pattern makes of them', answer: 'Each step with its values, the columns of the pattern with their gaps, and the files that do not match',
      params: inStorage, query: Joi.object({ path: storagePath, pattern: Joi.string().max(2000) }),
      handle: async ({ params, query }) => {
        const folder = normalPath(query.path as string);
        const pattern = query.pattern as string | undefined;
        // A pattern may begin above the folder that is looked at.
        const start = pattern === undefined ? folder : [folder, splitPattern(pattern).root].sort((a, b) => a.length - b.length)[0]!;
        return pathRuler(await lake.storage(params.storage!).store.list(start), start, pattern);
      },
    },
  ];
}

const BUCKET = {
  endpoint: Joi.string().uri({ scheme: ['http', 'https'] }).max(500), region: Joi.string().trim().pattern(/^[a-z0-9-]{1,60}$/i, 'the letters, digits and hyphens of a region').default('us-east-1'), bucket: Joi.string().trim().min(1).max(255),
  prefix: Joi.string().trim().allow('').max(1000).default(''), addressing: Joi.string().valid('path', 'host').default('path'),
};
/** Null takes the keys of the server's own environment. */
const KEYS = Joi.object({ accessKeyId: Joi.string().trim().min(1).max(200).required(), secretAccessKey: Joi.string().trim().min(1).max(500).required(), sessionToken: Joi.string().trim().max(4000) }).allow(null).default(null);

const DATABASE = {
  host: Joi.string().trim().max(255), port: Joi.number().port().default(5432), database: Joi.string().trim().max(200), user: Joi.string().trim().max(200), password: Joi.string().allow('').max(500), ssl: Joi.boolean().default(false),
};

/** A storage without what must not be told. */
function shown({ name, kind, location, settings, secret }: Storage) {
  return { name, kind, location, settings, keys: kind === 'folder' ? null : secret === null ? 'environment' : 'stored' };
}

/** The folder's real place. Fails saying what is wrong with it. */
function folderOnThisMachine(location: string): string {
  if (!path.isAbsolute(location)) throw new LakeError('bad-request', `"${location}" is not a full path; it must start with ${path.parse(process.cwd()).root}.`);
  try {
    const real = realpathSync(location);
    if (!statSync(real).isDirectory()) throw new LakeError('bad-request', `${location} is a file, not a folder.`);
    accessSync(real, constants.R_OK | constants.X_OK);
    return real;
  } catch (error) {
    if (error instanceof LakeError) throw error;
    const missing = (error as NodeJS.ErrnoException).code === 'ENOENT';
    throw new LakeError('bad-request', missing ? `There is no folder ${location} on this machine.` : `The folder ${location} may not be read by this server.`);
  }
}
