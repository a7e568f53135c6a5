import fc from 'fast-check';
import { expect, it } from 'vitest';
import { RecordStream } from './record-stream';
import { readRecords } from './records';

const dialect = { delimiter: ',', quote: '"', escape: '"', comment: '' };

it('cuts a text that comes in parts as it cuts the whole, wherever it is broken', () => {
  const texts = fc
    .array(fc.constantFrom('a', 'é', ',', '"', '""', '\n', '\r', '\r\n', ' ', '1'), { maxLength: 60 })
    .map((parts) => parts.join(''));
  fc.assert(
    fc.property(texts, fc.integer({ min: 1, max: 7 }), (text, size) => {
      const stream = new RecordStream(dialect, 0);
      const found = [];
      for (let at = 0; at < text.length; at += size) found.push(...stream.push(text.slice(at, at + size)));
      found.push(...stream.end());
      const whole = readRecords(text, dialect);
      // A quote that nothing closes is another thing to who knows the end.
      fc.pre(whole.openQuote === undefined);
      expect(found.map(({ cells, line }) => ({ cells, line }))).toEqual(
        whole.records.map(({ cells, line }) => ({ cells, line })),
      );
    }),
    { numRuns: 500 },
  );
});

it('reads back whatever RFC 4180 can hold', () => {
  const cells = fc.string({ unit: fc.constantFrom('a', '"', ',', '\n', '\r\n', ' ', 'ß', '') });
  fc.assert(
    fc.property(fc.array(fc.array(cells, { minLength: 2, maxLength: 2 }), { minLength: 1, maxLength: 5 }), (rows) => {
      const text = rows.map((row) => `${row.map((cell) => `"${cell.replaceAll('"', '""')}"`).join(',')}\r\n`).join('');
      expect(readRecords(text, dialect).records.map((record) => record.cells)).toEqual(rows);
    }),
    { numRuns: 300 },
  );
});
