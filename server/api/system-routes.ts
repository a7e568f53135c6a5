import Joi from 'joi';
import type { Route } from '../http/routes';
import type { Services } from '../services';
import { id } from './schemas';

export function systemRoutes({ jobs, events, config, lake, queryEngine, find, queries, eventLoop }: Services): Route[] {
  return [
    {
      method: 'get', path: '/session', right: 'asked-inside', summary: 'Who is working here, and with what', answer: 'Person and engine limits',
      handle: async ({ who }) => ({ person: who, engine: { memory: config.engineMemory, threads: config.engineThreads, running: queryEngine.pids.length > 0 } }),
    },
    {
      method: 'get', path: '/load', right: 'read', summary: 'What runs and what waits, in each lane, and the longest that the server stood still', answer: 'Lanes, and milliseconds since they were last asked to begin anew',
      query: Joi.object({ beginAnew: Joi.boolean().default(false) }),
      handle: async ({ query }) => ({
        lanes: Object.fromEntries(Object.entries(queries.lanes).map(([name, lane]) => [name, { running: lane.running, waiting: lane.waiting }])), eventLoop: { longestMs: eventLoop.longest(query.beginAnew as boolean) },
      }),
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
      method: 'get', path: '/find', summary: 'Tables, views, columns, folders and files by part of a name, description or tag', answer: 'Hits, best first',
      query: Joi.object({ q: Joi.string().trim().min(1).max(100).required(), kind: Joi.string().valid('table', 'view', 'column'), namespace: Joi.string().max(200), source: Joi.string().max(200), limit: Joi.number().integer().min(1).max(200).default(40) }),
      handle: async ({ query }) => {
        const { q, kind, namespace, source, limit } = query as { q: string; kind?: 'table' | 'view' | 'column'; namespace?: string; source?: string; limit: number };
        const hits = await find.find(q, { limit, ...(kind ? { kind } : {}), ...(namespace ? { namespace } : {}), ...(source ? { source } : {}) });
        // Files are looked for only when the catalog leaves room, and nothing narrows it to the catalog.
        const files = kind ?? namespace ?? source ? [] : (await Promise.all(lake.storages().filter(({ store }) => store.root !== undefined).map(({ storage, store }) => foldersNamed(storage.name, store, q.toLowerCase())))).flat();
        return { hits: [...hits, ...files].slice(0, limit) };
      },
    },
  ];

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
