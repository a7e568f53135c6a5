/** The demo lake is the same on every run, byte by byte. Iceberg metadata is left out: it names the folder it lies in. */
import { createHash } from 'node:crypto';
import { readdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { expect, test } from '@playwright/test';
import { home } from './served';

const lake = `${home}/lake/tern-bay`;
/** Of every file's path and bytes; changes when the demo's data, its writers or the engine's version do. */
const EXPECTED = 'a6f54852f08a67bcb2b2bec3a70d0f5f03b09ebffaf3752a6bf23eb0c5c74e9a';

test('the demo lake has the bytes it always had', () => {
  const files = ['landing', 'refined/bottles', 'refined/soundings/data', 'refined/sightings/data']
    .flatMap((folder) => readdirSync(path.join(lake, folder), { recursive: true, encoding: 'utf8', withFileTypes: true }))
    .filter((entry) => entry.isFile()).map((entry) => path.join(entry.parentPath, entry.name)).sort();
  const hash = createHash('sha256');
  for (const file of files) hash.update(path.relative(lake, file)).update('\0').update(readFileSync(file));
  expect(files.length).toBeGreaterThan(5000);
  expect(hash.digest('hex')).toBe(EXPECTED);
});
