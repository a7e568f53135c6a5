/**
 * `npm run nodes`: starts the built server and runs the unit tests on the oldest and the newest Node.js that is supported.
 * The npm package `node` brings each. Exit code 2: one could not be had, so that nothing was tried on it.
 */
import { spawn, spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, rmSync } from 'node:fs';
import { createServer } from 'node:net';
import path from 'node:path';
import { stripVTControlCharacters } from 'node:util';
import { ensureBuilt, ensureInstalled, root } from './lib/prepare.mjs';

const VERSIONS = ['20.19.0', '26'];
const START_SECONDS = 240;

ensureInstalled();
ensureBuilt();
let failed = false;
for (const version of VERSIONS) {
  const node = nodeOf(version);
  if (!node) {
    console.log(`Node.js ${version} could NOT be installed, so nothing was tried on it.`);
    process.exitCode = 2;
    continue;
  }
  const started = await starts(node);
  const tests = spawnSync(node, ['node_modules/vitest/vitest.mjs', 'run', '--reporter=dot'], { cwd: root, encoding: 'utf8', env: { ...process.env, NODE_ENV: 'test' }, maxBuffer: 1e9 });
  const [summary = 'no summary'] = /Tests .*/.exec(stripVTControlCharacters(tests.stdout)) ?? [];
  console.log(`Node.js ${spawnSync(node, ['--version'], { encoding: 'utf8' }).stdout.trim()}: the server ${started ? 'starts with the demo' : 'does NOT start'}; unit tests ${tests.status === 0 ? 'pass' : 'FAIL'} (${summary.trim()})`);
  if (tests.status !== 0) console.log(`${tests.stdout}\n${tests.stderr}`.split('\n').filter((line) => /FAIL|Error/.test(line)).slice(0, 20).join('\n'));
  failed ||= !started || tests.status !== 0;
}
if (failed) process.exit(1);

/** The program, or undefined where the registry does not give it. */
function nodeOf(version) {
  const folder = path.join(root, '.cache', 'nodes', version);
  const program = path.join(folder, 'node_modules', 'node', 'bin', 'node');
  mkdirSync(folder, { recursive: true });
  // Its installer only links the program into place, so it runs although others' may not.
  if (!existsSync(program)) spawnSync('npm', ['install', '--prefix', folder, '--no-save', '--no-fund', '--no-audit', '--loglevel=error', `node@${version}`], { cwd: folder, stdio: 'inherit', env: { ...process.env, npm_config_engine_strict: 'false' } });
  return spawnSync(program, ['--version']).status === 0 ? program : undefined;
}

/** Whether the server comes up on it with its demo lake. */
async function starts(node) {
  const home = path.join(root, '.cache', 'nodes', 'home');
  rmSync(home, { recursive: true, force: true });
  mkdirSync(home, { recursive: true });
  const port = await freePort();
  const child = spawn(node, ['-e', "import('./dist/server/main.js').then(({ main }) => main([]))"], { cwd: root, stdio: ['ignore', 'ignore', 'inherit'], env: { ...process.env, KIND_HARBOR_HOME: home, KIND_HARBOR_PORT: String(port) } });
  try {
    for (let second = 0; second < START_SECONDS && child.exitCode === null; second++) {
      await new Promise((resolve) => setTimeout(resolve, 1000));
      if (await fetch(`http://127.0.0.1:${port}/api/health`).then(({ status }) => status === 200, () => false)) return true;
    }
    return false;
  } finally {
    const ended = new Promise((resolve) => child.once('exit', resolve));
    child.kill('SIGTERM');
    if (child.exitCode === null) await ended;
    rmSync(home, { recursive: true, force: true });
  }
}

function freePort() {
  return new Promise((resolve) => {
    const server = createServer().listen(0, '127.0.0.1', () => {
      const { port } = server.address();
      server.close(() => resolve(port));
    });
  });
}
