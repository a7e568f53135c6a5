import { accessSync, constants, realpathSync, statSync } from 'node:fs';
import path from 'node:path';
import Joi from 'joi';
import { LakeError } from '../../core/errors';
import { normalPath } from '../../core/storage/paths';
import type { Inputs, Route } from '../http/routes';
import { lookAtFile } from '../lake/look';
import type { Services } from '../services';
import { name, storageName, storagePath } from './schemas';

const PAGE = 1000;

export function storageRoutes({ lake, inspector, database, events, config }: Services): Route[] {
  const inStorage = Joi.object({ storage: name.required() });
  return [
    {
      method: 'get', path: '/storages', summary: 'Connected storages', answer: 'Storages by name',
      handle: async () => lake.storages().map(({ storage }) => ({ name: storage.name, kind: storage.kind })),
    },
    {
      method: 'post', path: '/storages', summary: 'Connect a local folder', answer: 'The storage',
      body: Joi.object({ name: storageName.required(), location: Joi.string().trim().min(1).max(4000).required() }),
      handle: async ({ body }) => {
        const { storage } = await lake.addStorage({ name: body.name as string, kind: 'folder', location: folderOnThisMachine(body.location as string), settings: null, secret: null }, config.person);
        events.tell({ topic: 'catalog' });
        return { name: storage.name, kind: storage.kind };
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
        const page = await store.listFolder(folder);
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
      handle: async ({ params, query }) => lookAtFile(lake.storage(params.storage!), normalPath(query.path as string), inspector),
    },
  ];
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
