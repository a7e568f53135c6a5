/** Errors as RFC 9457 problem documents. What is not ours to show stays in the log. */
import type { ErrorRequestHandler, Response } from 'express';
import Joi from 'joi';
import type { Logger } from 'pino';
import { hintOf, LakeError, type ErrorKind } from '../../core/errors';

const KINDS: Record<ErrorKind, { status: number; title: string }> = {
  'bad-request': { status: 400, title: 'The request is not right' },
  'not-found': { status: 404, title: 'Not found' },
  'bad-file': { status: 422, title: 'A file cannot be read' },
  unsupported: { status: 422, title: 'Not supported' },
  conflict: { status: 409, title: 'Somebody else came first' },
  'unknown-caller': { status: 401, title: 'Not known' },
  refused: { status: 403, title: 'Not allowed' },
  limit: { status: 413, title: 'A limit was reached' },
  cancelled: { status: 409, title: 'Cancelled' },
  unavailable: { status: 503, title: 'Not available just now' },
};

export function sendProblem(response: Response, status: number, title: string, detail: string, more: Record<string, unknown> = {}): void {
  response.status(status).type('application/problem+json').json({ type: 'about:blank', title, status, detail, ...more });
}

function withHint(error: LakeError): { hint?: string } {
  const hint = hintOf(error);
  return hint === undefined ? {} : { hint };
}

export function problemHandler(log: Logger): ErrorRequestHandler {
  return (error: unknown, _request, response, next) => {
    if (response.headersSent) return next(error);
    if (error instanceof LakeError) {
      const { status, title } = KINDS[error.kind];
      return sendProblem(response, status, title, error.message, { kind: error.kind, ...error.details, ...withHint(error) });
    }
    if (error instanceof Joi.ValidationError) {
      return sendProblem(response, 400, KINDS['bad-request'].title, error.details.map((each) => each.message).join('; '), { kind: 'bad-request' });
    }
    const status = (error as { status?: number }).status;
    if (status !== undefined && status >= 400 && status < 500) return sendProblem(response, status, 'The request is not right', status === 413 ? 'The request body is too large.' : 'The request body is not valid JSON.');
    log.error({ err: error }, 'unexpected error');
    sendProblem(response, 500, 'An unexpected error', 'The server met an unexpected error; its log has more.');
  };
}
