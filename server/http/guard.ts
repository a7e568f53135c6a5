/** A page of another site must not drive this server through the user's browser. */
import type { RequestHandler } from 'express';
import { sendProblem } from './problems';

/**
 * Requests must name this server in `Host` (else another site's name may have been pointed at us), and a browser's
 * `Origin`, where it sends one, must be our own.
 */
export function guard(hosts: ReadonlySet<string>): RequestHandler {
  return (request, response, next) => {
    const host = request.headers.host ?? '';
    if (!hosts.has(host.toLowerCase())) return sendProblem(response, 421, 'Not this server', `This server does not answer to the host "${host.slice(0, 100)}".`);
    const { origin } = request.headers;
    if (origin !== undefined && origin !== `http://${host}`) return sendProblem(response, 403, 'Not allowed', 'Pages of other sites may not use this server.');
    if (request.headers['sec-fetch-site'] === 'cross-site') return sendProblem(response, 403, 'Not allowed', 'Pages of other sites may not use this server.');
    next();
  };
}
