/** Keys for a while that reach one table's files alone, for clients that ask for them ("storage-credentials"). */
import { AssumeRoleCommand, STSClient } from '@aws-sdk/client-sts';
import { joinPath, normalPath } from '../../core/storage/paths';
import { mayDo, type Identity } from '../access/access';
import type { Relation } from '../catalog/relations';
import type { OpenStorage } from '../lake/lake';
import type { Services } from '../services';
import { keysOfEnvironment, type S3Keys, type S3Settings } from '../storage/s3-store';

export interface StorageCredential {
  prefix: string;
  config: Record<string, string>;
}

const SECONDS = 3600;
/** Object stores that know no roles take any name. */
const ROLE = 'arn:aws:iam::000000000000:role/table-access';

/** None where the client did not ask, where files lie in a folder of this machine, or where the store gives no keys for a while. */
export async function vendedCredentials({ lake, log }: Pick<Services, 'lake' | 'log'>, identity: Identity, relation: Relation, { storage, store }: OpenStorage, isWanted: boolean): Promise<StorageCredential[]> {
  if (!isWanted || storage.kind !== 's3') return [];
  const settings = storage.settings as S3Settings;
  const keys = storage.secret === null ? keysOfEnvironment(process.env) : lake.secrets.open<S3Keys>(storage.secret);
  const place = joinPath(settings.bucket, normalPath(settings.prefix), relation.location ?? '');
  const actions = ['s3:GetObject', ...(mayDo(identity, 'write', relation) ? ['s3:PutObject', 's3:DeleteObject'] : [])];
  const policy = { Version: '2012-10-17', Statement: [{ Effect: 'Allow', Action: actions, Resource: `arn:aws:s3:::${place}/*` }, { Effect: 'Allow', Action: ['s3:ListBucket'], Resource: `arn:aws:s3:::${settings.bucket}` }] };
  const client = new STSClient({ endpoint: settings.endpoint, region: settings.region, credentials: keys, maxAttempts: 2 });
  try {
    const { Credentials: made } = await client.send(new AssumeRoleCommand({ RoleArn: ROLE, RoleSessionName: `harbor-${identity.kind === 'token' ? identity.id : 'person'}`, Policy: JSON.stringify(policy), DurationSeconds: SECONDS }));
    if (!made) return [];
    return [{
      prefix: `${store.uri}/${relation.location ?? ''}`,
      config: {
        's3.access-key-id': made.AccessKeyId!, 's3.secret-access-key': made.SecretAccessKey!, 's3.session-token': made.SessionToken!, 's3.session-token-expires-at-ms': String(made.Expiration!.getTime()),
        's3.endpoint': settings.endpoint, 's3.region': settings.region, 's3.path-style-access': String(settings.addressing === 'path'),
      },
    }];
  } catch (error) {
    log.warn({ err: error, storage: storage.name }, 'the store gave no keys for a while');
    return [];
  } finally {
    client.destroy();
  }
}
