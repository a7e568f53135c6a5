/** Plain files of every format that is written, read by independent libraries. */
import { execFileSync } from 'node:child_process';
import { mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { readFileKind } from '../core/write/file-kind';
import { projectRoot } from '../server/program-files';
import type { LocalEngine } from '../server/testing/local-engine';
import { fileWriter } from '../server/write/write-format';

const VALUES = `SELECT 9007199254740993::BIGINT AS long, -7 AS small, -1.50::DECIMAL(9,2) AS price, -12345678901234567890123456.789::DECIMAL(38,3) AS wide, '\\x00\\xAB\\x5Cx41'::BLOB AS bytes,
  TIMESTAMP '2026-03-14 01:02:03.5' AS local_at, TIMESTAMPTZ '2026-03-14 01:02:03+02' AS at_utc, DATE '1966-01-01' AS day, TIME '01:02:03.5' AS clock, '6f1b7bd4-6a8f-4d0c-9f7c-0d6a2d8f4f10'::UUID AS id, MAP {'a': 1} AS counts,
  [1, NULL] AS list, {'x': 1, 'y': NULL::VARCHAR, 'at': DATE '2026-03-14'} AS pair, 0.1::DOUBLE AS tenth, true AS yes, NULL::INTEGER AS nothing, 'é "|' || chr(10) || ',' AS text, 'nan'::DOUBLE AS no, '-inf'::FLOAT AS far FROM range(5000)`;
const FILES: Record<string, Record<string, string>> = {
  'values.avro': { format: 'avro' }, 'values-none.avro': { format: 'avro', compression: 'none' }, 'values.parquet': { format: 'parquet' }, 'values.csv': { format: 'csv', delimiter: '|' }, 'values.jsonl.gz': { format: 'jsonl', compression: 'gzip' },
};

/** Prints a line for each check; returns how many failed. */
export async function checkFiles(engine: LocalEngine, python: string): Promise<{ passed: number; failed: number }> {
  const folder = path.join(projectRoot, '.cache/interop/files');
  rmSync(folder, { recursive: true, force: true });
  mkdirSync(folder, { recursive: true });
  const step = (sql: string) => engine.call('run', { sql });
  const columns = (await step(`DESCRIBE ${VALUES}`)).rows.map(([name, type]) => ({ name: String(name), type: String(type).toLowerCase() }));
  for (const [name, options] of Object.entries(FILES)) {
    const writer = fileWriter(readFileKind(options), columns, step, engine);
    await writer.write(`SELECT ${writer.select.join(', ')} FROM (${VALUES}) AS v`, path.join(folder, name));
  }
  const lines = execFileSync(python, [path.join(projectRoot, 'tools/interop/check_files.py'), folder], { encoding: 'utf8' }).trim().split('\n');
  const failed = lines.filter((line) => !line.startsWith('ok '));
  for (const line of failed) console.log(line);
  return { passed: lines.length - failed.length, failed: failed.length };
}
