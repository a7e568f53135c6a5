/** Who asks over HTTP: whom the token in the request is for, or the person at this machine where there is none. */
import type { Request } from 'express';
import { LakeError } from '../../core/errors';
import type { Services } from '../services';
import type { Identity } from './access';

export async function callerOf(request: Request, { tokens, config }: Pick<Services, 'tokens' | 'config'>): Promise<Identity> {
  const header = request.headers.authorization;
  if (header === undefined) return { kind: 'person', name: config.person };
  const identity = await tokens.identify(/^bearer\s+(\S+)$/i.exec(header)?.[1] ?? '');
  if (!identity) throw new LakeError('unknown-caller', 'The token is not known here, has expired or was revoked.', { hint: 'Tokens are issued on the page Access.' });
  return identity;
}
