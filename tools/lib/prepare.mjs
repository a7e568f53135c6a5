/**
 * Brings a fresh clone to a state in which it can run: packages installed, sources built.
 * Uses Node's own modules only, since nothing else is there yet. Every step is skipped when its
 * stamp (a hash of what it depends on) has not changed.
 */
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';

export const root = path.resolve(path.dirname(fileURLToPath(import.meta.url)), '../..');

/** Ends the program with one sentence when this Node.js is too old or too new. */
export function checkNode() {
  const [major, minor] = process.versions.node.split('.').map(Number);
  if (major < 20 || (major === 20 && minor < 19)) {
    console.error(`Kind Harbor needs Node.js 20.19 or newer; this is ${process.versions.node}.`);
    process.exit(1);
  }
}

/** Runs npm with the npm that called us, or the one on the path. */
function npm(args) {
  const cli = process.env.npm_execpath;
  const env = { ...process.env, NODE_ENV: 'development' };
  const result = cli
    ? spawnSync(process.execPath, [cli, ...args], { cwd: root, stdio: 'inherit', env })
    : spawnSync('npm', args, { cwd: root, stdio: 'inherit', env, shell: process.platform === 'win32' });
  return result.status ?? 1;
}

export function ensureInstalled() {
  const stampFile = path.join(root, 'node_modules', '.kind-harbor-stamp');
  const stamp = hashOf([readFileSync(path.join(root, 'package-lock.json')), process.version, process.platform, process.arch]);
  if (existsSync(stampFile) && readFileSync(stampFile, 'utf8') === stamp) return;
  console.log('Installing packages (first start, or the lock file changed) …');
  if (npm(['ci', '--include=dev', '--no-fund', '--no-audit', '--loglevel=error']) !== 0) {
    console.error('Installing the packages failed; the lines above say why.');
    process.exit(1);
  }
  writeFileSync(stampFile, stamp);
}

const builtFrom = ['core', 'server', 'web', 'demo', 'tools/build.mjs', 'vite.config.ts', 'package-lock.json'];

export function ensureBuilt() {
  const stampFile = path.join(root, 'dist', '.stamp');
  const files = builtFrom.flatMap((name) => filesUnder(path.join(root, name))).filter((file) => !/\.test\.ts$/.test(file));
  const stamp = hashOf(files.flatMap((file) => [path.relative(root, file), readFileSync(file)]));
  if (existsSync(stampFile) && readFileSync(stampFile, 'utf8') === stamp) return;
  console.log('Building …');
  const result = spawnSync(process.execPath, ['tools/build.mjs'], {
    cwd: root,
    stdio: 'inherit',
    env: { ...process.env, NODE_ENV: 'production' },
  });
  if (result.status !== 0) {
    console.error('The build failed; the lines above say why.');
    process.exit(1);
  }
  mkdirSync(path.dirname(stampFile), { recursive: true });
  writeFileSync(stampFile, stamp);
}

function filesUnder(start) {
  if (!existsSync(start)) return [];
  const entries = (() => {
    try {
      return readdirSync(start, { withFileTypes: true });
    } catch {
      return null;
    }
  })();
  if (entries === null) return [start];
  return entries
    .sort((a, b) => (a.name < b.name ? -1 : 1))
    .flatMap((entry) => (entry.isDirectory() ? filesUnder(path.join(start, entry.name)) : [path.join(start, entry.name)]));
}

function hashOf(parts) {
  const hash = createHash('sha256');
  for (const part of parts) hash.update(part).update('\0');
  return hash.digest('hex');
}
