/** The engine's own messages, as it gives them, in our words. */
import { writeFileSync } from 'node:fs';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../testing/lake-tools';
import { LocalEngine } from '../testing/local-engine';
import { translateError } from './translate';

let engine: LocalEngine;
const folder = temporaryFolder();
beforeAll(async () => {
  engine = await LocalEngine.start();
  writeFileSync(path.join(folder.path, 'typed.csv'), 'id,name\n1,one\nx,two\n');
  writeFileSync(path.join(folder.path, 'ragged.csv'), 'id,name\n1,one\n2,two,three\n');
  writeFileSync(path.join(folder.path, 'not.parquet'), 'PAR1 this is not one');
  writeFileSync(path.join(folder.path, 'bad.jsonl'), '{"a": 1}\n{"a": \n');
});
afterAll(folder.remove);

async function told(sql: string) {
  const error = await engine.call('run', { sql }).catch((problem: unknown) => problem);
  return translateError(error, { roots: new Map([[folder.path, 'bay']]), names: new Map([['__r0', 'refined.bottles']]), originalPosition: (bytes) => bytes });
}
const csv = (name: string) => `SELECT * FROM read_csv('${folder.path}/${name}', columns = {'id': 'bigint', 'name': 'varchar'}, auto_detect = false, header = true)`;

describe('an error of the engine', () => {
  it.each([
    ['a text that is no number', csv('typed.csv'), 'bay:typed.csv, line 3: "x" in id is not a bigint.', { path: 'typed.csv', line: 3 }],
    ['a line with too many fields', csv('ragged.csv'), 'bay:ragged.csv, line 3: expected 2 fields, found 3.', { path: 'ragged.csv', line: 3 }],
  ])('says of %s only what helps', async (_, sql, message, details) => {
    expect(await told(sql)).toMatchObject({ kind: 'bad-file', message, details });
  });

  it('names a file that is not what it claims to be, by its storage and never by its place on the machine', async () => {
    const error = (await told(`SELECT * FROM read_parquet('${folder.path}/not.parquet')`)) as Error;
    expect(error).toMatchObject({ kind: 'bad-file', details: { path: 'not.parquet' } });
    expect(error.message).not.toContain(folder.path);
    expect(await told(`SELECT * FROM read_json('${folder.path}/bad.jsonl', format = 'newline_delimited')`)).toMatchObject({ kind: 'bad-file', details: { path: 'bad.jsonl' } });
  });

  it('calls tables by their own names and gives no advice on settings that nobody can reach', async () => {
    const error = (await told('SELECT * FROM "__r0"')) as Error;
    expect(error.message).toContain('refined.bottles');
    expect(error.message).not.toContain('__r0');
  });
});
