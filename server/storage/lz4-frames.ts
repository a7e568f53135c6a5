/**
 * LZ4 frames, unpacked as they come, in memory of a few blocks: "LZ4 Frame Format Description" 1.6 and "LZ4 Block Format
 * Description". Checksums are passed over.
 */

/** A block may refer to what came up to so many bytes before it. */
const WINDOW_BYTES = 64 * 1024;
const MAGIC = 0x184d2204;
const LEGACY_MAGIC = 0x184c2102;
const LEGACY_BLOCK_BYTES = 8 * 1024 * 1024;
const BLOCK_BYTES: Record<number, number> = { 4: 64 * 1024, 5: 256 * 1024, 6: 1024 * 1024, 7: 4 * 1024 * 1024 };

interface Frame {
  blockBytes: number;
  hasBlockChecksums: boolean;
  hasContentChecksum: boolean;
  isLegacy: boolean;
}

export class Lz4Frames {
  #held: Buffer = Buffer.alloc(0);
  #frame: Frame | undefined;
  /** Bytes of a frame that is to be skipped. */
  #skip = 0;
  #window: Buffer = Buffer.alloc(0);

  /** Unpacks what is whole so far. Fails on what is no LZ4 frame. */
  *push(chunk: Uint8Array): Generator<Buffer> {
    this.#held = Buffer.concat([this.#held, chunk]);
    for (let plain = this.#next(); plain; plain = this.#next()) if (plain.length > 0) yield plain;
  }

  /** Fails where the text ends within a frame. */
  end(): void {
    if (this.#held.length > 0 || this.#skip > 0 || (this.#frame && !this.#frame.isLegacy))
      throw new Error('the LZ4 frame is cut short');
  }

  /** The next block, nothing for what is none, undefined where more bytes are needed. */
  #next(): Buffer | undefined {
    if (this.#skip > 0) {
      const some = this.#take(Math.min(this.#skip, this.#held.length));
      this.#skip -= some.length;
      return some.length > 0 ? Buffer.alloc(0) : undefined;
    }
    return this.#frame ? this.#block(this.#frame) : this.#header();
  }

  #header(): Buffer | undefined {
    if (this.#held.length < 8) return undefined;
    const magic = this.#held.readUInt32LE(0);
    if (magic >>> 4 === 0x184d2a5) {
      this.#skip = this.#held.readUInt32LE(4);
      this.#take(8);
      return Buffer.alloc(0);
    }
    if (magic === LEGACY_MAGIC) {
      this.#take(4);
      this.#frame = {
        blockBytes: LEGACY_BLOCK_BYTES,
        hasBlockChecksums: false,
        hasContentChecksum: false,
        isLegacy: true,
      };
      return Buffer.alloc(0);
    }
    if (magic !== MAGIC) throw new Error('not an LZ4 frame');
    const flags = this.#held[4]!;
    const bytes = 7 + (flags & 8 ? 8 : 0) + (flags & 1 ? 4 : 0);
    if (this.#held.length < bytes) return undefined;
    const blockBytes = BLOCK_BYTES[(this.#held[5]! >> 4) & 7];
    if (flags >> 6 !== 1 || blockBytes === undefined) throw new Error('an LZ4 frame of a version that is not known');
    if (flags & 1) throw new Error('an LZ4 frame that needs a dictionary');
    this.#take(bytes);
    this.#window = Buffer.alloc(0);
    this.#frame = {
      blockBytes,
      hasBlockChecksums: (flags & 16) > 0,
      hasContentChecksum: (flags & 4) > 0,
      isLegacy: false,
    };
    return Buffer.alloc(0);
  }

  #block(frame: Frame): Buffer | undefined {
    if (this.#held.length < 4) return undefined;
    const head = this.#held.readUInt32LE(0);
    if (frame.isLegacy && (head === MAGIC || head === LEGACY_MAGIC)) {
      this.#frame = undefined;
      return Buffer.alloc(0);
    }
    if (head === 0 && !frame.isLegacy) {
      const tail = frame.hasContentChecksum ? 8 : 4;
      if (this.#held.length < tail) return undefined;
      this.#take(tail);
      this.#frame = undefined;
      return Buffer.alloc(0);
    }
    const isPlain = !frame.isLegacy && head >= 0x80000000;
    const bytes = frame.isLegacy ? head : head & 0x7fffffff;
    if (bytes > frame.blockBytes + (frame.isLegacy ? frame.blockBytes / 255 + 16 : 0))
      throw new Error('an LZ4 block is longer than its frame says');
    const whole = 4 + bytes + (frame.hasBlockChecksums ? 4 : 0);
    if (this.#held.length < whole) return undefined;
    const packed = this.#take(whole).subarray(4, 4 + bytes);
    const plain = isPlain
      ? Buffer.from(packed)
      : unpackBlock(packed, frame.blockBytes, frame.isLegacy ? Buffer.alloc(0) : this.#window);
    const seen = Buffer.concat([this.#window, plain]);
    this.#window = seen.subarray(Math.max(0, seen.length - WINDOW_BYTES));
    return plain;
  }

  #take(bytes: number): Buffer {
    const taken = this.#held.subarray(0, bytes);
    this.#held = this.#held.subarray(bytes);
    return taken;
  }
}

/** One block; `before` is what it may refer to. Fails where it holds more than `most` bytes, or refers to what is not there. */
export function unpackBlock(packed: Uint8Array, most: number, before: Uint8Array): Buffer {
  const out = Buffer.alloc(before.length + most);
  out.set(before);
  let to = before.length;
  let at = 0;
  const lengthOf = (nibble: number) => {
    let length = nibble;
    if (nibble === 15) {
      for (let more = 255; more === 255;) {
        more = packed[at++]!;
        if (more === undefined) throw new Error('an LZ4 block is cut short');
        length += more;
      }
    }
    return length;
  };
  while (at < packed.length) {
    const token = packed[at++]!;
    const literals = lengthOf(token >> 4);
    if (at + literals > packed.length || to + literals > out.length) throw new Error('an LZ4 block is damaged');
    out.set(packed.subarray(at, at + literals), to);
    at += literals;
    to += literals;
    if (at >= packed.length) break;
    const back = packed[at]! | (packed[at + 1]! << 8);
    at += 2;
    const length = lengthOf(token & 15) + 4;
    if (!(back > 0 && back <= to) || to + length > out.length) throw new Error('an LZ4 block is damaged');
    // Byte by byte: what is copied may reach into what it makes.
    for (const end = to + length; to < end; to++) out[to] = out[to - back]!;
  }
  return out.subarray(before.length, to);
}
