/** The open REST catalog protocol under `/iceberg/v1` (Apache Iceberg, "REST Catalog OpenAPI"): its own body parser, its own errors. */
import { faultWords } from '../../core/fault-words';
import express, { Router, type Request, type Response } from 'express';
import { parseJson, stringifyJson } from '../../core/json';
import { demand, type Identity } from '../access/access';
import { SESSION_SECONDS } from '../access/tokens';
import type { Services } from '../services';
import { vendedCredentials } from './credentials';
import { badRequest, noSuch, notAuthorized, protocolErrorHandler, ProtocolError, unknownState } from './errors';
import { KEY_LIFETIME, RepeatableAnswers } from './idempotency';
import { namespaceOfPath, pageOf } from './names';
import { IcebergNamespaces } from './namespaces';
import { clientConfig } from '../lake/places';
import { checked, requests } from './request-schemas';
import type { CommitTable, CreateTable } from './given-tables';
import { etagOf, IcebergTables, metadataFor, type LoadedTable, type TableIdentifier } from './tables';
import { IcebergViews, type LoadedView, type ViewUpdate, type ViewVersion } from './views';
import type { StructJson } from '../../core/iceberg/schema';

/** Method and path, as the configuration lists them for clients. */
export const ENDPOINTS = [
  'GET /v1/{prefix}/namespaces', 'POST /v1/{prefix}/namespaces', 'GET /v1/{prefix}/namespaces/{namespace}', 'HEAD /v1/{prefix}/namespaces/{namespace}', 'DELETE /v1/{prefix}/namespaces/{namespace}', 'POST /v1/{prefix}/namespaces/{namespace}/properties',
  'GET /v1/{prefix}/namespaces/{namespace}/tables', 'POST /v1/{prefix}/namespaces/{namespace}/tables', 'GET /v1/{prefix}/namespaces/{namespace}/tables/{table}', 'HEAD /v1/{prefix}/namespaces/{namespace}/tables/{table}',
  'POST /v1/{prefix}/namespaces/{namespace}/tables/{table}', 'DELETE /v1/{prefix}/namespaces/{namespace}/tables/{table}', 'GET /v1/{prefix}/namespaces/{namespace}/tables/{table}/credentials', 'POST /v1/{prefix}/namespaces/{namespace}/tables/{table}/metrics',
  'POST /v1/{prefix}/namespaces/{namespace}/register', 'POST /v1/{prefix}/tables/rename', 'POST /v1/{prefix}/transactions/commit',
  'GET /v1/{prefix}/namespaces/{namespace}/views', 'POST /v1/{prefix}/namespaces/{namespace}/views', 'GET /v1/{prefix}/namespaces/{namespace}/views/{view}', 'HEAD /v1/{prefix}/namespaces/{namespace}/views/{view}',
  'POST /v1/{prefix}/namespaces/{namespace}/views/{view}', 'DELETE /v1/{prefix}/namespaces/{namespace}/views/{view}', 'POST /v1/{prefix}/views/rename',
];

/** First steps of paths without a prefix. */
const NOT_PREFIXES = new Set(['namespaces', 'tables', 'views', 'transactions', 'config', 'oauth']);

const BODY_LIMIT = '64mb';

/** What a request carries from one step to the next. */
interface Locals {
  identity: Identity;
  raw: string;
  body: unknown;
  warehouse?: string;
}

const localsOf = (response: Response) => response.locals as Locals;

export function icebergRouter(services: Services): Router {
  const router = Router();
  const answers = new RepeatableAnswers(services.database);
  router.use(express.text({ type: () => true, limit: BODY_LIMIT }));
  router.use((request, response, next) => {
    localsOf(response).raw = typeof request.body === 'string' ? request.body : '';
    next();
  });
  router.post('/v1/oauth/tokens', (_request, response) => issueSession(services, response));
  router.use(async (request, response, next) => {
    localsOf(response).identity = await identityOf(services, request);
    localsOf(response).body = bodyOf(request, localsOf(response).raw);
    next();
  });
  router.get('/v1/config', (request, response) => {
    const { warehouse } = checked<{ warehouse?: string }>(requests.page, request.query);
    if (warehouse) mustBeStorage(services, warehouse);
    send(response, 200, { overrides: warehouse ? { prefix: warehouse } : {}, defaults: {}, endpoints: ENDPOINTS, 'idempotency-key-lifetime': KEY_LIFETIME });
  });
  router.use(answers.handler((response) => localsOf(response).raw, (response) => callerOf(localsOf(response).identity)));
  const protocol = protocolRouter(services);
  router.use('/v1', protocol);
  router.use('/v1/:prefix', (request, response, next) => {
    const prefix = request.params.prefix as string;
    if (NOT_PREFIXES.has(prefix)) return next('route');
    mustBeStorage(services, prefix);
    localsOf(response).warehouse = prefix;
    next();
  }, protocol);
  router.use((request) => {
    throw new ProtocolError(404, 'NoSuchEndpointException', `There is no ${request.method} ${request.path} in this catalog.`);
  });
  router.use(protocolErrorHandler(services.log));
  return router;
}

function mustBeStorage({ lake }: Services, name: string): void {
  if (lake.storages().some(({ storage }) => storage.name === name && storage.kind !== 'postgres')) return;
  throw noSuch('Warehouse', `There is no warehouse "${name}". A storage's name may be given, or none.`);
}

function callerOf(identity: Identity): string {
  return identity.kind === 'token' ? identity.id : 'person';
}

async function identityOf({ tokens }: Services, request: Request): Promise<Identity> {
  const [, text] = /^Bearer +(\S+)$/i.exec(request.headers.authorization ?? '') ?? [];
  const identity = text === undefined ? undefined : await tokens.identify(text);
  if (!identity) throw notAuthorized(text === undefined ? 'A bearer token is needed; tokens are made under Connect.' : 'The token is not known, expired, or was revoked.');
  return identity;
}

function bodyOf(request: Request, raw: string): unknown {
  if (raw === '' || request.method === 'GET' || request.method === 'HEAD' || request.method === 'DELETE') return {};
  try {
    return parseJson(raw);
  } catch (error) {
    throw badRequest(`The request body cannot be read: ${faultWords(error)}.`);
  }
}

/** OAuth 2, client credentials (RFC 6749, 4.4) and token exchange (RFC 8693), as clients of the protocol ask for them. */
async function issueSession({ tokens }: Services, response: Response): Promise<void> {
  const form = new URLSearchParams(localsOf(response).raw);
  const refuse = (status: number, error: string, description: string) => void response.status(status).json({ error, error_description: description });
  const [, basic = ''] = /^Basic +(\S+)$/i.exec(response.req.headers.authorization ?? '') ?? [];
  const [basicId = '', basicSecret = ''] = Buffer.from(basic, 'base64').toString('utf8').split(/:(.*)/s);
  const grant = form.get('grant_type');
  const text = grant === 'client_credentials'
    ? await tokens.exchange(form.get('client_id') ?? basicId, form.get('client_secret') ?? basicSecret)
    : grant === 'urn:ietf:params:oauth:grant-type:token-exchange' ? await exchanged(tokens, form.get('subject_token') ?? '') : null;
  if (text === null) return refuse(400, 'unsupported_grant_type', 'client_credentials and token exchange are supported.');
  if (text === undefined) return refuse(401, 'invalid_client', 'The credentials are not known, expired, or were revoked.');
  response.setHeader('cache-control', 'no-store');
  response.json({ access_token: text, token_type: 'bearer', expires_in: SESSION_SECONDS, issued_token_type: 'urn:ietf:params:oauth:token-type:access_token' });
}

async function exchanged(tokens: Services['tokens'], subject: string): Promise<string | undefined> {
  const identity = await tokens.identify(subject);
  return identity?.kind === 'token' ? tokens.short(identity.id) : undefined;
}

/** Snapshot ids have 63 bits, so bodies are written without loss. */
function send(response: Response, status: number, body: unknown): void {
  response.status(status).type('json').send(stringifyJson(body));
}

function protocolRouter(services: Services): Router {
  const router = Router({ mergeParams: true });
  const namespaces = new IcebergNamespaces(services);
  const tables = new IcebergTables(services);
  const views = new IcebergViews(services);
  const spaceOf = (request: Request) => namespaceOfPath(request.params.namespace as string);
  const pageAsked = (request: Request) => checked<{ pageToken?: string; pageSize?: number; parent?: string; snapshots?: 'all' | 'refs'; purgeRequested?: boolean }>(requests.page, request.query);
  const mustHave = (response: Response, namespace: string) => namespaces.find(localsOf(response).identity, namespace);

  router.get('/namespaces', async (request, response) => {
    const { parent, ...asked } = pageAsked(request);
    const found = await namespaces.list(localsOf(response).identity, parent ? namespaceOfPath(parent) : undefined);
    const { page, next } = pageOf(found, (levels) => levels.join('.'), asked);
    send(response, 200, { namespaces: page, 'next-page-token': next });
  });
  router.post('/namespaces', async (_request, response) => {
    const { identity, body } = localsOf(response);
    const { namespace, properties } = checked<{ namespace: string[]; properties: Record<string, string> }>(requests.createNamespace, body);
    send(response, 200, await namespaces.create(identity, namespace, properties));
  });
  router.head('/namespaces/:namespace', async (request, response) => {
    await mustHave(response, spaceOf(request));
    response.status(204).end();
  });
  router.get('/namespaces/:namespace', async (request, response) => {
    send(response, 200, await namespaces.load(localsOf(response).identity, spaceOf(request)));
  });
  router.delete('/namespaces/:namespace', async (request, response) => {
    await namespaces.drop(localsOf(response).identity, spaceOf(request));
    response.status(204).end();
  });
  router.post('/namespaces/:namespace/properties', async (request, response) => {
    const { identity, body } = localsOf(response);
    send(response, 200, await namespaces.changeProperties(identity, spaceOf(request), checked(requests.changeProperties, body)));
  });

  router.get('/namespaces/:namespace/tables', async (request, response) => {
    await mustHave(response, spaceOf(request));
    const { page, next } = pageOf(await tables.list(localsOf(response).identity, spaceOf(request)), ({ name }) => name, pageAsked(request));
    send(response, 200, { identifiers: page, 'next-page-token': next });
  });
  const sendTable = (request: Request, response: Response, loaded: LoadedTable, snapshots: 'all' | 'refs' = 'all') => {
    const storage = services.lake.storageOf(loaded.relation);
    const wantsKeys = String(request.headers['x-iceberg-access-delegation'] ?? '').includes('vended-credentials');
    return vendedCredentials(services, localsOf(response).identity, loaded.relation, storage, wantsKeys).then((credentials) => {
      if (loaded.metadataLocation !== '') response.setHeader('etag', etagOf(loaded, snapshots));
      send(response, 200, {
        ...(loaded.metadataLocation === '' ? {} : { 'metadata-location': loaded.metadataLocation }), metadata: metadataFor(loaded, snapshots),
        config: { ...clientConfig(storage), ...credentials[0]?.config }, ...(credentials.length > 0 ? { 'storage-credentials': credentials } : {}),
      });
    });
  };
  router.post('/namespaces/:namespace/tables', async (request, response) => {
    const { identity, body, warehouse } = localsOf(response);
    await sendTable(request, response, await tables.create(identity, spaceOf(request), checked<CreateTable>(requests.createTable, body), warehouse));
  });
  router.post('/namespaces/:namespace/register', async (request, response) => {
    const { identity, body } = localsOf(response);
    await sendTable(request, response, await tables.register(identity, spaceOf(request), checked(requests.register, body)));
  });
  router.head('/namespaces/:namespace/tables/:table', async (request, response) => {
    await tables.relation(localsOf(response).identity, spaceOf(request), request.params.table as string);
    response.status(204).end();
  });
  router.get('/namespaces/:namespace/tables/:table', async (request, response) => {
    const { snapshots = 'all' } = pageAsked(request);
    const loaded = await tables.load(localsOf(response).identity, spaceOf(request), request.params.table as string);
    if (request.headers['if-none-match'] === etagOf(loaded, snapshots)) return void response.status(304).setHeader('etag', etagOf(loaded, snapshots)).end();
    await sendTable(request, response, loaded, snapshots);
  });
  router.get('/namespaces/:namespace/tables/:table/credentials', async (request, response) => {
    const { identity } = localsOf(response);
    const relation = await tables.relation(identity, spaceOf(request), request.params.table as string);
    demand(identity, 'read', relation);
    send(response, 200, { 'storage-credentials': await vendedCredentials(services, identity, relation, services.lake.storageOf(relation), true) });
  });
  router.post('/namespaces/:namespace/tables/:table', async (request, response) => {
    const { identity, body } = localsOf(response);
    const { metadata, metadataLocation } = await tables.commit(identity, spaceOf(request), request.params.table as string, checked<CommitTable>(requests.commit, body)).catch((error: unknown) => {
      throw unknownState(error, services.log);
    });
    send(response, 200, { 'metadata-location': metadataLocation, metadata });
  });
  router.delete('/namespaces/:namespace/tables/:table', async (request, response) => {
    await tables.drop(localsOf(response).identity, spaceOf(request), request.params.table as string, pageAsked(request).purgeRequested ?? false);
    response.status(204).end();
  });
  router.post('/namespaces/:namespace/tables/:table/metrics', async (request, response) => {
    const { identity, body } = localsOf(response);
    const relation = await tables.relation(identity, spaceOf(request), request.params.table as string);
    demand(identity, 'read', relation);
    const { 'report-type': kind } = checked<{ 'report-type': string }>(requests.metrics, body);
    services.log.info({ table: `${relation.namespace}.${relation.name}`, kind, report: body }, 'metrics of an outside engine');
    response.status(204).end();
  });
  router.post('/tables/rename', async (_request, response) => {
    const { identity, body } = localsOf(response);
    const { source, destination } = checked<{ source: TableIdentifier; destination: TableIdentifier }>(requests.rename, body);
    await tables.rename(identity, source, destination);
    response.status(204).end();
  });
  router.post('/transactions/commit', async (_request, response) => {
    const { identity, body } = localsOf(response);
    const { 'table-changes': changes } = checked<{ 'table-changes': (CommitTable & { identifier: TableIdentifier })[] }>(requests.transaction, body);
    await tables.transaction(identity, changes).catch((error: unknown) => {
      throw unknownState(error, services.log);
    });
    response.status(204).end();
  });

  const sendView = (response: Response, { metadata, metadataLocation }: LoadedView) => send(response, 200, { 'metadata-location': metadataLocation, metadata, config: {} });
  router.get('/namespaces/:namespace/views', async (request, response) => {
    await mustHave(response, spaceOf(request));
    const { page, next } = pageOf(await views.list(localsOf(response).identity, spaceOf(request)), ({ name }) => name, pageAsked(request));
    send(response, 200, { identifiers: page, 'next-page-token': next });
  });
  router.post('/namespaces/:namespace/views', async (request, response) => {
    const { identity, body, warehouse } = localsOf(response);
    const wanted = checked<{ name: string; schema: StructJson; 'view-version': ViewVersion; properties: Record<string, string> }>(requests.createView, body);
    sendView(response, await views.create(identity, spaceOf(request), wanted, warehouse));
  });
  router.head('/namespaces/:namespace/views/:view', async (request, response) => {
    await views.relation(localsOf(response).identity, spaceOf(request), request.params.view as string);
    response.status(204).end();
  });
  router.get('/namespaces/:namespace/views/:view', async (request, response) => {
    sendView(response, await views.load(localsOf(response).identity, spaceOf(request), request.params.view as string));
  });
  router.post('/namespaces/:namespace/views/:view', async (request, response) => {
    const { identity, body } = localsOf(response);
    sendView(response, await views.replace(identity, spaceOf(request), request.params.view as string, checked<{ requirements: { type: string }[]; updates: ViewUpdate[] }>(requests.replaceView, body)));
  });
  router.delete('/namespaces/:namespace/views/:view', async (request, response) => {
    await views.drop(localsOf(response).identity, spaceOf(request), request.params.view as string);
    response.status(204).end();
  });
  router.post('/views/rename', async (_request, response) => {
    const { identity, body } = localsOf(response);
    const { source, destination } = checked<{ source: TableIdentifier; destination: TableIdentifier }>(requests.rename, body);
    await views.rename(identity, source, destination);
    response.status(204).end();
  });
  return router;
}

