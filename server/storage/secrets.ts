/** Secrets at rest: AES-256-GCM with a key that lies in the data folder, readable by its owner alone. */
import { createCipheriv, createDecipheriv, createHmac, randomBytes } from 'node:crypto';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { LakeError } from '../../core/errors';

const [KEY_BYTES, IV_BYTES, TAG_BYTES] = [32, 12, 16];

export class Secrets {
  readonly #key: Buffer;

  constructor(home: string) {
    const file = path.join(home, 'secrets.key');
    if (!existsSync(file)) writeFileSync(file, randomBytes(KEY_BYTES), { mode: 0o600, flag: 'wx' });
    this.#key = readFileSync(file);
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
