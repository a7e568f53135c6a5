/** Routes as data: the same Joi schemas check every input and make the OpenAPI document. */
import type { Request, Response, Router } from 'express';
import Joi from 'joi';
import { LakeError } from '../../core/errors';
import { demand, demandEverywhere, nameOfIdentity, type Identity, type Right } from '../access/access';

export interface Inputs {
  params: Record<string, string>;
  query: Record<string, unknown>;
  body: Record<string, unknown>;
  /** Who asks. */
  as: Identity;
  /** Their name, as receipts and revisions have it. */
  who: string;
}

export interface Route {
  method: 'get' | 'post' | 'put' | 'patch' | 'delete';
  /** With parameters as `{name}`; below `/api`. */
  path: string;
  summary: string;
  params?: Joi.ObjectSchema;
  query?: Joi.ObjectSchema;
  body?: Joi.ObjectSchema;
  /**
   * What the caller must have the right to, on the namespace or table that the path names, else on everything. Where absent:
   * to read for GET, and to manage for all else. `asked-inside`: the handler sees to it.
   */
  right?: Right | 'asked-inside';
  /** What a good answer holds. */
  answer: string;
  /** A returned value is sent as JSON; undefined means that the handler has answered. */
  handle: (input: Inputs, request: Request, response: Response) => Promise<unknown>;
}

const NOTHING = Joi.object({});

export function mount(router: Router, routes: readonly Route[], identify: (request: Request) => Promise<Identity>): void {
  for (const route of routes) {
    router[route.method](route.path.replace(/\{(\w+)\}/g, ':$1'), async (request, response) => {
      const as = await identify(request);
      // Before anything of the request is looked at: what is wrong with it is told to whom it concerns.
      checkRight(route, request.params as Inputs['params'], as);
      const params: Inputs['params'] = check(route.params ?? NOTHING.unknown(true), request.params);
      const input: Inputs = {
        as,
        who: nameOfIdentity(as),
        params,
        query: check(route.query ?? NOTHING, request.query),
        body: check(route.body ?? NOTHING.unknown(true), request.body ?? {}),
      };
      const answer = await route.handle(input, request, response).catch((error: unknown) => {
        throw as.kind === 'token' ? withoutNames(error) : error;
      });
      if (answer !== undefined) response.json(answer);
    });
  }
}

/** What is near a name that is not there could be what a token may not see. */
function withoutNames(error: unknown): unknown {
  if (!(error instanceof LakeError) || error.kind !== 'not-found' || error.details.hint === undefined) return error;
  const { hint: _, ...details } = error.details;
  return new LakeError(error.kind, error.message, details, { cause: error.cause });
}

function checkRight(route: Route, params: Inputs['params'], as: Identity): void {
  const { namespace, table } = params;
  const right = route.right ?? (route.method === 'get' ? 'read' : 'manage');
  if (right === 'asked-inside') return;
  if (namespace === undefined) demandEverywhere(as, right, `use ${route.method.toUpperCase()} /api${route.path}`);
  else demand(as, right, { namespace, ...(table === undefined ? {} : { name: table }) });
}

function check<T>(schema: Joi.ObjectSchema, value: unknown): T {
  const { value: good, error } = schema.validate(value, { abortEarly: false, convert: true });
  if (error) throw error;
  return good as T;
}

interface JsonSchema {
  properties?: Record<string, unknown>;
  required?: string[];
}

function jsonSchema(schema: Joi.ObjectSchema): JsonSchema {
  const standard = (schema as unknown as { '~standard': { jsonSchema: { input(options: { target: string }): JsonSchema } } })['~standard'];
  return standard.jsonSchema.input({ target: 'draft-2020-12' });
}

/** OpenAPI 3.1, whose schemas are JSON Schema. */
export function openApi(routes: readonly Route[], version: string): Record<string, unknown> {
  const paths: Record<string, Record<string, unknown>> = {};
  for (const route of routes) {
    const parameters = [...parametersOf(route.params, 'path'), ...parametersOf(route.query, 'query')];
    (paths[`/api${route.path}`] ??= {})[route.method] = {
      summary: route.summary,
      ...(parameters.length > 0 ? { parameters } : {}),
      ...(route.body ? { requestBody: { required: true, content: { 'application/json': { schema: jsonSchema(route.body) } } } } : {}),
      responses: {
        200: { description: route.answer, content: { 'application/json': {} } },
        default: { description: 'A problem document (RFC 9457)', content: { 'application/problem+json': { schema: { $ref: '#/components/schemas/Problem' } } } },
      },
    };
  }
  return {
    openapi: '3.1.0',
    info: { title: 'Kind Harbor', version, description: 'Storage, crawls, catalog and queries of a lake.' },
    servers: [{ url: '/' }],
    paths,
    components: { schemas: { Problem: PROBLEM } },
  };
}

function parametersOf(schema: Joi.ObjectSchema | undefined, place: 'path' | 'query'): unknown[] {
  if (!schema) return [];
  const { properties = {}, required = [] } = jsonSchema(schema);
  return Object.entries(properties).map(([name, each]) => ({ name, in: place, required: place === 'path' || required.includes(name), schema: each }));
}

const PROBLEM = {
  type: 'object',
  required: ['title', 'status', 'detail'],
  properties: {
    type: { type: 'string' }, title: { type: 'string' }, status: { type: 'integer' }, detail: { type: 'string' }, kind: { type: 'string' },
    path: { type: 'string' }, line: { type: 'integer' }, column: { type: 'integer' }, table: { type: 'string' }, version: { type: 'integer' },
    hint: { type: 'string' }, position: { type: 'integer', description: 'Zero-based offset in the query text' },
  },
};
