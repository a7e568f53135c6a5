/** Who asks over HTTP: whom the token in the request is for, or the person at this machine where there is none. */
import type { Request } from 'express';
import { LakeError } from '../../core/errors';
import { isLoopback } from '../config';
import type { Services } from '../services';
import type { Identity } from './access';

/**
 * Fails with `unknown-caller`. The person is known by the address of the connection, never by what a request says of itself;
 * the guard has seen to it that no page of another site sent it.
 */
export async function callerOf(request: Request, { tokens, config }: Pick<Services, 'tokens' | 'config'>): Promise<Identity> {
  const header = request.headers.authorization;
  if (header === undefined) {
    if (!config.needsToken && isLoopback(request.socket.remoteAddress ?? '')) return { kind: 'person', name: config.person };
    throw new LakeError('unknown-caller', 'Every request to this server carries a token, and this one has none.', { hint: 'Send it as the header "Authorization: Bearer …". Tokens are issued on the page Access.' });
  }
  const identity = await tokens.identify(/^bearer\s+(\S+)$/i.exec(header)?.[1] ?? '');
  if (!identity) throw new LakeError('unknown-caller', 'The token is not known here, has expired or was revoked.', { hint: 'Tokens are issued on the page Access.' });
  return identity;
}
