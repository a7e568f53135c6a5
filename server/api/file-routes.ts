/** Acts on files and folders of a storage: upload, new folder, move, remove. */
import Joi from 'joi';
import { LakeError } from '../../core/errors';
import { baseName, below, joinPath, normalPath, parentPath } from '../../core/storage/paths';
import { PRODUCT } from '../access/access';
import type { Route } from '../http/routes';
import { accountOfFiles, filesUnder, removeUnder } from '../lake/account';
import type { OpenStorage } from '../lake/lake';
import type { Services } from '../services';
import { name, storagePath } from './schemas';

const MAX_UPLOAD = 1e12;
/** A piece of an upload, in one request. */
const MAX_PIECE = 64 * 1024 * 1024;

export function fileRoutes({ lake, database, queries, uploads, jobs, events }: Services): Route[] {
  const inStorage = Joi.object({ storage: name.required() });
  const uploadId = Joi.object({ upload: Joi.string().hex().length(32).required() });
  const somePath = storagePath.min(1).invalid('').required();
  const somePaths = Joi.array().items(somePath).min(1).max(10_000).required();
  // Who works with files by their path may see everything.
  const account = (storage: OpenStorage, paths: readonly string[]) => accountOfFiles(database, lake, queries.statements, storage, paths, PRODUCT);
  /** Fails with `conflict` naming the tables, unless the caller knows. */
  const refuseUsed = async (storage: OpenStorage, paths: readonly string[], doing: string, evenIfUsed: boolean) => {
    if (evenIfUsed) return;
    const { tables } = await account(storage, paths);
    if (tables.length === 0) return;
    throw new LakeError('conflict', `${tables.length === 1 ? 'A table uses' : `${tables.length} tables use`} these files: ${tables.slice(0, 5).map((table) => table.name).join(', ')}. Nothing was ${doing}.`, { table: tables[0]!.name, hint: 'Ask for the account first, and confirm that the tables may lose them.' });
  };
  return [
    {
      method: 'post', path: '/storages/{storage}/folders', summary: 'Make an empty folder', answer: 'Its path',
      params: inStorage, body: Joi.object({ path: somePath }),
      handle: async ({ params, body }) => {
        const { store, storage } = lake.storage(params.storage!);
        const path = normalPath(body.path as string);
        if ((await store.head(path)) || (await store.hasFolder(path))) throw new LakeError('conflict', `There is a file or folder ${path} in ${storage.name} already.`, { path });
        await store.makeFolder(path);
        return { path };
      },
    },
    {
      method: 'post', path: '/storages/{storage}/account', summary: 'What rests on files and folders', answer: 'Files, bytes, and the tables that use them with the views that read those',
      params: inStorage, body: Joi.object({ paths: somePaths }),
      handle: ({ params, body }) => account(lake.storage(params.storage!), (body.paths as string[]).map(normalPath)),
    },
    {
      method: 'post', path: '/storages/{storage}/move', summary: 'Rename or move a file or a folder', answer: 'How many files were moved',
      params: inStorage, body: Joi.object({ from: somePath, to: somePath, evenIfUsed: Joi.boolean().default(false) }),
      handle: async ({ params, body }) => {
        const storage = lake.storage(params.storage!);
        const [from, to] = [normalPath(body.from as string), normalPath(body.to as string)];
        if (to === from || below(from, to) !== undefined) throw new LakeError('bad-request', `${from} cannot be moved into itself.`, { path: from });
        if ((await storage.store.head(to)) || (await storage.store.hasFolder(to))) throw new LakeError('conflict', `There is a file or folder ${to} already. Nothing was moved.`, { path: to });
        await refuseUsed(storage, [from], 'moved', body.evenIfUsed as boolean);
        const files = await filesUnder(storage, [from]);
        for (const file of files) await storage.store.move(file.path, file.path === from ? to : joinPath(to, below(from, file.path)!));
        if (await storage.store.hasFolder(from)) {
          if (files.length === 0) await storage.store.makeFolder(to);
          await storage.store.removeFolder(from);
        }
        events.tell({ topic: 'storage', storage: storage.storage.name, folder: parentPath(to) });
        return { moved: files.length };
      },
    },
    {
      method: 'post', path: '/storages/{storage}/remove', summary: 'Remove files and folders', answer: 'What was removed',
      params: inStorage, body: Joi.object({ paths: somePaths, evenIfUsed: Joi.boolean().default(false) }),
      handle: async ({ params, body, who }) => {
        const storage = lake.storage(params.storage!);
        const paths = (body.paths as string[]).map(normalPath);
        await refuseUsed(storage, paths, 'removed', body.evenIfUsed as boolean);
        const files = await filesUnder(storage, paths);
        const what = paths.length === 1 ? baseName(paths[0]!) : `${paths.length} things`;
        const { finished } = await jobs.start('remove', `Remove ${what} from ${storage.storage.name}`, who, async (context) => {
          await removeUnder(storage, paths, files, (done) => {
            context.check();
            context.progress(done, files.length);
          });
          return { files: files.length };
        });
        const job = await finished;
        events.tell({ topic: 'storage', storage: storage.storage.name, folder: parentPath(paths[0]!) });
        if (job.state !== 'done') throw new LakeError('cancelled', `${job.message} ${job.done} of ${files.length} files were removed before.`);
        return { files: files.length, bytes: files.reduce((sum, file) => sum + file.bytes, 0) };
      },
    },
    {
      method: 'post', path: '/storages/{storage}/uploads', summary: 'Begin an upload, or find where it broke off', answer: 'The upload with the bytes received so far',
      params: inStorage, body: Joi.object({ path: somePath, bytes: Joi.number().integer().min(0).max(MAX_UPLOAD).required(), mark: Joi.string().allow('').max(200).default(''), replace: Joi.boolean().default(false) }),
      handle: async ({ params, body }) => {
        const { store, storage } = lake.storage(params.storage!);
        const path = normalPath(body.path as string);
        checkUploadName(path);
        if (!body.replace && (await store.head(path))) throw new LakeError('conflict', `There is a file ${path} in ${storage.name} already.`, { path });
        return uploads.begin(storage.name, path, body.bytes as number, body.mark as string);
      },
    },
    {
      method: 'put', path: '/uploads/{upload}', summary: 'The next piece of an upload, as bytes', answer: 'The upload with the bytes received so far',
      params: uploadId, query: Joi.object({ offset: Joi.number().integer().min(0).required() }),
      handle: async ({ params, query }, request) => {
        if (Number(request.headers['content-length'] ?? 0) > MAX_PIECE) throw new LakeError('limit', `A piece may have at most ${MAX_PIECE} bytes.`);
        return uploads.add(params.upload!, query.offset as number, request);
      },
    },
    {
      method: 'post', path: '/uploads/{upload}/finish', summary: 'Put an upload that is whole into its storage', answer: 'The file',
      params: uploadId,
      handle: async ({ params }) => {
        const upload = uploads.get(params.upload!);
        await uploads.finish(upload.id, lake.storage(upload.storage));
        events.tell({ topic: 'storage', storage: upload.storage, folder: parentPath(upload.path) });
        return { path: upload.path, bytes: upload.bytes };
      },
    },
    {
      method: 'delete', path: '/uploads/{upload}', summary: 'Give an upload up', answer: 'Nothing is left of it',
      params: uploadId,
      handle: async ({ params }) => {
        uploads.giveUp(params.upload!);
        return { givenUp: true };
      },
    },
  ];
}

/** Marks that change how a name reads, and none that one sees. */
const UNSEEN = /[\p{Cc}\u200b-\u200f\u202a-\u202e\u2060-\u2069\ufeff]/u;
const OF_TABLES = /(^|\/)(_delta_log(\/|$)|metadata\/([^/]+\.metadata\.json(\.gz)?|[^/]+\.avro|version-hint\.text)$)/;

/** What a table says of itself is written by those that write the table; a name reads as it is. */
function checkUploadName(path: string): void {
  if (UNSEEN.test(path)) throw new LakeError('bad-request', `The name ${JSON.stringify(path).slice(0, 200)} holds a mark that is not seen, so it would read as another.`, { hint: 'Rename the file, then upload it.' });
  if (path.split('/').some((step) => Buffer.byteLength(step) > 255)) throw new LakeError('bad-request', `A part of the name ${path.slice(0, 120)}… is longer than 255 bytes, which file systems do not take.`);
  if (OF_TABLES.test(path)) throw new LakeError('refused', `${path} would be a part of a table's own log or metadata, which is not uploaded.`, { path, hint: 'Upload the data files, and make or register the table over them.' });
}
