/** Snappy's framing format, chunk by chunk: "Snappy framing format description", as of 2013-10-25. Checksums are passed over. */
import { snappyUncompress } from 'hyparquet';

const MOST_PLAIN = 65_536;
const [PACKED, PLAIN, IDENTIFIER] = [0x00, 0x01, 0xff];

export class SnappyFrames {
  #held: Buffer = Buffer.alloc(0);
  #isBegun = false;

  /** Unpacks what is whole so far. Fails on what is not of this format. */
  *push(chunk: Uint8Array): Generator<Buffer> {
    this.#held = Buffer.concat([this.#held, chunk]);
    while (this.#held.length >= 4) {
      const kind = this.#held[0]!;
      const bytes = this.#held.readUIntLE(1, 3);
      if (!this.#isBegun && kind !== IDENTIFIER) throw new Error('not in the framing format of Snappy');
      if (this.#held.length < 4 + bytes) return;
      const body = this.#held.subarray(4, 4 + bytes);
      this.#held = this.#held.subarray(4 + bytes);
      this.#isBegun = true;
      if (kind === PLAIN) yield body.subarray(4);
      else if (kind === PACKED) yield unpackSnappy(body.subarray(4), MOST_PLAIN);
      else if (kind !== IDENTIFIER && kind < 0x80)
        throw new Error(`a Snappy chunk of kind ${kind}, which is not known`);
    }
  }

  end(): void {
    if (this.#held.length > 0) throw new Error('the Snappy stream is cut short');
  }
}

/** Packed bytes begin with the length of the plain ones. Fails where that is more than `most`. */
export function unpackSnappy(bytes: Uint8Array, most: number): Buffer {
  let length = 0;
  for (let at = 0, scale = 1; ; at++, scale *= 128) {
    length += (bytes[at]! & 0x7f) * scale;
    if (!(bytes[at]! >= 128)) break;
  }
  if (!(length <= most))
    throw new Error(`a Snappy block says that it holds ${length} bytes, where ${most} are the most`);
  const plain = new Uint8Array(length);
  snappyUncompress(bytes as Uint8Array<ArrayBuffer>, plain);
  return Buffer.from(plain.buffer);
}
