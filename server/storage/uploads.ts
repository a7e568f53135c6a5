/**
 * Files that arrive in pieces. What was received is kept beside the lake until the file is whole, so an upload that
 * broke off goes on where it was, even after a restart, and no half file ever shows in a storage.
 */
import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { open } from 'node:fs/promises';
import path from 'node:path';
import type { Readable } from 'node:stream';
import { LakeError } from '../../core/errors';
import type { OpenStorage } from '../lake/lake';

export interface Upload {
  id: string;
  storage: string;
  path: string;
  bytes: number;
  /** Bytes that have arrived; the next piece begins here. */
  received: number;
}

/** Unfinished ones are forgotten after this. */
const KEPT_MS = 7 * 86_400_000;

export class Uploads {
  readonly #busy = new Set<string>();

  constructor(readonly folder: string) {
    mkdirSync(folder, { recursive: true });
    for (const name of readdirSync(folder)) {
      const file = path.join(folder, name);
      if (Date.now() - statSync(file).mtimeMs > KEPT_MS) rmSync(file, { force: true });
    }
  }

  /** Begins an upload, or finds the one that broke off: the same place, size and mark of the file (its time, say). */
  begin(storage: string, filePath: string, bytes: number, mark: string): Upload {
    const id = createHash('sha256').update([storage, filePath, bytes, mark].join('\0')).digest('hex').slice(0, 32);
    if (!existsSync(this.#file(id, 'json'))) {
      writeFileSync(this.#file(id, 'part'), '');
      writeFileSync(this.#file(id, 'json'), JSON.stringify({ id, storage, path: filePath, bytes }));
    }
    return this.get(id);
  }

  /** Fails with `not-found` for one that is finished or forgotten. */
  get(id: string): Upload {
    const about = this.#file(id, 'json');
    if (!/^[0-9a-f]{32}$/.test(id) || !existsSync(about)) throw new LakeError('not-found', 'There is no such upload; it was finished or given up. Begin again.');
    return { ...(JSON.parse(readFileSync(about, 'utf8')) as Omit<Upload, 'received'>), received: statSync(this.#file(id, 'part')).size };
  }

  /** Adds the next piece. Fails with `conflict` when it does not begin where the last one ended. */
  async add(id: string, offset: number, piece: Readable): Promise<Upload> {
    const upload = this.get(id);
    if (this.#busy.has(id)) throw new LakeError('conflict', `Another piece of ${upload.path} is arriving at this moment.`);
    if (offset !== upload.received) throw new LakeError('conflict', `The next piece of ${upload.path} begins at byte ${upload.received}, not ${offset}.`);
    this.#busy.add(id);
    const file = await open(this.#file(id, 'part'), 'a');
    try {
      let received = offset;
      for await (const part of piece) {
        received += (part as Buffer).length;
        if (received > upload.bytes) throw new LakeError('bad-request', `${upload.path} was said to have ${upload.bytes} bytes; more arrived.`);
        await file.write(part as Buffer);
      }
    } finally {
      await file.close();
      this.#busy.delete(id);
    }
    return this.get(id);
  }

  /** Puts the whole file into its storage. */
  async finish(id: string, storage: OpenStorage): Promise<void> {
    const upload = this.get(id);
    if (upload.received !== upload.bytes) throw new LakeError('conflict', `${upload.path} is not whole: ${upload.received} of ${upload.bytes} bytes have arrived.`);
    await storage.store.putFile(upload.path, this.#file(id, 'part'));
    rmSync(this.#file(id, 'json'), { force: true });
  }

  giveUp(id: string): void {
    this.get(id);
    for (const kind of ['json', 'part'] as const) rmSync(this.#file(id, kind), { force: true });
  }

  #file(id: string, kind: 'json' | 'part'): string {
    return path.join(this.folder, `${path.basename(id)}.${kind}`);
  }
}
