/**
 * The API fuzzed from its own description, part of `npm run interop`: `schemathesis` (Python) sends what each operation's
 * schemas allow and what they do not, as the person and with tokens of small rights. No answer may be a server error.
 */
import { spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { projectRoot } from '../server/program-files';
import { api, BASE, startServer } from './interop-iceberg';

type Judge = (what: string, ours: unknown, theirs: unknown) => void;

const PACKAGE = 'schemathesis==4.32.5';
const cache = path.join(projectRoot, '.cache/fuzz');
/** Cases of each operation. */
const CASES = 60;

export async function checkApi(judge: Judge): Promise<void> {
  const program = path.join(cache, 'venv/bin/schemathesis');
  if (!existsSync(program)) {
    const steps = [['python3', '-m', 'venv', path.join(cache, 'venv')], [path.join(cache, 'venv/bin/python'), '-m', 'pip', 'install', '--quiet', PACKAGE]] as const;
    if (steps.some(([command, ...args]) => spawnSync(command, args, { stdio: 'ignore' }).status !== 0)) return console.log('The API was NOT fuzzed: Python 3 with schemathesis could not be set up.');
  }
  const [home, lake] = [path.join(cache, 'home'), path.join(cache, 'lake')];
  for (const folder of [home, lake]) rmSync(folder, { recursive: true, force: true });
  mkdirSync(lake, { recursive: true });
  const server = await startServer(home);
  try {
    await api('/api/storages', { name: 'bay', kind: 'folder', location: lake });
    await api('/api/query', { sql: 'CREATE NAMESPACE fuzzed' });
    await api('/api/query', { sql: "CREATE TABLE fuzzed.t WITH (format = 'delta') AS SELECT i FROM range(10) r(i)" });
    const { text: token } = await api<{ text: string }>('/api/access/tokens', { name: 'fuzz', grants: [{ on: 'fuzzed', right: 'manage' }] });
    for (const [who, header] of [['the person', []], ['a token', ['--header', `Authorization: Bearer ${token}`]]] as const) {
      const { stdout, status } = spawnSync(program, ['run', `${BASE}/api/openapi.json`, '--checks', 'not_a_server_error', '--phases', 'coverage,fuzzing', '--max-examples', String(CASES), '--exclude-path', '/api/events', '--request-timeout', '30', '--workers', '2', '--suppress-health-check', 'all', '--warnings', 'off', '--no-color', '--continue-on-failure', ...header], { encoding: 'utf8', maxBuffer: 1e9 });
      const cases = /(\d[\d,]*) (?:generated|test cases)/.exec(stdout)?.[1] ?? '?';
      const faults = [...stdout.matchAll(/^\d+\. Test Case ID.*$|^- Server error.*$|\[5\d\d\] .*$/gm)].map(([line]) => line).slice(0, 20);
      if (status !== 0) console.log(stdout.slice(-4000));
      judge(`the API fuzzed as ${who}, ${cases} cases: server errors`, [], status === 0 ? [] : faults);
      console.log(`The API was fuzzed as ${who}: ${cases} cases.`);
    }
  } finally {
    server.kill('SIGTERM');
  }
}
