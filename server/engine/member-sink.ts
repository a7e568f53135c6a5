import { createWriteStream, writeFileSync } from 'node:fs';
import path from 'node:path';
import { Transform, type Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { LakeError } from '../../core/errors';
import { memberName } from '../../core/storage/members';

export interface Member {
  /** Within the container. */
  path: string;
  /** In the target folder. */
  file: string;
  bytes: number;
}

/** More files than this in one archive are a file system. */
const MOST_MEMBERS = 10_000;

/** Takes members one after the other, within the limits. */
export class MemberSink {
  readonly members: Member[] = [];
  readonly notes: string[] = [];
  readonly #names = new Set<string>();
  #bytes = 0;

  constructor(readonly request: { target: string; mostBytes: number }) {}

  /** Where the member's bytes are to be laid; undefined for one that is passed over. */
  next(name: string): string | undefined {
    const own = memberName(name);
    if (own === undefined) {
      if (!name.includes('__MACOSX'))
        this.notes.push(`${name.slice(0, 100)} is passed over: its name leads out of the archive`);
      return undefined;
    }
    if (this.members.length >= MOST_MEMBERS)
      throw new LakeError('limit', `it holds more than ${MOST_MEMBERS.toLocaleString('en')} files; unpack it beside`);
    let distinct = own;
    for (let number = 2; this.#names.has(distinct.toLowerCase()); number++)
      distinct = own.replace(/(\.[^./]*)?$/, `_${number}$1`);
    this.#names.add(distinct.toLowerCase());
    const file = String(this.members.length);
    this.members.push({ path: distinct, file, bytes: 0 });
    return path.join(this.request.target, file);
  }

  /** Counts the bytes of the member taken last. Fails with `limit` once all are more than may be. */
  count(bytes: number): void {
    this.members.at(-1)!.bytes += bytes;
    this.#bytes += bytes;
    if (this.#bytes > this.request.mostBytes)
      throw new LakeError(
        'limit',
        `what it holds is more than ${Math.round(this.request.mostBytes / 1e6).toLocaleString('en')} MB; unpack it beside`,
      );
  }

  async stream(name: string, bytes: Readable): Promise<void> {
    const target = this.next(name);
    if (target === undefined) {
      bytes.resume();
      return;
    }
    const counted = new Transform({
      transform: (chunk: Buffer, _encoding, done) => {
        try {
          this.count(chunk.length);
          done(null, chunk);
        } catch (error) {
          done(error as Error);
        }
      },
    });
    await pipeline(bytes, counted, createWriteStream(target));
  }

  text(name: string, text: string): void {
    const target = this.next(name);
    if (target === undefined) return;
    this.count(Buffer.byteLength(text));
    writeFileSync(target, text);
  }
}
