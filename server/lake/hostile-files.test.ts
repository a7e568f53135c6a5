/** Files that are made to hold a program up: looked into by another process, in bounds, and told by name. */
import { mkdirSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { gzipSync } from 'node:zlib';
import { afterAll, beforeAll, expect, it, vi } from 'vitest';
import { Lookers } from '../engine/fleet';
import { asStorage, storeAt, temporaryFolder } from '../testing/lake-tools';
import { Inspector } from './inspect';
import { LocalFiles } from './local-files';
import { lookAtFile } from './look';

vi.setConfig({ testTimeout: 240_000 });
const folder = temporaryFolder();
const lookers = new Lookers({ memory: 300e6, threads: 2 });
let inspector: Inspector;
beforeAll(() => {
  mkdirSync(path.join(folder.path, 'lake'));
  inspector = new Inspector(lookers, new LocalFiles(path.join(folder.path, 'cache'), 1e9, lookers));
});
afterAll(async () => {
  await lookers.close();
  folder.remove();
});
const look = (name: string, content: string | Buffer) => {
  writeFileSync(path.join(folder.path, 'lake', name), content);
  return lookAtFile(asStorage(storeAt(path.join(folder.path, 'lake'))), name, inspector);
};
/** A little gzip that stands for a quarter of a gigabyte and more. */
const bomb = (line: string) => {
  const part = gzipSync(line.repeat(Math.ceil(50e6 / line.length)));
  return Buffer.concat(Array.from({ length: 6 }, () => part));
};

it.each<[string, string, () => string | Buffer, RegExp | 'shown' | 'either']>([
  ['XML nested 200,000 deep', 'deep.xml', () => `<all><row>${'<a>'.repeat(200_000)}${'</a>'.repeat(200_000)}</row><row/></all>`, /deep\.xml.*nested more than 100 deep/],
  ['XML nested 80 deep', 'less-deep.xml', () => `<all><row>${'<a>'.repeat(80)}1${'</a>'.repeat(80)}</row><row>${'<a>'.repeat(80)}2${'</a>'.repeat(80)}</row></all>`, 'shown'],
  ['a JSON line nested 100,000 deep', 'deep.jsonl', () => `{"a":1}\n{"a":${'['.repeat(100_000)}${']'.repeat(100_000)}}\n`, /nested|deep|too large|depth/i],
  ['a gzip of 300 MB of lines', 'lines.csv.gz', () => bomb('1,2,three\n'), 'shown'],
  ['a gzip of 300 MB without a line break', 'one-line.csv.gz', () => bomb('x'), 'either'],
])('%s is looked into in bounds', async (_what, name, content, problem) => {
  const looked = await look(name, content());
  if (problem === 'shown') expect(looked.problem).toBeNull();
  else if (problem !== 'either') expect(looked.problem).toMatch(problem);
  if (name === 'lines.csv.gz') {
    expect(looked.rows).toHaveLength(50);
    expect(looked.unchecked).toContain('too large');
  }
  // And the next one is served.
  expect((await look('good.csv', 'a,b\n1,2\n3,4\n')).rows).toEqual([[1, 2], [3, 4]]);
});
