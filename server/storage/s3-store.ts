/** An S3-compatible object store, through the official client. Refusals name the right that is missing. */
import { createReadStream, createWriteStream } from 'node:fs';
import { readFile, rm, stat } from 'node:fs/promises';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { setTimeout as wait } from 'node:timers/promises';
import { CopyObjectCommand, DeleteObjectCommand, GetObjectCommand, HeadObjectCommand, ListObjectsV2Command, PutObjectCommand, S3Client, type ListObjectsV2CommandOutput } from '@aws-sdk/client-s3';
import { Upload } from '@aws-sdk/lib-storage';
import { LakeError } from '../../core/errors';
import type { FolderPage, ObjectInfo } from '../../core/storage/object-store';
import { joinPath, normalPath } from '../../core/storage/paths';
import type { LakeStore } from './lake-store';

export interface S3Settings {
  endpoint: string;
  region: string;
  bucket: string;
  /** Inside the bucket; '' for all of it. */
  prefix: string;
  /** Whether the bucket's name stands in the path or before the host. */
  addressing: 'path' | 'host';
}

export interface S3Keys {
  accessKeyId: string;
  secretAccessKey: string;
  sessionToken?: string;
}

/** The keys that the server's own environment gives. Fails naming the variables that are missing. */
export function keysOfEnvironment(env: NodeJS.ProcessEnv): S3Keys {
  const { AWS_ACCESS_KEY_ID: accessKeyId, AWS_SECRET_ACCESS_KEY: secretAccessKey, AWS_SESSION_TOKEN: sessionToken } = env;
  if (!accessKeyId || !secretAccessKey) throw new LakeError('refused', "The server's environment has no keys: AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY are not both set.");
  return { accessKeyId, secretAccessKey, ...(sessionToken ? { sessionToken } : {}) };
}

const ATTEMPTS = 6;
const CONNECT_MS = 5000;
const ANSWER_MS = 60_000;
/** Files over this are sent in parts. */
const PART_BYTES = 8 * 1024 * 1024;

export class S3Store implements LakeStore {
  readonly uri: string;
  readonly #client: S3Client;
  readonly #prefix: string;

  /** `keys` is asked at the first call, so that a store whose keys are missing can still be shown. */
  constructor(
    readonly settings: S3Settings,
    keys: () => S3Keys,
  ) {
    // The client would warn on every start that a later version of it wants a later Node.js.
    process.env.AWS_SDK_JS_NODE_VERSION_SUPPORT_WARNING_DISABLED = 'true';
    const prefix = normalPath(settings.prefix);
    this.uri = `s3://${joinPath(settings.bucket, prefix)}`;
    this.#prefix = prefix === '' ? '' : `${prefix}/`;
    this.#client = new S3Client({
      endpoint: settings.endpoint,
      region: settings.region,
      forcePathStyle: settings.addressing === 'path',
      credentials: async () => keys(),
      maxAttempts: ATTEMPTS,
      // Stores that speak the protocol but not its newest checksums are served too.
      requestChecksumCalculation: 'WHEN_REQUIRED',
      responseChecksumValidation: 'WHEN_REQUIRED',
      requestHandler: { connectionTimeout: CONNECT_MS, requestTimeout: ANSWER_MS },
    });
  }

  async list(folder: string, signal?: AbortSignal): Promise<ObjectInfo[]> {
    const found: ObjectInfo[] = [];
    for await (const page of this.#pages(folder, undefined)) {
      signal?.throwIfAborted();
      found.push(...this.#files(page));
    }
    return found;
  }

  async listFolder(folder: string): Promise<FolderPage> {
    const files: ObjectInfo[] = [];
    const folders: string[] = [];
    const start = this.#folderKey(folder);
    for await (const page of this.#pages(folder, '/')) {
      files.push(...this.#files(page));
      folders.push(...(page.CommonPrefixes ?? []).map((each) => each.Prefix!.slice(start.length, -1)));
    }
    return { folders: folders.sort(), files };
  }

  async head(path: string): Promise<ObjectInfo | undefined> {
    if (normalPath(path) === '') return undefined;
    const found = await this.#call('read', path, () => this.#client.send(new HeadObjectCommand(this.#object(path)))).catch(nothingIfMissing);
    return found && { path: normalPath(path), bytes: found.ContentLength ?? 0, modified: found.LastModified?.getTime() ?? 0, ...(found.ETag ? { etag: found.ETag } : {}) };
  }

  async read(path: string, range?: { start: number; end: number }): Promise<Uint8Array> {
    if (range && range.end <= range.start) return new Uint8Array();
    return this.#again(async () => {
      try {
        const answer = await this.#call('read', path, () => this.#client.send(new GetObjectCommand({ ...this.#object(path), ...(range ? { Range: `bytes=${range.start}-${range.end - 1}` } : {}) })));
        return await answer.Body!.transformToByteArray();
      } catch (error) {
        // The range begins at or after the file's end.
        if (statusOf(error) === 416) return new Uint8Array();
        throw error;
      }
    });
  }

  async put(path: string, bytes: Uint8Array): Promise<void> {
    await this.#call('write', path, () => this.#client.send(new PutObjectCommand({ ...this.#object(path), Body: bytes })));
  }

  async putIfAbsent(path: string, bytes: Uint8Array): Promise<boolean> {
    for (;;) {
      try {
        await this.#call('write', path, () => this.#client.send(new PutObjectCommand({ ...this.#object(path), Body: bytes, IfNoneMatch: '*' })));
        return true;
      } catch (error) {
        // Somebody writes at this moment; who wins is known in a moment.
        if (statusOf(error) === 409) await wait(50 + Math.random() * 100);
        else if (statusOf(error) !== 412) throw error;
        // A repeated request is refused for its own success: what stands there tells whose it is.
        else return attemptsOf(error) > 1 && Buffer.compare(await this.read(path), bytes) === 0;
      }
    }
  }

  async delete(path: string): Promise<void> {
    await this.#call('delete', path, () => this.#client.send(new DeleteObjectCommand(this.#object(path)))).catch(nothingIfMissing);
  }

  async putFile(path: string, localFile: string): Promise<void> {
    const { size } = await stat(localFile);
    if (size <= PART_BYTES) {
      await this.put(path, await readFile(localFile));
    } else {
      await this.#call('write', path, () => new Upload({ client: this.#client, params: { ...this.#object(path), Body: createReadStream(localFile) }, partSize: PART_BYTES, queueSize: 4 }).done());
    }
    await rm(localFile, { force: true });
  }

  /** A cut connection is taken up where it broke off, as long as the file is the same. */
  async fetchFile(path: string, localFile: string): Promise<void> {
    let written = 0;
    let etag: string | undefined;
    await this.#again(async () => {
      const answer = await this.#call('read', path, () => this.#client.send(new GetObjectCommand({ ...this.#object(path), ...(written > 0 ? { Range: `bytes=${written}-`, IfMatch: etag } : {}) })));
      etag ??= answer.ETag;
      const body = answer.Body as Readable;
      try {
        // At a place and not at the end: a write that was under way when the answer broke off may still come.
        await pipeline(body, createWriteStream(localFile, written > 0 ? { flags: 'r+', start: written } : {}));
      } catch (error) {
        written = (await stat(localFile).catch(() => ({ size: 0 }))).size;
        throw error;
      }
    });
  }

  async hasFolder(folder: string): Promise<boolean> {
    if (normalPath(folder) === '') return true;
    const page = await this.#listPage(folder, undefined, undefined, 1);
    return (page.KeyCount ?? 0) > 0;
  }

  /** An empty object whose name ends in a slash stands for an empty folder, by common practice. */
  async makeFolder(folder: string): Promise<void> {
    await this.#call('write', folder, () => this.#client.send(new PutObjectCommand({ Bucket: this.settings.bucket, Key: this.#folderKey(folder), Body: new Uint8Array() })));
  }

  async move(from: string, to: string): Promise<void> {
    const source = `${this.settings.bucket}/${this.#key(from)}`.split('/').map(encodeURIComponent).join('/');
    await this.#call('write', to, () => this.#client.send(new CopyObjectCommand({ ...this.#object(to), CopySource: source })));
    await this.delete(from);
  }

  async removeFolder(folder: string): Promise<void> {
    for await (const page of this.#pages(folder, undefined)) {
      for (const { Key } of page.Contents ?? []) if (Key!.endsWith('/')) await this.#call('delete', folder, () => this.#client.send(new DeleteObjectCommand({ Bucket: this.settings.bucket, Key })));
    }
  }

  async *#pages(folder: string, delimiter: '/' | undefined): AsyncGenerator<ListObjectsV2CommandOutput> {
    let next: string | undefined;
    do {
      const page = await this.#listPage(folder, delimiter, next);
      yield page;
      next = page.IsTruncated ? page.NextContinuationToken : undefined;
    } while (next !== undefined);
  }

  #listPage(folder: string, delimiter: '/' | undefined, token: string | undefined, most?: number): Promise<ListObjectsV2CommandOutput> {
    return this.#call('list', folder, () => this.#client.send(new ListObjectsV2Command({ Bucket: this.settings.bucket, Prefix: this.#folderKey(folder), Delimiter: delimiter, ContinuationToken: token, MaxKeys: most })));
  }

  #files(page: ListObjectsV2CommandOutput): ObjectInfo[] {
    return (page.Contents ?? []).filter((each) => !each.Key!.endsWith('/'))
      .map((each) => ({ path: each.Key!.slice(this.#prefix.length), bytes: each.Size ?? 0, modified: each.LastModified?.getTime() ?? 0, ...(each.ETag ? { etag: each.ETag } : {}) }));
  }

  #key(path: string): string {
    const inside = normalPath(path);
    if (inside === '') throw new LakeError('bad-request', 'A file needs a name.');
    return this.#prefix + inside;
  }

  #folderKey(folder: string): string {
    const inside = normalPath(folder);
    return inside === '' ? this.#prefix : `${this.#prefix}${inside}/`;
  }

  #object(path: string): { Bucket: string; Key: string } {
    return { Bucket: this.settings.bucket, Key: this.#key(path) };
  }

  /** The client repeats requests; a body that breaks off while it is read it does not. */
  async #again<T>(work: () => Promise<T>): Promise<T> {
    for (let attempt = 1; ; attempt++) {
      try {
        return await work();
      } catch (error) {
        if (error instanceof LakeError || attempt >= ATTEMPTS || statusOf(error) !== undefined) throw error;
        await wait(50 * 2 ** attempt * (0.5 + Math.random()));
      }
    }
  }

  async #call<T>(doing: Doing, path: string, work: () => Promise<T>): Promise<T> {
    try {
      return await work();
    } catch (error) {
      throw this.#explained(error, doing, path);
    }
  }

  #explained(error: unknown, doing: Doing, path: string): unknown {
    if (error instanceof LakeError) return error;
    const status = statusOf(error);
    const { name = '', message = '' } = error as Error;
    const { bucket, endpoint } = this.settings;
    if (name === 'NoSuchBucket') return new LakeError('not-found', `There is no bucket "${bucket}" at ${endpoint}.`);
    if (status === 404) return new LakeError('not-found', `There is no file or folder ${path}.`, { path });
    if (name === 'InvalidAccessKeyId' || name === 'SignatureDoesNotMatch') return new LakeError('refused', `The store at ${endpoint} does not accept the keys (${name}).`, { hint: 'Give the storage its keys again.' });
    if (status === 403 || status === 401) return new LakeError('refused', `The keys may not ${doing} in the bucket "${bucket}": the right ${RIGHTS[doing]} is missing.`, { path });
    if (status === undefined && isNetwork(error)) return new LakeError('limit', `The store at ${endpoint} does not answer (${(error as { code?: string }).code ?? name}).`, { hint: 'It was tried several times. Check the address and that the store is up.' });
    if (status !== undefined && status >= 500) return new LakeError('limit', `The store at ${endpoint} failed with ${status} (${name || message}), after ${attemptsOf(error)} tries.`);
    return error;
  }
}

type Doing = 'list' | 'read' | 'write' | 'delete';
const RIGHTS: Record<Doing, string> = { list: 's3:ListBucket', read: 's3:GetObject', write: 's3:PutObject', delete: 's3:DeleteObject' };

function statusOf(error: unknown): number | undefined {
  return (error as { $metadata?: { httpStatusCode?: number } }).$metadata?.httpStatusCode;
}

function attemptsOf(error: unknown): number {
  return (error as { $metadata?: { attempts?: number } }).$metadata?.attempts ?? 1;
}

function isNetwork(error: unknown): boolean {
  const { code, name } = error as { code?: string; name?: string };
  return code !== undefined ? /^E[A-Z]+$/.test(code) : name === 'TimeoutError';
}

function nothingIfMissing(error: unknown): undefined {
  if (error instanceof LakeError && error.kind === 'not-found' && error.details.path !== undefined) return undefined;
  throw error;
}
