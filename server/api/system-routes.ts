import Joi from 'joi';
import { LATEST } from '../../core/table/contract';
import { listRelations } from '../catalog/relations';
import type { Route } from '../http/routes';
import type { Services } from '../services';
import { id } from './schemas';

export function systemRoutes({ jobs, events, config, database, lake, queryEngine }: Services): Route[] {
  return [
    {
      method: 'get', path: '/session', summary: 'Who is working here, and with what', answer: 'Person and engine limits',
      handle: async () => ({ person: config.person, engine: { memory: config.engineMemory, threads: config.engineThreads, running: queryEngine.pid !== undefined } }),
    },
    { method: 'get', path: '/jobs', summary: 'Recent runs', answer: 'Jobs, newest first', query: Joi.object({ limit: Joi.number().integer().min(1).max(200).default(30) }), handle: ({ query }) => jobs.list(query.limit as number) },
    {
      method: 'post', path: '/jobs/{id}/cancel', summary: 'Stop a run', answer: 'Whether it was running',
      params: Joi.object({ id: id.required() }), handle: async ({ params }) => ({ cancelled: jobs.cancel(params.id!) }),
    },
    {
      method: 'get', path: '/events', summary: 'What happens, as server-sent events', answer: 'text/event-stream',
      handle: async (_input, request, response) => {
        response.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-cache', connection: 'keep-alive' });
        response.write('retry: 1000\n\n');
        const stop = events.listen((event) => response.write(`data: ${JSON.stringify(event)}\n\n`));
        const beat = setInterval(() => response.write(': here\n\n'), 20_000);
        request.on('close', () => {
          clearInterval(beat);
          stop();
        });
      },
    },
    {
      method: 'get', path: '/find', summary: 'Tables, views, columns and folders by part of a name', answer: 'Hits, best first',
      query: Joi.object({ q: Joi.string().trim().min(1).max(100).required() }),
      handle: async ({ query }) => ({ hits: await find(String(query.q).toLowerCase()) }),
    },
  ];

  async function find(text: string) {
    const relations = await listRelations(database);
    const tables = relations.filter((each) => `${each.namespace}.${each.name}`.toLowerCase().includes(text)).map((each) => ({ kind: each.kind, name: `${each.namespace}.${each.name}`, inside: each.format ?? 'view' }));
    const columns = await Promise.all(relations.filter((each) => each.kind === 'table').map(async (each) => {
      const snapshot = await lake.table(each).snapshot(LATEST).catch(() => undefined);
      return (snapshot?.schema.fields ?? []).filter((field) => field.name.toLowerCase().includes(text)).map((field) => ({ kind: 'column', name: field.name, inside: `${each.namespace}.${each.name}` }));
    }));
    const files = (await Promise.all(lake.storages().map(({ storage, store }) => foldersNamed(storage.name, store, text)))).flat();
    return [...tables, ...columns.flat(), ...files].slice(0, 40);
  }

  /** Folders three levels deep, so that finding stays quick in a large lake, and files in those. */
  async function foldersNamed(storage: string, store: { listFolder(folder: string): Promise<{ folders: string[]; files: { path: string }[] }> }, text: string) {
    const hits: { kind: string; name: string; inside: string }[] = [];
    let level = [''];
    for (let depth = 0; depth < 3 && hits.length < 20; depth++) {
      const next: string[] = [];
      for (const folder of level.slice(0, 200)) {
        const page = await store.listFolder(folder);
        for (const name of page.folders) {
          const path = folder === '' ? name : `${folder}/${name}`;
          if (name.toLowerCase().includes(text)) hits.push({ kind: 'folder', name: path, inside: storage });
          next.push(path);
        }
        for (const file of page.files) if (file.path.slice(folder.length).toLowerCase().includes(text) && hits.length < 20) hits.push({ kind: 'file', name: file.path, inside: storage });
      }
      level = next;
    }
    return hits;
  }
}
