/** Secrets at rest: AES-256-GCM with a key that lies in the data folder, readable by its owner alone. */
import { createCipheriv, createDecipheriv, createHmac, randomBytes } from 'node:crypto';
import { existsSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { LakeError } from '../../core/errors';
import type { Sql } from '../catalog/database';
import { ConfigError } from '../config';

const [KEY_BYTES, IV_BYTES, TAG_BYTES] = [32, 12, 16];

export class Secrets {
  readonly #key: Buffer;
  readonly file: string;
  /** There was none before. */
  readonly isNew: boolean;

  /** Fails with a `ConfigError` for a file that is no key. */
  constructor(home: string) {
    this.file = path.join(home, 'secrets.key');
    this.isNew = !existsSync(this.file);
    if (this.isNew) writeFileSync(this.file, randomBytes(KEY_BYTES), { mode: 0o600, flag: 'wx' });
    this.#key = readFileSync(this.file);
    if (this.#key.length !== KEY_BYTES) throw new ConfigError(`The key in ${this.file} has ${this.#key.length} bytes, where ${KEY_BYTES} are expected. Put it back from a copy of the data folder. Without it the stored keys of storages and all tokens are of no use; move the file away to start with a new one.`);
  }

  /** Fails with a `ConfigError` where the key is gone with which what the catalog holds was sealed. */
  async mustFit(sql: Sql): Promise<void> {
    if (!this.isNew) return;
    const [row] = await sql.query<{ sealed: number }>('SELECT (SELECT count(*) FROM storage WHERE secret IS NOT NULL)::int + (SELECT count(*) FROM token WHERE revoked_at IS NULL)::int AS sealed');
    if (row!.sealed === 0) return;
    rmSync(this.file);
    throw new ConfigError(`The key ${this.file} is missing, and the catalog holds ${row!.sealed} tokens and keys of storages that are of no use without it. Put it back from a copy of the data folder, or put an own one of ${KEY_BYTES} random bytes there: stored keys must then be given again, and tokens issued anew.`);
  }

  /** A key for another purpose, which does not tell this one. */
  keyFor(purpose: string): Buffer {
    return createHmac('sha256', this.#key).update(purpose).digest();
  }

  /** Base64 of nonce, tag and text. */
  seal(secret: unknown): string {
    const nonce = randomBytes(IV_BYTES);
    const cipher = createCipheriv('aes-256-gcm', this.#key, nonce);
    const text = Buffer.concat([cipher.update(JSON.stringify(secret), 'utf8'), cipher.final()]);
    return Buffer.concat([nonce, cipher.getAuthTag(), text]).toString('base64');
  }

  /** Fails when the key is another one, or the text was changed. */
  open<T>(sealed: string): T {
    try {
      const bytes = Buffer.from(sealed, 'base64');
      const decipher = createDecipheriv('aes-256-gcm', this.#key, bytes.subarray(0, IV_BYTES));
      decipher.setAuthTag(bytes.subarray(IV_BYTES, IV_BYTES + TAG_BYTES));
      return JSON.parse(Buffer.concat([decipher.update(bytes.subarray(IV_BYTES + TAG_BYTES)), decipher.final()]).toString('utf8')) as T;
    } catch {
      throw new LakeError('refused', 'The stored keys cannot be read: the key in the data folder is not the one they were stored with.', { hint: 'Give the storage its keys again.' });
    }
  }
}
