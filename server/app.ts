/** The HTTP side: guard, health at once, the API when its services are there, the pages. */
import { createRequire } from 'node:module';
import path from 'node:path';
import compression from 'compression';
import express, { Router, type Express } from 'express';
import helmet from 'helmet';
import { pinoHttp } from 'pino-http';
import type { Logger } from 'pino';
import { accessRoutes } from './api/access-routes';
import { catalogRoutes } from './api/catalog-routes';
import { crawlRoutes } from './api/crawl-routes';
import { deltaRoutes } from './api/delta-routes';
import { fileRoutes } from './api/file-routes';
import { conversionRoutes } from './api/conversion-routes';
import { icebergRoutes } from './api/iceberg-routes';
import { knowledgeRoutes } from './api/knowledge-routes';
import { loadRoutes } from './api/load-routes';
import { writeRoutes } from './api/write-routes';
import { queryRoutes } from './api/query-routes';
import { readingRoutes } from './api/reading-routes';
import { storageRoutes } from './api/storage-routes';
import { systemRoutes } from './api/system-routes';
import { guard } from './http/guard';
import { problemHandler, sendProblem } from './http/problems';
import { callerOf } from './access/caller';
import { mount, openApi, type Route } from './http/routes';
import { icebergRouter } from './iceberg-rest/router';
import { programFile } from './program-files';
import type { Readiness } from './readiness';
import type { Services } from './services';

/** Events must reach the page at once, not when a buffer is full, and answers to commits are waited for by engines. Routers shorten `url` by the time this is asked. */
function isPacked({ originalUrl, method }: express.Request): boolean {
  return !originalUrl.startsWith('/api/events') && !(originalUrl.startsWith('/iceberg/') && method === 'POST');
}

export const VERSION = '0.1.0';

export interface App {
  express: Express;
  /** Opens the API once its services are there. */
  serve(services: Services, isUp: () => boolean): void;
  /** When no request is under way any more, or the time is over. New ones are turned away from then on. */
  drained(millis: number): Promise<void>;
}

export function createApp(options: { hosts: ReadonlySet<string> | 'any'; log: Logger; readiness: Readiness }): App {
  const app = express();
  const api = Router();
  const protocol = Router();
  let routes: Route[] = [];
  let isCatalogUp = () => true;
  const underWay = new Set<express.Response>();
  let isStopping = false;
  app.disable('x-powered-by');
  app.use(guard(options.hosts));
  app.use(helmet({ contentSecurityPolicy: { directives: { defaultSrc: ["'self'"], styleSrc: ["'self'", "'unsafe-inline'"], imgSrc: ["'self'", 'data:'], upgradeInsecureRequests: null } }, strictTransportSecurity: false }));
  app.use(pinoHttp({ logger: options.log, autoLogging: { ignore: (request) => !request.url?.startsWith('/api/') || request.url === '/api/events' }, serializers: { req: (request: { method: string; url: string }) => ({ method: request.method, url: request.url }), res: (response: { statusCode: number }) => ({ status: response.statusCode }) }, customLogLevel: () => 'debug' }));
  app.use((request, response, next) => {
    // Events go on for as long as somebody listens.
    if (request.path !== '/api/events') {
      underWay.add(response);
      response.once('close', () => underWay.delete(response));
    }
    next();
  });
  app.use(compression({ filter: (request, response) => isPacked(request) && compression.filter(request, response) }));
  app.get('/api/health', (_request, response) => {
    const { state } = options.readiness;
    if (state.ready && !isCatalogUp()) response.status(503).json({ status: 'starting', version: VERSION, doing: 'Starting the catalog again', done: 0, total: 1 });
    else if (state.ready) response.json({ status: 'ok', version: VERSION });
    else response.status(503).json({ status: 'starting', version: VERSION, doing: state.doing, done: state.done, total: state.total });
  });
  app.get('/api/openapi.json', (_request, response) => {
    response.json(openApi(routes, VERSION));
  });
  app.use('/api/docs', docs());
  app.use('/api', (_request, response, next) => {
    if (isStopping) return sendProblem(response, 503, 'Stopping', 'The server is stopping.');
    if (routes.length > 0) return next();
    const { state } = options.readiness;
    sendProblem(response, 503, 'Starting', state.ready ? 'Starting.' : `${state.doing} (${state.done} of ${state.total}).`);
  });
  app.use('/iceberg', (_request, response, next) => {
    if (routes.length > 0) return next();
    response.status(503).json({ error: { message: 'The server is starting.', type: 'ServiceUnavailableException', code: 503 } });
  });
  app.use('/iceberg', protocol);
  app.use('/api', express.json({ limit: '20mb' }), api);
  app.use('/api', (request, response) => sendProblem(response, 404, 'Not found', `There is no ${request.method} ${request.baseUrl}${request.path}. The API is described at /api/docs.`));
  app.use(express.static(programFile('web'), { index: false, setHeaders: (response, file) => response.setHeader('cache-control', file.includes(`${path.sep}assets${path.sep}`) ? 'public, max-age=31536000, immutable' : 'no-cache') }));
  app.get(/.*/, (_request, response) => response.sendFile(path.join(programFile('web'), 'index.html')));
  app.use(problemHandler(options.log));
  return {
    express: app,
    async drained(millis) {
      isStopping = true;
      const until = Date.now() + millis;
      while (underWay.size > 0 && Date.now() < until) await new Promise((resolve) => setTimeout(resolve, 20));
    },
    serve(services, isUp) {
      isCatalogUp = isUp;
      routes = [...storageRoutes(services), ...fileRoutes(services), ...readingRoutes(services), ...knowledgeRoutes(services), ...crawlRoutes(services), ...catalogRoutes(services), ...deltaRoutes(services), ...icebergRoutes(services), ...conversionRoutes(services), ...loadRoutes(services), ...writeRoutes(services), ...queryRoutes(services), ...accessRoutes(services), ...systemRoutes(services)];
      protocol.use(icebergRouter(services));
      mount(api, routes, (request) => callerOf(request, services));
    },
  };
}

/** The page on which the API can be read. */
function docs(): Router {
  const router = Router();
  router.get('/', (_request, response) => {
    response.type('html').send(`<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Kind Harbor API</title><link rel="stylesheet" href="/api/docs/swagger-ui.css"></head>
      <body><div id="swagger-ui"></div><script src="/api/docs/swagger-ui-bundle.js"></script><script src="/api/docs/start.js"></script></body></html>`);
  });
  router.get('/start.js', (_request, response) => {
    response.type('js').send("window.onload = () => SwaggerUIBundle({ url: '/api/openapi.json', dom_id: '#swagger-ui' });");
  });
  // Found by its place: importing the package would load the whole of it at every start.
  router.use(express.static(path.dirname(createRequire(import.meta.url).resolve('swagger-ui-dist/package.json')), { index: false }));
  return router;
}
