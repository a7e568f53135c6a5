/** Tokens for programs: shown once, kept as a hash, with rights on namespaces and tables, until they expire or are revoked. */
import { createHash, createHmac, randomBytes, timingSafeEqual } from 'node:crypto';
import { LakeError } from '../../core/errors';
import { Lru } from '../../core/lru';
import type { Database, Sql } from '../catalog/database';
import { recordRevision } from '../catalog/revisions';
import type { Grant, Identity } from './access';

export interface Token {
  id: string;
  name: string;
  grants: Grant[];
  createdBy: string;
  createdAt: string;
  expiresAt: string | null;
  lastUsed: string | null;
  revokedAt: string | null;
}

const PREFIX = 'kh';
const SHORT = 'khs';
const COLUMNS = 'id, name, grants, created_by AS "createdBy", created_at AS "createdAt", expires_at AS "expiresAt", last_used AS "lastUsed", revoked_at AS "revokedAt"';
/** A token that was good is not asked of the database again for so long; revoking one here takes effect at once. */
const TRUST_MS = 5000;
/** The time of last use is kept to the minute. */
const USE_MS = 60_000;
const KEPT = 500;
/** What a client gets for its credentials is good for so long. */
export const SESSION_SECONDS = 3600;

export class Tokens {
  readonly #known = new Lru<{ token: Token; hash: string; checked: number }>(KEPT);
  readonly #used = new Map<string, number>();
  readonly #signing: Buffer;

  constructor(
    readonly database: Database,
    signingKey: Buffer,
    readonly now: () => number = Date.now,
  ) {
    this.#signing = createHmac('sha256', signingKey).update('short-lived tokens').digest();
  }

  async list(): Promise<Token[]> {
    return this.database.query<Token>(`SELECT ${COLUMNS} FROM token ORDER BY created_at DESC`);
  }

  /** The text is given this once. */
  async issue({ name, grants, expiresAt }: { name: string; grants: readonly Grant[]; expiresAt: string | null }, who: string): Promise<{ token: Token; text: string }> {
    const id = randomBytes(8).toString('hex');
    const secret = randomBytes(24).toString('base64url');
    const token = await this.database.transaction(async (sql: Sql) => {
      const [made] = await sql.query<Token>(`INSERT INTO token (id, name, secret_hash, grants, created_by, expires_at) VALUES ($1, $2, $3, $4, $5, $6) RETURNING ${COLUMNS}`, [id, name, sha256(secret), JSON.stringify(grants), who, expiresAt]);
      await recordRevision(sql, who, 'issue token', name, { grants: [...grants], expiresAt });
      return made!;
    });
    return { token, text: `${PREFIX}_${id}_${secret}` };
  }

  async revoke(id: string, who: string): Promise<void> {
    await this.database.transaction(async (sql) => {
      const [gone] = await sql.query<{ name: string }>('UPDATE token SET revoked_at = now() WHERE id = $1 AND revoked_at IS NULL RETURNING name', [id]);
      if (!gone) throw new LakeError('not-found', 'There is no such token, or it was revoked before.');
      await recordRevision(sql, who, 'revoke token', gone.name);
    });
    this.#known.delete(id);
  }

  /** Undefined for a text that is no good token. */
  async identify(text: string): Promise<Identity | undefined> {
    const id = text.startsWith(`${SHORT}_`) ? this.#idOfShort(text) : await this.#idOfLong(text);
    if (id === undefined) return undefined;
    const found = await this.#find(id);
    if (!found || found.token.revokedAt !== null || this.#isOver(found.token)) return undefined;
    this.#noteUse(id);
    return { kind: 'token', id, name: found.token.name, grants: found.token.grants };
  }

  /** For what runs by itself; fails with `refused` when the token is no longer good. */
  async identityOf(id: string): Promise<Identity> {
    const found = await this.#find(id);
    if (!found) throw new LakeError('refused', 'The token that this is to run as is not there.');
    const { token } = found;
    if (token.revokedAt !== null || this.#isOver(token)) throw new LakeError('refused', `The token ${token.name}, which this is to run as, ${token.revokedAt === null ? 'has expired' : 'was revoked'}. Nothing was done.`);
    this.#noteUse(id);
    return { kind: 'token', id, name: token.name, grants: token.grants };
  }

  #isOver({ expiresAt }: Token): boolean {
    return expiresAt !== null && Date.parse(expiresAt) <= this.now();
  }

  /** A token that is good for an hour, for one of an id and a secret; undefined where they are wrong. */
  async exchange(id: string, secret: string): Promise<string | undefined> {
    const text = secret.startsWith(`${PREFIX}_`) ? secret : `${PREFIX}_${id}_${secret}`;
    const identity = await this.identify(text);
    return identity?.kind === 'token' ? this.short(identity.id) : undefined;
  }

  short(id: string): string {
    const body = `${id}.${this.now() + SESSION_SECONDS * 1000}`;
    return `${SHORT}_${Buffer.from(body).toString('base64url')}_${this.#signature(body)}`;
  }

  #idOfShort(text: string): string | undefined {
    const [, encoded = '', signature = ''] = /^khs_([\w-]+)_([0-9a-f]{64})$/.exec(text) ?? [];
    const body = Buffer.from(encoded, 'base64url').toString('utf8');
    const [id, until] = body.split('.');
    if (!isSame(signature, this.#signature(body)) || !(Number(until) > this.now())) return undefined;
    return id;
  }

  async #idOfLong(text: string): Promise<string | undefined> {
    const [, id, secret] = /^kh_([0-9a-f]{16})_([\w-]{20,})$/.exec(text) ?? [];
    if (id === undefined || secret === undefined) return undefined;
    const found = await this.#find(id);
    return found && isSame(found.hash, sha256(secret)) ? id : undefined;
  }

  async #find(id: string): Promise<{ token: Token; hash: string } | undefined> {
    const known = this.#known.get(id);
    if (known && this.now() - known.checked < TRUST_MS) return known;
    const [row] = await this.database.query<Token & { hash: string }>(`SELECT ${COLUMNS}, secret_hash AS hash FROM token WHERE id = $1`, [id]);
    if (!row) return undefined;
    const { hash, ...token } = row;
    const found = { token, hash, checked: this.now() };
    this.#known.set(id, found);
    return found;
  }

  #noteUse(id: string): void {
    if (this.now() - (this.#used.get(id) ?? 0) < USE_MS) return;
    this.#used.set(id, this.now());
    void this.database.query('UPDATE token SET last_used = now() WHERE id = $1', [id]).catch(() => undefined);
  }

  #signature(body: string): string {
    return createHmac('sha256', this.#signing).update(body).digest('hex');
  }
}

function sha256(text: string): string {
  return createHash('sha256').update(text).digest('hex');
}

function isSame(a: string, b: string): boolean {
  const [x, y] = [Buffer.from(a), Buffer.from(b)];
  return x.length === y.length && timingSafeEqual(x, y);
}
