/** Footers of files that other writers made, against an independent reader of them. */
import { readdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { parquetMetadata } from 'hyparquet';
import { describe, expect, it } from 'vitest';
import { footerStart, parseFooter } from './footer';

const files = readdirSync('fixtures', { recursive: true, encoding: 'utf8' }).filter((name) => name.endsWith('.parquet')).map((name) => path.join('fixtures', name));
const footer = (bytes: Uint8Array) => parseFooter(bytes.subarray(footerStart(bytes.length, bytes.subarray(-8))));

describe('a Parquet footer', () => {
  it('tells rows as an independent reader does, and the same schema for the same columns', () => {
    expect(files.length).toBeGreaterThan(5);
    const shapes = new Map<string, string>();
    for (const file of files) {
      const bytes = new Uint8Array(readFileSync(file));
      const { rows, schema } = footer(bytes);
      const known = parquetMetadata(bytes.buffer);
      expect([file, rows]).toEqual([file, Number(known.num_rows)]);
      const columns = JSON.stringify(known.schema);
      expect(shapes.get(columns) ?? schema).toBe(schema);
      shapes.set(columns, schema);
    }
    expect(new Set(shapes.values()).size).toBe(shapes.size);
  });

  it.each([
    ['too few bytes', new Uint8Array(4), 'fewer than a Parquet footer'],
    ['another mark', new TextEncoder().encode('id,name\n1,one\n'), 'no Parquet file, or was cut short'],
    ['a length beyond the file', new Uint8Array([0, 0, 0, 0, 255, 255, 0, 0, 80, 65, 82, 49]), 'more than the file'],
    ['an encrypted one', new Uint8Array([0, 0, 0, 0, 0, 0, 0, 0, 80, 65, 82, 69]), 'encrypted'],
  ])('says what is wrong: %s', (_, bytes, why) => {
    expect(() => footer(bytes)).toThrow(why);
  });

  it('is never read beyond its end, wherever it is damaged', () => {
    const bytes = new Uint8Array(readFileSync(files[0]!));
    const start = footerStart(bytes.length, bytes.subarray(-8));
    const whole = bytes.subarray(start, bytes.length - 8);
    for (let cut = 1; cut < Math.min(whole.length, 400); cut++) {
      const outcome = (() => { try { return parseFooter(whole.subarray(0, cut)); } catch (error) { return error; } })();
      if (!(outcome instanceof Error)) expect(outcome).toEqual(parseFooter(whole));
    }
  });
});
