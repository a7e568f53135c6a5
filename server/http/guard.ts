/** A page of another site must not drive this server through the user's browser. */
import type { RequestHandler } from 'express';
import { sendProblem } from './problems';

/**
 * Requests must name this server in `Host` (else another site's name may have been pointed at us), and come from no page
 * but our own, which browsers tell by `Origin` and `Sec-Fetch-Site`. `hosts` is `any` where every request needs a token: a
 * browser then sends nothing by itself that a stranger's page could make use of.
 */
export function guard(hosts: ReadonlySet<string> | 'any'): RequestHandler {
  return (request, response, next) => {
    const host = request.headers.host ?? '';
    if (hosts !== 'any' && !hosts.has(host.toLowerCase())) return sendProblem(response, 421, 'Not this server', `This server does not answer to the host "${host.slice(0, 100)}".`);
    const { origin } = request.headers;
    const site = request.headers['sec-fetch-site'];
    const isOurs = (origin === undefined || origin === `http://${host}`) && (site === undefined || site === 'same-origin' || site === 'none');
    if (!isOurs) return sendProblem(response, 403, 'Not allowed', 'Pages of other sites may not use this server.');
    next();
  };
}
