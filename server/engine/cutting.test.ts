/** Our cutting of delimited text against the engine's, which is another program: on text that both must read alike they do. */
import { mkdirSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import fc from 'fast-check';
import { afterAll, expect, it } from 'vitest';
import { quoteText } from '../../core/sql/tokens';
import { readRecords } from '../../core/text/records';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';

const folder = temporaryFolder();
afterAll(folder.remove);

it('cuts random tables as the engine does', async () => {
  const engine = await LocalEngine.start();
  mkdirSync(folder.path, { recursive: true });
  const cell = fc.string({
    unit: fc.constantFrom('a', 'b', '"', ',', ';', '\t', '|', '\n', ' ', 'ß', '1'),
    maxLength: 6,
  });
  let tables = 0;
  await fc.assert(
    fc.asyncProperty(
      fc.constantFrom(',', ';', '\t', '|'),
      fc.integer({ min: 2, max: 4 }),
      fc.array(fc.array(cell, { minLength: 4, maxLength: 4 }), { minLength: 1, maxLength: 12 }),
      async (delimiter, width, all) => {
        const rows = all.map((row) => row.slice(0, width));
        const names = rows[0]!.map((_, index) => `c${index}`);
        const written = (row: readonly string[]) =>
          row
            .map((text) =>
              /["\n]|^\s|\s$/.test(text) || text.includes(delimiter) || text === ''
                ? `"${text.replaceAll('"', '""')}"`
                : text,
            )
            .join(delimiter);
        const text = [names, ...rows].map((row) => `${written(row)}\n`).join('');
        const file = path.join(folder.path, `${++tables}.csv`);
        writeFileSync(file, text);
        const { rows: theirs } = await engine.call('run', {
          sql: `SELECT ${names.map((name) => `coalesce(${name}, '')`).join(', ')} FROM read_csv(${quoteText(file)}, columns = {${names.map((name) => `${name}: 'VARCHAR'`).join(', ')}}, auto_detect = false, header = true, delim = ${quoteText(delimiter)}, quote = '"', escape = '"', nullstr = 'no such text', parallel = false)`,
        });
        expect(
          readRecords(text, { delimiter, quote: '"', escape: '"', comment: '' })
            .records.slice(1)
            .map((record) => record.cells),
        ).toEqual(theirs);
      },
    ),
    { numRuns: 150 },
  );
});
