/** What of a text file is looked at: its beginning, its end, and parts between; and in which encoding it is. */
import { analyse } from 'chardet';
import { unpackHead, type Packing } from '../storage/unpack';
import type { PlainFile } from './plain-file';

export interface TextSample {
  /** The beginning. */
  text: string;
  /** Whether the text goes on beyond it. */
  isCut: boolean;
  /** Whole lines from further on. */
  middles: string[];
  /** The last lines, where they are not in the beginning; absent where the file is packed. */
  tail?: string;
  /** By its WHATWG label. */
  encoding: string;
  /** 0 to 1; 1 where the bytes allow no other. */
  certainty: number;
  /** How the file is packed. */
  packing: Packing | 'none';
}

const HEAD_BYTES = 256 * 1024;
const PART_BYTES = 64 * 1024;
const PARTS = 6;
/** Of a packed file so much is read. */
export const PACKED_BYTES = 256 * 1024;

export async function sampleText(file: PlainFile, known?: string): Promise<TextSample> {
  const { compression, bytes } = file;
  if (compression !== 'none') {
    const plain = (await unpackHead(await file.read({ start: 0, end: PACKED_BYTES }), compression)).subarray(0, HEAD_BYTES);
    const { encoding, certainty } = known === undefined ? encodingOf([plain]) : { encoding: known, certainty: 1 };
    return { text: decode(plain, encoding), isCut: bytes > PACKED_BYTES || plain.length === HEAD_BYTES, middles: [], encoding, certainty, packing: file.packing };
  }
  const head = await file.read({ start: 0, end: Math.min(bytes, HEAD_BYTES) });
  const starts = bytes <= HEAD_BYTES ? [] : Array.from({ length: PARTS }, (_, index) => Math.max(HEAD_BYTES, Math.floor((HEAD_BYTES + ((bytes - HEAD_BYTES) * (index + 1)) / PARTS) - PART_BYTES) & ~3));
  const parts = await Promise.all(starts.map((start) => file.read({ start, end: Math.min(bytes, start + PART_BYTES) })));
  const { encoding, certainty } = known === undefined ? encodingOf([head, ...parts]) : { encoding: known, certainty: 1 };
  const later = parts.map((part) => wholeLines(decode(part, encoding)));
  const tail = later.pop();
  return { text: decode(head, encoding), isCut: bytes > HEAD_BYTES, middles: later.map((part) => part.slice(0, part.lastIndexOf('\n') + 1)), ...(tail === undefined ? {} : { tail }), encoding, certainty, packing: file.packing };
}

/** Without the line that the part begins in. */
function wholeLines(text: string): string {
  const end = text.search(/\r\n|\n|\r/);
  return end < 0 ? '' : text.slice(end).replace(/^(\r\n|\n|\r)/, '');
}

function decode(bytes: Uint8Array, encoding: string): string {
  return new TextDecoder(encoding).decode(bytes);
}

/** Encodings that the guesser knows by another name than the Encoding standard, or that are seldom what a table is in. */
const LABELS: Record<string, string> = { 'ISO-8859-1': 'windows-1252', 'ISO-8859-2': 'windows-1250', 'ISO-8859-9': 'windows-1254', 'ISO-8859-8': 'windows-1255', 'ISO-8859-7': 'windows-1253', ASCII: 'utf-8', 'UTF-16LE': 'utf-16le', 'UTF-16BE': 'utf-16be', Shift_JIS: 'shift_jis', 'EUC-JP': 'euc-jp', 'EUC-KR': 'euc-kr', Big5: 'big5', GB18030: 'gb18030' };

/** UTF-8 wherever all parts are, else what the bytes are likeliest to be. */
export function encodingOf(parts: readonly Uint8Array[]): { encoding: string; certainty: number } {
  const [head] = parts;
  if (head![0] === 0xff && head![1] === 0xfe) return { encoding: 'utf-16le', certainty: 1 };
  if (head![0] === 0xfe && head![1] === 0xff) return { encoding: 'utf-16be', certainty: 1 };
  const wide = withoutMark(head!.subarray(0, 4096));
  if (wide) return { encoding: wide, certainty: 0.95 };
  if (parts.every((part, index) => isUtf8(part, index > 0))) return { encoding: 'utf-8', certainty: 1 };
  const telling = Buffer.concat(parts.map((part) => linesBeyondAscii(part)));
  const found = analyse(telling).map(({ name, confidence }) => ({ encoding: LABELS[name] ?? name.toLowerCase(), certainty: confidence / 100 })).filter(({ encoding }) => isKnown(encoding) && !encoding.startsWith('utf'));
  const wideFirst = found.filter(({ encoding }) => !WIDE.has(encoding) || isWideText(telling, encoding));
  const [best] = wideFirst;
  // Of little text the guesser is not sure; then the code page that most files are in is the better guess.
  const usual = wideFirst.find(({ encoding, certainty }) => encoding === 'windows-1252' && best !== undefined && !WIDE.has(best.encoding) && best.certainty - certainty < NEAR);
  return usual ?? best ?? { encoding: 'windows-1252', certainty: 0.3 };
}

/** Encodings of two bytes a character and more. */
const WIDE = new Set(['shift_jis', 'euc-jp', 'euc-kr', 'gb18030', 'big5', 'iso-2022-jp', 'iso-2022-kr', 'iso-2022-cn']);
const NEAR = 0.15;

/** In these characters stand in runs; a single one between Latin letters is a letter of a code page. */
function isWideText(bytes: Uint8Array, encoding: string): boolean {
  const text = new TextDecoder(encoding).decode(bytes);
  const runs = text.match(/[\u1100-\uffdc]+/g) ?? [];
  return !text.includes('\ufffd') && runs.length > 0 && runs.reduce((sum, run) => sum + run.length, 0) / runs.length >= 2;
}

/** UTF-16 that does not say so: every other byte of Latin text is nothing. */
function withoutMark(head: Uint8Array): string | undefined {
  if (head.length < 8) return undefined;
  let [even, odd] = [0, 0];
  for (let at = 0; at + 1 < head.length; at += 2) {
    if (head[at] === 0) even++;
    if (head[at + 1] === 0) odd++;
  }
  const half = head.length / 2;
  return odd > half * 0.6 && even < half * 0.05 ? 'utf-16le' : even > half * 0.6 && odd < half * 0.05 ? 'utf-16be' : undefined;
}

/** A part may begin and end within a character. */
function isUtf8(part: Uint8Array, isLater: boolean): boolean {
  let from = 0;
  while (isLater && from < 3 && (part[from]! & 0xc0) === 0x80) from++;
  try {
    new TextDecoder('utf-8', { fatal: true }).decode(part.subarray(from), { stream: true });
    return true;
  } catch {
    return false;
  }
}

/** An encoding shows in little. */
const GUESSED_BYTES = 8 * 1024;

/** What plain ASCII says of an encoding is nothing. */
function linesBeyondAscii(part: Uint8Array): Buffer {
  const lines: Buffer[] = [];
  let bytes = 0;
  const buffer = Buffer.from(part.buffer, part.byteOffset, part.length);
  for (let from = 0; from < buffer.length && bytes < GUESSED_BYTES; ) {
    const end = buffer.indexOf(10, from);
    const line = buffer.subarray(from, end < 0 ? buffer.length : end + 1);
    if (line.some((byte) => byte >= 0x80)) {
      lines.push(line);
      bytes += line.length;
    }
    from += line.length;
  }
  return Buffer.concat(lines);
}

function isKnown(label: string): boolean {
  try {
    new TextDecoder(label);
    return true;
  } catch {
    return false;
  }
}
