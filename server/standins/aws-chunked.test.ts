/** Chunked bodies: S3 API reference, "Signature calculations for the Authorization header: transferring payload in multiple chunks", and its trailing checksums. */
import { describe, expect, it } from 'vitest';
import { BadBody, crc32c, crc64nvme, decodedBody } from './aws-chunked';

const headers = { 'content-encoding': 'aws-chunked', 'x-amz-decoded-content-length': '11' };
const chunks = (trailer = '') => Buffer.from(`5;chunk-signature=${'a'.repeat(64)}\r\nhello\r\n6\r\n world\r\n0\r\n${trailer}\r\n`);
const code = (work: () => unknown) => {
  try {
    work();
    return 'fine';
  } catch (error) {
    return error instanceof BadBody ? error.problem.code : String(error);
  }
};

describe('a body in chunks', () => {
  it('is put together, signed or not, with trailers or none', () => {
    expect(decodedBody(headers, chunks()).toString()).toBe('hello world');
    expect(decodedBody({ 'x-amz-content-sha256': 'STREAMING-UNSIGNED-PAYLOAD-TRAILER' }, chunks('x-amz-checksum-crc32:DUoRhQ==\r\n')).toString()).toBe('hello world');
  });

  it('is refused where a checksum, a length or a chunk does not fit', () => {
    expect(code(() => decodedBody(headers, chunks('x-amz-checksum-crc32:AAAAAA==\r\n')))).toBe('BadDigest');
    expect(code(() => decodedBody({ ...headers, 'x-amz-checksum-sha256': 'AAAA' }, chunks()))).toBe('BadDigest');
    expect(code(() => decodedBody({ ...headers, 'x-amz-decoded-content-length': '12' }, chunks()))).toBe('IncompleteBody');
    expect(code(() => decodedBody(headers, chunks().subarray(0, 90)))).toBe('IncompleteBody');
    expect(code(() => decodedBody(headers, Buffer.from('hello world\r\n')))).toBe('InvalidRequest');
  });

  it('that comes whole is taken as it is', () => {
    expect(decodedBody({}, Buffer.from('5\r\nhello')).toString()).toBe('5\r\nhello');
  });

  it('has checksums of the published check values', () => {
    expect(crc32c(new Uint8Array(32))).toBe(0x8a9136aa);
    expect(Buffer.from(crc64nvme(Buffer.from('123456789')), 'base64').toString('hex')).toBe('ae8b14860a799888');
  });
});
