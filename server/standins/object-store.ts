/**
 * A small S3-compatible object store for the demo and tests: buckets are folders of a folder. It honours signatures,
 * conditional writes, ranges, pages of listings, parts, and can be told to be slow, busy, broken or cut off.
 */
import { createHash, createHmac, randomUUID } from 'node:crypto';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { mkdirSync } from 'node:fs';
import path from 'node:path';
import type { ObjectInfo } from '../../core/storage/object-store';
import { BadBody, decodedBody } from './aws-chunked';
import { DiskStore } from '../storage/disk-store';

export type Right = 'list' | 'read' | 'write' | 'delete';

export interface StandInKeys {
  accessKeyId: string;
  secretAccessKey: string;
  rights: readonly Right[];
}

/** Every n-th request is answered so; 0 or nothing for never. */
export interface Faults {
  /** Before each answer. */
  delayMs?: number;
  /** 503 SlowDown. */
  throttleEvery?: number;
  /** 500 InternalError. */
  failEvery?: number;
  /** The body of an answer breaks off in its middle. */
  cutEvery?: number;
  /** The request is carried out, but its answer never arrives. */
  loseAnswerEvery?: number;
  /** As some older stores: conditions on writes are not looked at. */
  ignoreConditions?: boolean;
}

const PAGE = 1000;
/** A signed request may be so old. */
const SKEW_MS = 15 * 60_000;

export class ObjectStoreStandIn {
  readonly #server: Server;
  readonly #buckets = new Map<string, DiskStore>();
  readonly #uploads = new Map<string, Map<number, Buffer>>();
  readonly #writing = new Map<string, Promise<unknown>>();
  /** Keys for a while, by their id. */
  readonly #sessions = new Map<string, SessionKeys>();
  faults: Faults = {};
  /** Requests so far, by method. */
  readonly counts: Record<string, number> = {};
  #requests = 0;

  constructor(
    readonly folder: string,
    readonly keys: readonly StandInKeys[],
  ) {
    mkdirSync(folder, { recursive: true });
    this.#server = createServer((request, response) => void this.#serve(request, response));
  }

  /** Resolves to the endpoint. Port 0 takes any free one. */
  async listen(port: number): Promise<string> {
    await new Promise<void>((resolve, reject) => {
      this.#server.once('error', reject);
      this.#server.listen(port, '127.0.0.1', () => resolve());
    });
    return `http://127.0.0.1:${(this.#server.address() as AddressInfo).port}`;
  }

  addBucket(name: string): DiskStore {
    const root = path.join(this.folder, name);
    mkdirSync(root, { recursive: true });
    const store = new DiskStore(root);
    this.#buckets.set(name, store);
    return store;
  }

  close(): Promise<void> {
    return new Promise((resolve) => {
      this.#server.close(() => resolve());
      this.#server.closeAllConnections();
    });
  }

  async #serve(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const number = ++this.#requests;
    this.counts[request.method!] = (this.counts[request.method!] ?? 0) + 1;
    const every = (n: number | undefined) => n !== undefined && n > 0 && number % n === 0;
    try {
      const body = await bodyOf(request);
      if (this.faults.delayMs) await new Promise((resolve) => setTimeout(resolve, this.faults.delayMs));
      if (every(this.faults.throttleEvery)) return send(response, failure(503, 'SlowDown', 'Please reduce your request rate.'));
      if (every(this.faults.failEvery)) return send(response, failure(500, 'InternalError', 'We encountered an internal error.'));
      const answer = await this.#answer(request, body);
      if (every(this.faults.loseAnswerEvery)) return void response.socket?.destroy();
      if (every(this.faults.cutEvery) && answer.body && answer.body.length > 1) return cut(response, answer);
      send(response, answer);
    } catch (error) {
      send(response, error instanceof Refusal ? error.answer : failure(500, 'InternalError', 'We encountered an internal error.'));
    }
  }

  async #answer(request: IncomingMessage, body: Buffer): Promise<Answer> {
    const url = new URL(request.url!, 'http://store');
    const holder = this.#holderOf(request, url, body);
    if (request.method === 'POST' && url.pathname === '/') return this.#assumeRole(holder, new URLSearchParams(body.toString('utf8')));
    const [bucket, ...steps] = url.pathname.slice(1).split('/').map(decodeURIComponent);
    const store = this.#buckets.get(bucket!);
    if (!store) throw refusal(404, 'NoSuchBucket', 'The specified bucket does not exist');
    const key = steps.join('/');
    const need = (right: Right) => {
      const at = right === 'list' ? (url.searchParams.get('prefix') ?? '') : key;
      const isWithin = holder.within === undefined || `${bucket}/${at}`.startsWith(holder.within);
      if (!holder.rights.includes(right) || !isWithin) throw refusal(403, 'AccessDenied', 'Access Denied');
    };
    if (key === '') {
      need('list');
      return list(store, bucket!, url.searchParams);
    }
    switch (request.method) {
      case 'HEAD':
      case 'GET':
        need('read');
        return read(store, key, request);
      case 'PUT':
        need('write');
        return this.#inTurn(`${bucket}/${key}`, () => {
          const bytes = received(request, body);
          return url.searchParams.has('partNumber') ? this.#part(url.searchParams, bytes) : this.#put(store, key, request, bytes);
        });
      case 'POST':
        need('write');
        return url.searchParams.has('uploads') ? this.#startParts(bucket!, key) : this.#finishParts(store, bucket!, key, url.searchParams, body);
      case 'DELETE':
        need('delete');
        if (url.searchParams.has('uploadId')) this.#uploads.delete(url.searchParams.get('uploadId')!);
        else await store.delete(key.endsWith('/') ? `${key}${MARKER}` : key);
        return { status: 204, headers: {} };
      default:
        throw refusal(405, 'MethodNotAllowed', 'The specified method is not allowed against this resource.');
    }
  }

  async #put(store: DiskStore, key: string, request: IncomingMessage, body: Buffer): Promise<Answer> {
    const { 'if-none-match': ifNone, 'if-match': ifMatch, 'x-amz-copy-source': from } = request.headers as Record<string, string | undefined>;
    const inFile = key.endsWith('/') ? `${key}${MARKER}` : key;
    if (from !== undefined) {
      const [bucket, ...steps] = decodeURIComponent(from).replace(/^\//, '').split('/');
      const bytes = Buffer.from(await this.#buckets.get(bucket!)!.read(steps.join('/')));
      await store.put(inFile, bytes);
      return { status: 200, headers: {}, body: Buffer.from(`<CopyObjectResult><ETag>${etag(bytes)}</ETag></CopyObjectResult>`) };
    }
    if (!this.faults.ignoreConditions) {
      const there = await store.read(inFile).catch(() => undefined);
      if ((ifNone === '*' && there) || (ifMatch !== undefined && (!there || etag(there) !== ifMatch))) throw refusal(412, 'PreconditionFailed', 'At least one of the pre-conditions you specified did not hold');
    }
    await store.put(inFile, body);
    return { status: 200, headers: { etag: etag(body) } };
  }

  /** The part of the Security Token Service that gives keys for a while, narrowed by a policy to one place. */
  #assumeRole(holder: StandInKeys & { within?: string }, form: URLSearchParams): Answer {
    if (form.get('Action') !== 'AssumeRole') throw refusal(400, 'InvalidAction', 'The action is not supported.');
    const seconds = Math.min(3600, Math.max(1, Number(form.get('DurationSeconds') ?? 3600)));
    const { actions, within } = readPolicy(form.get('Policy') ?? '');
    const id = `STS${randomUUID().replaceAll('-', '').slice(0, 17).toUpperCase()}`;
    const session: SessionKeys = { accessKeyId: id, secretAccessKey: randomUUID(), token: randomUUID(), until: Date.now() + seconds * 1000, within, rights: holder.rights.filter((right) => actions.includes(right)) };
    this.#sessions.set(id, session);
    const body = `<AssumeRoleResponse xmlns="https://sts.amazonaws.com/doc/2011-06-15/"><AssumeRoleResult><Credentials><AccessKeyId>${id}</AccessKeyId><SecretAccessKey>${session.secretAccessKey}</SecretAccessKey><SessionToken>${session.token}</SessionToken><Expiration>${new Date(session.until).toISOString()}</Expiration></Credentials></AssumeRoleResult></AssumeRoleResponse>`;
    return { status: 200, headers: { 'content-type': 'text/xml' }, body: Buffer.from(body) };
  }

  #startParts(bucket: string, key: string): Answer {
    const id = randomUUID();
    this.#uploads.set(id, new Map());
    return { status: 200, headers: {}, body: Buffer.from(`<InitiateMultipartUploadResult><Bucket>${bucket}</Bucket><Key>${escape(key)}</Key><UploadId>${id}</UploadId></InitiateMultipartUploadResult>`) };
  }

  async #part(query: URLSearchParams, body: Buffer): Promise<Answer> {
    const parts = this.#uploads.get(query.get('uploadId') ?? '');
    if (!parts) throw refusal(404, 'NoSuchUpload', 'The specified upload does not exist.');
    parts.set(Number(query.get('partNumber')), body);
    return { status: 200, headers: { etag: etag(body) } };
  }

  async #finishParts(store: DiskStore, bucket: string, key: string, query: URLSearchParams, body: Buffer): Promise<Answer> {
    const id = query.get('uploadId') ?? '';
    const parts = this.#uploads.get(id);
    if (!parts) throw refusal(404, 'NoSuchUpload', 'The specified upload does not exist.');
    const numbers = [...body.toString('utf8').matchAll(/<PartNumber>(\d+)<\/PartNumber>/g)].map((match) => Number(match[1]));
    const whole = Buffer.concat(numbers.map((number) => parts.get(number) ?? Buffer.alloc(0)));
    await store.put(key, whole);
    this.#uploads.delete(id);
    return { status: 200, headers: {}, body: Buffer.from(`<CompleteMultipartUploadResult><Bucket>${bucket}</Bucket><Key>${escape(key)}</Key><ETag>${etag(whole)}</ETag></CompleteMultipartUploadResult>`) };
  }

  /** Writes of one key happen one after the other, so that conditions hold. */
  async #inTurn<T>(key: string, work: () => Promise<T>): Promise<T> {
    const next = (this.#writing.get(key) ?? Promise.resolve()).then(work, work);
    this.#writing.set(key, next.catch(() => undefined));
    return next;
  }

  #holderOf(request: IncomingMessage, url: URL, body: Buffer): StandInKeys & { within?: string } {
    const match = /^AWS4-HMAC-SHA256 Credential=([^/]+)\/(\d{8})\/([^/]+)\/(s3|sts)\/aws4_request, ?SignedHeaders=([^,]+), ?Signature=([0-9a-f]+)$/.exec(request.headers.authorization ?? '');
    if (!match) throw refusal(403, 'AccessDenied', 'Access Denied');
    const [, id, day, region, service, signed, signature] = match as unknown as [string, string, string, string, string, string, string];
    const session = this.#sessions.get(id);
    if (session && (session.until <= Date.now() || request.headers['x-amz-security-token'] !== session.token)) throw refusal(403, 'ExpiredToken', 'The provided token has expired.');
    const keys = session ?? this.keys.find((each) => each.accessKeyId === id);
    if (!keys) throw refusal(403, 'InvalidAccessKeyId', 'The access key Id you provided does not exist in our records.');
    const date = request.headers['x-amz-date'] as string;
    const at = Date.parse(date.replace(/^(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)Z$/, '$1-$2-$3T$4:$5:$6Z'));
    if (Math.abs(Date.now() - at) > SKEW_MS) throw refusal(403, 'RequestTimeTooSkewed', 'The difference between the request time and the current time is too large.');
    const payload = (request.headers['x-amz-content-sha256'] as string | undefined) ?? (service === 'sts' ? sha256(body) : 'UNSIGNED-PAYLOAD');
    if (/^[0-9a-f]{64}$/.test(payload) && payload !== sha256(body)) throw refusal(400, 'XAmzContentSHA256Mismatch', 'The provided body does not match its hash.');
    const headers = signed.split(';').map((name) => `${name}:${String(request.headers[name] ?? '').trim().replace(/\s+/g, ' ')}\n`).join('');
    const query = [...url.searchParams].map(([name, value]) => [awsEscape(name), awsEscape(value)]).sort(([a, b], [c, d]) => (a! < c! || (a === c && b! < d!) ? -1 : 1)).map((pair) => pair.join('=')).join('&');
    const canonical = [request.method, url.pathname.split('/').map((step) => awsEscape(decodeURIComponent(step))).join('/'), query, headers, signed, payload].join('\n');
    const scope = `${day}/${region}/${service}/aws4_request`;
    const toSign = ['AWS4-HMAC-SHA256', date, scope, sha256(canonical)].join('\n');
    const key = [day, region, service, 'aws4_request'].reduce<Buffer>((made, part) => createHmac('sha256', made).update(part).digest(), Buffer.from(`AWS4${keys.secretAccessKey}`));
    if (createHmac('sha256', key).update(toSign).digest('hex') !== signature) throw refusal(403, 'SignatureDoesNotMatch', 'The request signature we calculated does not match the signature you provided.');
    return keys;
  }
}

interface SessionKeys extends StandInKeys {
  token: string;
  until: number;
  /** Bucket and key that everything it touches must begin with. */
  within: string;
}

const ACTIONS: Record<string, Right> = { 's3:GetObject': 'read', 's3:PutObject': 'write', 's3:DeleteObject': 'delete', 's3:ListBucket': 'list' };

/** As much of a policy as a session needs: actions that are allowed, and the one prefix that they are allowed below. */
function readPolicy(text: string): { actions: Right[]; within: string } {
  try {
    const { Statement: statements } = JSON.parse(text) as { Statement: { Action: string[]; Resource: string }[] };
    const objects = statements.find((each) => each.Resource.endsWith('/*'))!;
    return { actions: statements.flatMap((each) => each.Action).flatMap((action) => ACTIONS[action] ?? []), within: objects.Resource.replace('arn:aws:s3:::', '').slice(0, -1) };
  } catch {
    throw refusal(400, 'MalformedPolicyDocument', 'The policy is not understood.');
  }
}

interface Answer {
  status: number;
  headers: Record<string, string>;
  body?: Buffer;
}

class Refusal extends Error {
  constructor(readonly answer: Answer) {
    super();
  }
}

/** What stands in a folder on disk for an object whose name ends in a slash. */
const MARKER = '.folder-marker';

function refusal(status: number, code: string, message: string): Refusal {
  return new Refusal(failure(status, code, message));
}

function failure(status: number, code: string, message: string): Answer {
  return { status, headers: { 'content-type': 'application/xml' }, body: Buffer.from(`<?xml version="1.0"?><Error><Code>${code}</Code><Message>${message}</Message></Error>`) };
}

async function bodyOf(request: IncomingMessage): Promise<Buffer> {
  const parts: Buffer[] = [];
  for await (const part of request) parts.push(part as Buffer);
  return Buffer.concat(parts);
}

function send(response: ServerResponse, answer: Answer): void {
  response.writeHead(answer.status, { ...(answer.body ? { 'content-length': String(answer.body.length) } : {}), ...answer.headers });
  response.end(answer.body);
}

/** Promises the whole body and gives half. */
function cut(response: ServerResponse, { status, headers, body }: Answer): void {
  response.writeHead(status, { ...headers, 'content-length': String(body!.length) });
  response.write(body!.subarray(0, Math.floor(body!.length / 2)), () => response.socket?.destroy());
}

async function read(store: DiskStore, key: string, request: IncomingMessage): Promise<Answer> {
  const info = await store.head(key);
  if (!info) throw refusal(404, 'NoSuchKey', 'The specified key does not exist.');
  const bytes = Buffer.from(await store.read(key));
  const tag = etag(bytes);
  if (request.headers['if-match'] !== undefined && request.headers['if-match'] !== tag) throw refusal(412, 'PreconditionFailed', 'At least one of the pre-conditions you specified did not hold');
  const headers = { etag: tag, 'last-modified': new Date(info.modified).toUTCString(), 'accept-ranges': 'bytes', 'content-type': 'application/octet-stream' };
  if (request.method === 'HEAD') return { status: 200, headers: { ...headers, 'content-length': String(bytes.length) } };
  const range = /^bytes=(\d+)-(\d*)$/.exec(request.headers.range ?? '');
  if (!range) return { status: 200, headers, body: bytes };
  const [start, end] = [Number(range[1]), range[2] === '' ? bytes.length : Math.min(bytes.length, Number(range[2]) + 1)];
  if (start >= bytes.length) throw refusal(416, 'InvalidRange', 'The requested range is not satisfiable');
  return { status: 206, headers: { ...headers, 'content-range': `bytes ${start}-${end - 1}/${bytes.length}` }, body: bytes.subarray(start, end) };
}

async function list(store: DiskStore, bucket: string, query: URLSearchParams): Promise<Answer> {
  const prefix = query.get('prefix') ?? '';
  const delimiter = query.get('delimiter');
  const most = Math.min(PAGE, Number(query.get('max-keys') ?? PAGE) || PAGE);
  const after = query.get('continuation-token') ?? query.get('start-after') ?? '';
  const all = (await store.list('')).map((file) => ({ ...file, path: file.path.endsWith(`/${MARKER}`) ? file.path.slice(0, -MARKER.length) : file.path }));
  const entries = new Map<string, ObjectInfo | undefined>();
  for (const file of all.filter((each) => each.path.startsWith(prefix)).sort((a, b) => Buffer.compare(Buffer.from(a.path), Buffer.from(b.path)))) {
    const cutAt = delimiter === null ? -1 : file.path.indexOf(delimiter, prefix.length);
    if (cutAt >= 0) entries.set(file.path.slice(0, cutAt + 1), undefined);
    else entries.set(file.path, file);
  }
  const rest = [...entries].filter(([key]) => key > after);
  const page = rest.slice(0, most);
  const listedEtags = new Map(await Promise.all(page.filter(([key, file]) => file && !key.endsWith('/')).map(async ([key]) => [key, etag(await store.read(key))] as const)));
  const contents = page.filter(([, file]) => file).map(([key, file]) => `<Contents><Key>${escape(key)}</Key><LastModified>${new Date(file!.modified).toISOString()}</LastModified><ETag>${listedEtags.get(file!.path)}</ETag><Size>${key.endsWith('/') ? 0 : file!.bytes}</Size></Contents>`);
  const prefixes = page.filter(([, file]) => !file).map(([key]) => `<CommonPrefixes><Prefix>${escape(key)}</Prefix></CommonPrefixes>`);
  const next = rest.length > page.length ? `<NextContinuationToken>${escape(page.at(-1)![0])}</NextContinuationToken>` : '';
  const body = `<?xml version="1.0"?><ListBucketResult><Name>${bucket}</Name><Prefix>${escape(prefix)}</Prefix><KeyCount>${page.length}</KeyCount><IsTruncated>${next !== ''}</IsTruncated>${next}${contents.join('')}${prefixes.join('')}</ListBucketResult>`;
  return { status: 200, headers: { 'content-type': 'application/xml' }, body: Buffer.from(body) };
}

/** The object's bytes, out of the chunks that they may come in. */
function received(request: IncomingMessage, body: Buffer): Buffer {
  try {
    return decodedBody(request.headers, body);
  } catch (error) {
    throw error instanceof BadBody ? refusal(400, error.problem.code, error.problem.message) : error;
  }
}

function etag(bytes: Uint8Array): string {
  return `"${createHash('md5').update(bytes).digest('hex')}"`;
}

function sha256(data: string | Buffer): string {
  return createHash('sha256').update(data).digest('hex');
}

function awsEscape(text: string): string {
  return encodeURIComponent(text).replace(/[!'()*]/g, (mark) => `%${mark.charCodeAt(0).toString(16).toUpperCase()}`);
}

function escape(text: string): string {
  return text.replace(/[<>&"']/g, (mark) => `&#${mark.charCodeAt(0)};`);
}
