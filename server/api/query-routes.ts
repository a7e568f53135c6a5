import { open } from 'node:fs/promises';
import Joi from 'joi';
import { LakeError } from '../../core/errors';
import type { Identity } from '../access/access';
import type { Receipt } from '../catalog/receipts';
import { deleteSavedQuery, listSavedQueries, saveQuery } from '../catalog/saved-queries';
import { PAGE_ROWS } from '../engine/messages';
import type { Route } from '../http/routes';
import type { KeptResult } from '../query/queries';
import { planStatement, runScript, runStatement } from '../query/run-statement';
import { readMap } from '../query/read-map';
import type { Services } from '../services';
import { id, name, sqlText } from './schemas';

const MAX_KEPT_ROWS = 1_000_000;

export function queryRoutes(services: Services): Route[] {
  const { queries, changes, receipts, database, events } = services;
  /** Rows are shown to whom they were read for. */
  const resultOf = (key: string, as: Identity) => {
    const kept = queries.results.get(key);
    if (!kept || (as.kind === 'token' && !(kept.as.kind === 'token' && kept.as.id === as.id))) throw new LakeError('not-found', 'The rows of this result are no longer kept. Run the query again.');
    return kept;
  };
  const receiptOf = async (key: string): Promise<Receipt> => {
    const receipt = await receipts.find(key);
    if (!receipt) throw new LakeError('not-found', 'There is no such receipt.');
    return receipt;
  };
  /** The statement that each running script is at. */
  const atStep = new Map<string, string>();
  return [
    {
      method: 'post', path: '/query', right: 'asked-inside', summary: 'Run one query, or one statement that changes rows, defines or looks', answer: 'Columns, rows, and a receipt of what was read; of a change, one row that counts what was done, and the version it made; of a definition, what was done in words',
      body: Joi.object({ sql: sqlText.required(), maxRows: Joi.number().integer().min(0).max(MAX_KEPT_ROWS).default(1000), id, keep: Joi.boolean().default(false) }),
      handle: ({ body, as }) => runStatement(services, { sql: body.sql as string, maxRows: body.maxRows as number, as, keep: body.keep as boolean, ...(body.id ? { id: body.id as string } : {}) }),
    },
    {
      method: 'post', path: '/script', right: 'asked-inside', summary: 'Run several statements one after the other', answer: 'What came of each; after one that failed the others are left, and what was done before it stays',
      body: Joi.object({ sql: Joi.string().min(1).max(1_000_000).required(), maxRows: Joi.number().integer().min(0).max(MAX_KEPT_ROWS).default(1000), keep: Joi.boolean().default(false), id }),
      handle: async ({ body, as }) => {
        const script = body.id as string | undefined;
        try {
          return await runScript(services, { sql: body.sql as string, maxRows: body.maxRows as number, as, keep: body.keep as boolean }, (step) => script && atStep.set(script, step));
        } finally {
          if (script) atStep.delete(script);
        }
      },
    },
    {
      method: 'post', path: '/query/plan', right: 'asked-inside', summary: 'What a statement would read or do', answer: 'Each table with its version, the files it would read and skip, and why; of a definition, what it would do and whom it concerns',
      body: Joi.object({ sql: sqlText.required() }),
      handle: async ({ body, as }) => {
        const { tables, does } = await planStatement(services, body.sql as string, as);
        return { tables: tables.map(readMap), does };
      },
    },
    {
      method: 'post', path: '/query/{id}/cancel', right: 'asked-inside', summary: 'Stop a statement, or the script that is at it', answer: 'Whether it was running',
      params: Joi.object({ id: id.required() }),
      handle: async ({ params, as }) => {
        const key = atStep.get(params.id!) ?? params.id!;
        // Of others' statements nothing is told, not even that they run.
        return { cancelled: queries.underWay.isOf(key, as) && (await queries.cancel(key)) };
      },
    },
    {
      method: 'get', path: '/query/{id}/progress', right: 'asked-inside', summary: 'How far a statement that changes rows is', answer: 'Rows that its step has gone through, of how many, and bytes written; null when it does not run',
      params: Joi.object({ id: id.required() }),
      handle: async ({ params, as }, _request, response) => void response.json(queries.underWay.isOf(params.id!, as) ? await changes.progress(params.id!) : null),
    },
    {
      method: 'get', path: '/results/{id}/rows', right: 'asked-inside', summary: `A page of ${PAGE_ROWS} rows of a kept result`, answer: 'Rows',
      params: Joi.object({ id: id.required() }), query: Joi.object({ page: Joi.number().integer().min(0).default(0) }),
      handle: async ({ params, query, as }, _request, response) => {
        response.type('application/json').send(await readPage(resultOf(params.id!, as), query.page as number));
      },
    },
    {
      method: 'get', path: '/results/{id}/csv', right: 'asked-inside', summary: 'A kept result as CSV', answer: 'text/csv',
      params: Joi.object({ id: id.required() }),
      handle: async ({ params, as }, _request, response) => {
        const kept = resultOf(params.id!, as);
        response.type('text/csv').attachment(csvName(params.id!, kept));
        response.write(`${kept.columns.map((column) => csvField(column.name)).join(',')}\r\n`);
        for (let page = 0; page < kept.pages.length - 1; page++) {
          const rows = JSON.parse((await readPage(kept, page)).toString()) as unknown[][];
          if (!response.write(rows.map((row) => `${row.map(csvField).join(',')}\r\n`).join(''))) await new Promise<void>((resolve) => response.once('drain', resolve));
        }
        response.end();
      },
    },
    {
      method: 'get', path: '/saved-queries', summary: 'Queries that have a name', answer: 'Saved queries by name',
      handle: () => listSavedQueries(database),
    },
    {
      method: 'put', path: '/saved-queries/{name}', right: 'write', summary: 'Give a query a name, or another text to one that has it', answer: 'The saved query',
      params: Joi.object({ name: name.required() }), body: Joi.object({ sql: sqlText.min(1).required() }),
      handle: async ({ params, body, who }) => {
        const saved = await saveQuery(database, params.name!, body.sql as string, who);
        events.tell({ topic: 'catalog' });
        return saved;
      },
    },
    {
      method: 'delete', path: '/saved-queries/{name}', right: 'write', summary: 'Forget a saved query', answer: 'Its name',
      params: Joi.object({ name: name.required() }),
      handle: async ({ params }) => {
        await deleteSavedQuery(database, params.name!);
        events.tell({ topic: 'catalog' });
        return { name: params.name! };
      },
    },
    {
      method: 'get', path: '/receipts', summary: 'Recent receipts', answer: 'Receipts, newest first',
      query: Joi.object({ limit: Joi.number().integer().min(1).max(500).default(50), kind: Joi.string().valid('query', 'write') }),
      handle: ({ query }) => receipts.list(query.limit as number, query.kind as 'query' | undefined),
    },
    {
      method: 'get', path: '/receipts/{id}', summary: 'One receipt', answer: 'The receipt',
      params: Joi.object({ id: id.required() }), handle: ({ params }) => receiptOf(params.id!),
    },
    {
      method: 'post', path: '/receipts/{id}/run', summary: 'Run a query again against the versions its receipt names', answer: 'As a query',
      params: Joi.object({ id: id.required() }),
      body: Joi.object({ maxRows: Joi.number().integer().min(0).max(MAX_KEPT_ROWS).default(1000), keep: Joi.boolean().default(false), id }),
      handle: async ({ params, body, as }) => {
        const receipt = await receiptOf(params.id!);
        if (receipt.kind !== 'query') throw new LakeError('bad-request', 'Only queries can be run again.');
        return queries.begin(body.id as string | undefined, as, (key) => queries.run({ id: key, sql: receipt.sql, maxRows: body.maxRows as number, as, pins: pinsOf(receipt), keep: body.keep as boolean }));
      },
    },
  ];
}

/** What was latest then; states that the text itself names are named by it again. */
function pinsOf(receipt: Receipt): Map<string, number> {
  const pins = new Map<string, number>();
  for (const table of receipt.tables) pins.set(table.name, Math.max(table.version, pins.get(table.name) ?? 0));
  return pins;
}

async function readPage(kept: KeptResult, page: number): Promise<Buffer> {
  const [start, end] = [kept.pages[page], kept.pages[page + 1]];
  if (start === undefined || end === undefined) return Buffer.from('[]');
  const file = await open(kept.file, 'r');
  try {
    const bytes = Buffer.alloc(end - start);
    await file.read(bytes, 0, bytes.length, start);
    return bytes;
  } finally {
    await file.close();
  }
}

/** A file of old rows says so by its name, wherever it goes. */
function csvName(id: string, { tables }: KeptResult): string {
  const past = tables.filter((table) => table.past).map((table) => `${table.name}-version-${table.version}`.replace(/[^\p{L}\p{N}._-]+/gu, '-'));
  return past.length > 0 ? `from-the-past-${past.join('-')}.csv` : `result-${id.slice(0, 8)}.csv`;
}

function csvField(value: unknown): string {
  if (value === null) return '';
  const text = typeof value === 'object' ? JSON.stringify(value) : String(value);
  return /[",\r\n]/.test(text) || text === '' ? `"${text.replaceAll('"', '""')}"` : text;
}
