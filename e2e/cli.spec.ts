/** The command line does what the pages do, with exit codes that scripts can go by. */
import { spawnSync } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { expect, test } from '@playwright/test';
import { address } from './served';

const folder = mkdtempSync(path.join(os.tmpdir(), 'harbor-cli-'));
const file = (name: string, text: string) => {
  writeFileSync(path.join(folder, name), text);
  return path.join(folder, name);
};
test.afterAll(async ({ request }) => {
  rmSync(folder, { recursive: true, force: true });
  await request.delete('/api/namespaces/yard?files=remove&confirm=yard');
});

function harbor(args: string[], env: Record<string, string> = {}) {
  const { status, stdout, stderr } = spawnSync(process.execPath, ['--import', 'tsx', 'cli/main.ts', ...args], { encoding: 'utf8', env: { ...process.env, KIND_HARBOR_URL: address, ...env } });
  return { status, stdout, stderr };
}
const json = (...args: string[]) => {
  const { status, stdout, stderr } = harbor(['--json', ...args]);
  expect(status, stderr).toBe(0);
  return JSON.parse(stdout) as unknown;
};

test('defines, loads, looks and drops', () => {
  expect(harbor(['create', file('yard.json', '{"namespace": "yard", "comment": "Boats ashore"}')])).toMatchObject({ status: 0, stdout: 'The namespace yard was made.\n' });
  const table = { namespace: 'yard', table: 'boats', comment: 'One a boat', format: 'iceberg', key: ['id'], partitionBy: ['bucket(4, id)'], columns: [{ name: 'id', type: 'bigint', nullable: false }, { name: 'name', type: 'varchar' }], properties: { 'write.delete.mode': 'merge-on-read' } };
  expect(harbor(['create', file('boats.json', JSON.stringify(table))]).status).toBe(0);
  expect(harbor(['definition', 'yard.boats']).stdout).toBe("CREATE TABLE yard.boats (\n  id bigint NOT NULL,\n  name varchar,\n  PRIMARY KEY (id)\n)\nCOMMENT 'One a boat'\nPARTITION BY (bucket(4, id))\nWITH (\n  format = 'iceberg',\n  write.delete.mode = 'merge-on-read'\n)\n");
  const query = "SELECT * FROM (VALUES (1, 'Tern'), (2, 'Plover')) AS v(id, name)";
  expect(json('load', 'yard.boats', '--query', query)).toMatchObject({ rowsInserted: 2, difference: 0 });
  expect(json('load', 'yard.boats', '--query', query)).toMatchObject({ rowsInserted: 0, loadedIn: 1 });
  expect(json('query', 'SELECT * FROM yard.boats ORDER BY id')).toEqual([{ id: 1, name: 'Tern' }, { id: 2, name: 'Plover' }]);
  expect(harbor(['query', 'SELECT * FROM yard.boats ORDER BY id']).stdout).toMatch(/│ id │ name\s+│[\s\S]*│\s+1 │ Tern\s+│/);
  expect(json('list', 'yard')).toEqual([{ name: 'boats', kind: 'table', format: 'iceberg', kept: 'managed', description: 'One a boat' }]);
  expect(json('partitions', 'yard.boats')).toEqual([{ id_bucket_4: '0', files: 1, rows: 2, bytes: expect.any(Number) }]);
  expect(harbor(['drop', 'yard.boats']).stdout).toContain('wait in the trash');
  expect(harbor(['undrop', 'yard.boats']).status).toBe(0);
  expect(json('query', 'SELECT count(*) AS n FROM yard.boats')).toEqual([{ n: 2 }]);
});

test('crawls a folder and shows what it found', () => {
  const found = json('crawl', 'tern-bay:landing/tide-table') as { finding: string; files: number }[];
  expect(found).toEqual([expect.objectContaining({ finding: 'landing.tide_table', files: 12 })]);
});

test('says what went wrong, and exits so that a script can tell', () => {
  expect(harbor(['query', 'SELECT * FROM yard.nothing'])).toMatchObject({ status: 1, stdout: '', stderr: expect.stringContaining('There is no table yard.nothing in the catalog.') });
  const script = harbor(['run', file('three.sql', 'SELECT 1 AS one; SELECT oops; SELECT 3 AS three')]);
  expect(script).toMatchObject({ status: 1, stdout: expect.stringContaining('one'), stderr: expect.stringContaining('SELECT oops: Referenced column "oops" was not found') });
  expect(script.stderr).toContain('The 1 after it were not run.');
  expect(script.stdout).not.toContain('three');
  expect(harbor(['load', 'yard.boats', '--query', "SELECT 'x' AS id", '--dry-run'])).toMatchObject({ status: 1, stdout: expect.stringContaining('Problem: column id is bigint and what is loaded has varchar, of which 1 values have no place in it.') });
  expect(harbor(['create', file('bad.json', '{"table": "t"}')])).toMatchObject({ status: 1, stderr: expect.stringContaining('"namespace" is required') });
  expect(harbor(['fly'])).toMatchObject({ status: 2, stderr: expect.stringContaining("unknown command 'fly'") });
  expect(harbor(['list'], { KIND_HARBOR_URL: 'http://127.0.0.1:9' })).toMatchObject({ status: 3, stderr: expect.stringContaining('No server answers at http://127.0.0.1:9') });
  expect(harbor(['list'], { KIND_HARBOR_TOKEN: 'kh_0123456789abcdef_aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa' })).toMatchObject({ status: 1, stderr: expect.stringContaining('The token is not known here') });
});
