/**
 * The few things of a Parquet footer that tell files apart: rows, and the schema's own bytes, which are equal for files
 * with equal columns (Parquet format, "Metadata"; Thrift compact protocol). Statistics and row groups are passed over.
 */

export interface Footer {
  rows: number;
  /** The schema as it is encoded, one character a byte. */
  schema: string;
}

/** Footers end in their length in four bytes and this mark. */
const MARK = 'PAR1';
const ENCRYPTED_MARK = 'PARE';
export const TAIL_BYTES = 8;

/** Where the footer of a file of `size` bytes begins, by its last bytes. Fails saying why it is no Parquet file. */
export function footerStart(size: number, tail: Uint8Array): number {
  if (tail.length < TAIL_BYTES) throw new Error(`the file has ${size} bytes, fewer than a Parquet footer`);
  const mark = String.fromCharCode(...tail.subarray(-4));
  if (mark === ENCRYPTED_MARK) throw new Error('the file is encrypted');
  if (mark !== MARK) throw new Error(`the file ends in ${JSON.stringify(mark)}, where ${MARK} was expected: it is no Parquet file, or was cut short`);
  const length = new DataView(tail.buffer, tail.byteOffset + tail.length - TAIL_BYTES).getUint32(0, true);
  if (length + 12 > size) throw new Error(`the footer would have ${length} bytes, more than the file`);
  return size - length - TAIL_BYTES;
}

/** Ids of the two fields of FileMetaData that are wanted. */
const SCHEMA = 2;
const NUM_ROWS = 3;

/** `bytes` begin with the footer. Fails when it is damaged. */
export function parseFooter(bytes: Uint8Array): Footer {
  const reader = new Compact(bytes);
  let schema: string | undefined;
  let rows: number | undefined;
  for (let id = 0; schema === undefined || rows === undefined; ) {
    const header = reader.byte();
    if (header === 0) throw new Error('the footer has no schema or no number of rows');
    id = header >> 4 === 0 ? reader.zigzag() : id + (header >> 4);
    const start = reader.at;
    if (id === NUM_ROWS) rows = reader.zigzag();
    else reader.skip(header & 15);
    if (id === SCHEMA) schema = latin1(bytes.subarray(start, reader.at));
  }
  return { rows, schema };
}

/** Types of the compact protocol that hold others; 1 and 2 are booleans, which have no bytes of their own in a struct. */
const [BYTE, I64, DOUBLE, BINARY, LIST, SET, MAP, STRUCT] = [3, 6, 7, 8, 9, 10, 11, 12];
/** Deeper nesting is no footer. */
const MOST_DEPTH = 32;

class Compact {
  at = 0;
  constructor(readonly bytes: Uint8Array) {}

  byte(): number {
    if (this.at >= this.bytes.length) throw new Error('the footer is cut short');
    return this.bytes[this.at++]!;
  }

  varint(): number {
    let value = 0;
    for (let scale = 1; ; scale *= 128) {
      const byte = this.byte();
      value += (byte & 127) * scale;
      if (byte < 128) return value;
      if (scale > 2 ** 63) throw new Error('the footer holds a number that is none');
    }
  }

  zigzag(): number {
    const value = this.varint();
    return value % 2 === 0 ? value / 2 : -(value + 1) / 2;
  }

  skip(type: number, depth = 0): void {
    if (depth > MOST_DEPTH) throw new Error('the footer is nested too deep');
    if (type === 1 || type === 2) return;
    if (type === BYTE) this.byte();
    else if (type > BYTE && type <= I64) this.varint();
    else if (type === DOUBLE) this.at += 8;
    else if (type === BINARY) this.#pass(this.varint());
    else if (type === LIST || type === SET) this.#skipList(depth);
    else if (type === MAP) this.#skipMap(depth);
    else if (type === STRUCT) this.#skipStruct(depth);
    else throw new Error(`the footer holds a value of the unknown kind ${type}`);
    if (this.at > this.bytes.length) throw new Error('the footer is cut short');
  }

  /** Its own call, so that the place is read after the length was. */
  #pass(bytes: number): void {
    this.at += bytes;
  }

  #skipList(depth: number): void {
    const header = this.byte();
    const count = header >> 4 === 15 ? this.varint() : header >> 4;
    // In a list a boolean has a byte of its own.
    const type = header & 15;
    for (let i = 0; i < count; i++) this.skip(type <= 2 ? BYTE : type, depth + 1);
  }

  #skipMap(depth: number): void {
    const count = this.varint();
    if (count === 0) return;
    const types = this.byte();
    for (let i = 0; i < count; i++) {
      this.skip(types >> 4, depth + 1);
      this.skip(types & 15, depth + 1);
    }
  }

  #skipStruct(depth: number): void {
    for (;;) {
      const header = this.byte();
      if (header === 0) return;
      if (header >> 4 === 0) this.zigzag();
      this.skip(header & 15, depth + 1);
    }
  }
}

const decoder = new TextDecoder('latin1');

/** One character a byte; which characters does not matter, only that equal bytes give equal texts. */
function latin1(bytes: Uint8Array): string {
  return decoder.decode(bytes);
}
