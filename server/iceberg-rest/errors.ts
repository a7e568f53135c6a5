/** Errors in the form that the open REST catalog protocol publishes: `{ error: { message, type, code } }`. */
import type { ErrorRequestHandler } from 'express';
import Joi from 'joi';
import type { Logger } from 'pino';
import { LakeError, type ErrorKind } from '../../core/errors';

/** An error with a type of the protocol's own. */
export class ProtocolError extends Error {
  constructor(
    readonly code: number,
    readonly type: string,
    message: string,
  ) {
    super(message);
  }
}

export const noSuch = (what: 'Namespace' | 'Table' | 'View' | 'Warehouse', message: string) => new ProtocolError(404, `NoSuch${what}Exception`, message);
export const alreadyExists = (message: string) => new ProtocolError(409, 'AlreadyExistsException', message);
export const badRequest = (message: string) => new ProtocolError(400, 'BadRequestException', message);
export const notAuthorized = (message: string) => new ProtocolError(401, 'NotAuthorizedException', message);

const KINDS: Record<ErrorKind, [code: number, type: string]> = {
  'bad-request': [400, 'BadRequestException'],
  'not-found': [404, 'NoSuchTableException'],
  'bad-file': [400, 'BadRequestException'],
  unsupported: [400, 'UnsupportedOperationException'],
  conflict: [409, 'CommitFailedException'],
  'unknown-caller': [401, 'NotAuthorizedException'],
  refused: [403, 'ForbiddenException'],
  limit: [413, 'BadRequestException'],
  cancelled: [400, 'BadRequestException'],
  unavailable: [503, 'ServiceUnavailableException'],
};

export function asProtocolError(error: unknown, log: Logger): ProtocolError {
  if (error instanceof ProtocolError) return error;
  if (error instanceof LakeError) {
    const [code, type] = KINDS[error.kind];
    return new ProtocolError(code, type, [error.message, error.details.hint].filter(Boolean).join(' '));
  }
  if (error instanceof Joi.ValidationError) return badRequest(error.details.map((each) => each.message).join('; '));
  const status = (error as { status?: number }).status;
  if (status !== undefined && status >= 400 && status < 500) return new ProtocolError(status, 'BadRequestException', status === 413 ? 'The request body is too large.' : 'The request is not well formed.');
  log.error({ err: error }, 'unexpected error of the catalog protocol');
  return new ProtocolError(500, 'InternalServerError', 'The server met an unexpected error; its log has more.');
}

export function protocolErrorHandler(log: Logger): ErrorRequestHandler {
  return (error: unknown, _request, response, next) => {
    if (response.headersSent) return next(error);
    const { code, type, message } = asProtocolError(error, log);
    response.status(code).json({ error: { message, type, code } });
  };
}

/** A commit that may or may not have happened: the client must not clean up ("CommitStateUnknownException"). */
export function unknownState(error: unknown, log: Logger): unknown {
  if (error instanceof ProtocolError || error instanceof LakeError || error instanceof Joi.ValidationError) return error;
  log.error({ err: error }, 'a commit ended in an unknown state');
  return new ProtocolError(500, 'CommitStateUnknownException', 'The server met an unexpected error while it committed; whether the commit happened is not known.');
}
