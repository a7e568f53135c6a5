/**
 * Bodies in chunks, as clients of object stores send them (S3 API, "Signature calculations: transferring payload in
 * multiple chunks", "Trailing checksums"): `hex[;chunk-signature=…]\r\n`, the bytes, `\r\n`, …, `0…\r\n`, then trailers.
 * Signatures of chunks are not checked; lengths and checksums are.
 */
import { createHash } from 'node:crypto';
import type { IncomingHttpHeaders } from 'node:http';
import { crc32, crcBy } from '../../core/values/crc32';

export interface BodyProblem {
  code: 'IncompleteBody' | 'BadDigest' | 'InvalidRequest';
  message: string;
}

export class BadBody extends Error {
  constructor(readonly problem: BodyProblem) {
    super(problem.message);
  }
}

export function isChunked(headers: IncomingHttpHeaders): boolean {
  return /(^|,)\s*aws-chunked\s*(,|$)/i.test(String(headers['content-encoding'] ?? '')) || String(headers['x-amz-content-sha256'] ?? '').startsWith('STREAMING-');
}

/** The object's own bytes. Fails with `BadBody` where the chunks, the length or a checksum do not fit. */
export function decodedBody(headers: IncomingHttpHeaders, body: Buffer): Buffer {
  const { bytes, trailers } = isChunked(headers) ? unchunked(body) : { bytes: body, trailers: new Map<string, string>() };
  const declared = headers['x-amz-decoded-content-length'];
  if (isChunked(headers) && declared !== undefined && Number(declared) !== bytes.length) throw new BadBody({ code: 'IncompleteBody', message: `The chunks hold ${bytes.length} bytes, where ${String(declared)} were announced.` });
  for (const [name, sum] of Object.entries(CHECKSUMS)) {
    const given = trailers.get(name) ?? (headers[name] as string | undefined);
    if (given !== undefined && sum(bytes) !== given.trim()) throw new BadBody({ code: 'BadDigest', message: `The ${name} you specified did not match what was received.` });
  }
  return bytes;
}

function unchunked(body: Buffer): { bytes: Buffer; trailers: Map<string, string> } {
  const parts: Buffer[] = [];
  const lineAt = (at: number): [line: string, next: number] => {
    const end = body.indexOf('\r\n', at);
    if (end < 0) throw new BadBody({ code: 'IncompleteBody', message: 'A chunk has no end.' });
    return [body.toString('latin1', at, end), end + 2];
  };
  for (let at = 0; ; ) {
    const [head, start] = lineAt(at);
    const size = /^([0-9a-f]+)(?:;|$)/i.exec(head)?.[1];
    if (size === undefined) throw new BadBody({ code: 'InvalidRequest', message: `Expected the size of a chunk, found "${head.slice(0, 40)}".` });
    const length = parseInt(size, 16);
    if (length === 0) return { bytes: Buffer.concat(parts), trailers: trailersOf(body.toString('latin1', start)) };
    if (start + length + 2 > body.length) throw new BadBody({ code: 'IncompleteBody', message: 'A chunk is shorter than it says.' });
    parts.push(body.subarray(start, start + length));
    at = start + length + 2;
  }
}

function trailersOf(text: string): Map<string, string> {
  return new Map(text.split('\r\n').flatMap((line) => {
    const cut = line.indexOf(':');
    return cut < 0 ? [] : [[line.slice(0, cut).trim().toLowerCase(), line.slice(cut + 1).trim()] as const];
  }));
}

const hashed = (name: string) => (bytes: Buffer) => createHash(name).update(bytes).digest('base64');

/** By header: what it says of the whole object, in base64. */
const CHECKSUMS: Record<string, (bytes: Buffer) => string> = {
  'x-amz-checksum-crc32': (bytes) => inBase64(crc32(bytes)),
  'x-amz-checksum-crc32c': (bytes) => inBase64(crc32c(bytes)),
  'x-amz-checksum-crc64nvme': (bytes) => crc64nvme(bytes),
  'x-amz-checksum-sha1': hashed('sha1'),
  'x-amz-checksum-sha256': hashed('sha256'),
  'content-md5': hashed('md5'),
};

function inBase64(sum: number): string {
  const bytes = Buffer.alloc(4);
  bytes.writeUInt32BE(sum);
  return bytes.toString('base64');
}

/** The polynomial of Castagnoli (RFC 3720, appendix B.4): of 32 zero bytes 0x8a9136aa. */
export const crc32c = crcBy(0x82f63b78);

const NVME = Array.from({ length: 256 }, (_, index) => {
  let value = BigInt(index);
  for (let bit = 0; bit < 8; bit++) value = value & 1n ? (value >> 1n) ^ 0x9a6c9329ac4bc9b5n : value >> 1n;
  return value;
});

/** CRC-64/NVME (NVM Express, "64b CRC"): of "123456789" 0xae8b14860a799888. */
export function crc64nvme(bytes: Uint8Array): string {
  let crc = 0xffffffffffffffffn;
  for (const byte of bytes) crc = NVME[Number((crc ^ BigInt(byte)) & 0xffn)]! ^ (crc >> 8n);
  const out = Buffer.alloc(8);
  out.writeBigUInt64BE(crc ^ 0xffffffffffffffffn);
  return out.toString('base64');
}
