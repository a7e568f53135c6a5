/**
 * `npm test`: installs what is missing, then lint, types and unit tests side by side, then the browser tests.
 * Lint and types count as one check each. The last line is `N passed, N failed`.
 */
import { spawn } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, rmSync } from 'node:fs';
import path from 'node:path';
import { checkNode, ensureBuilt, ensureInstalled, root } from './lib/prepare.mjs';
import { ensureChromium } from './lib/chromium.mjs';

checkNode();
ensureInstalled();
const chromium = ensureChromium();
const reports = path.join(root, '.cache', 'test-reports');
rmSync(reports, { recursive: true, force: true });
mkdirSync(reports, { recursive: true });
let passed = 0;
let failed = 0;

const bin = (name) => path.join(root, 'node_modules', '.bin', name);
const unitReport = path.join(reports, 'unit.json');
const browserReport = path.join(reports, 'browser.json');

ensureBuilt();
const [lint, types, unit] = await Promise.all([
  run('lint', bin('eslint'), ['.', '--max-warnings', '0']),
  run('types', bin('vue-tsc'), ['--noEmit', '-p', 'tsconfig.json']),
  run('unit tests', bin('vitest'), ['run', '--reporter=dot', '--reporter=json', `--outputFile.json=${unitReport}`]),
]);
for (const code of [lint, types]) code === 0 ? passed++ : failed++;
count(unit, unitReport, (report) => [report.numPassedTests, report.numFailedTests]);

const browser = await run('browser tests', bin('playwright'), ['test'], {
  CHROMIUM_PATH: chromium,
  PLAYWRIGHT_JSON_OUTPUT_NAME: browserReport,
});
count(browser, browserReport, (report) => [report.stats.expected + report.stats.flaky, report.stats.unexpected]);

console.log(`${passed} passed, ${failed} failed`);
process.exit(failed === 0 ? 0 : 1);

/** Adds a runner's own counts; a runner that ended badly without a failed test still counts as one failure. */
function count(code, reportFile, read) {
  const [good, bad] = existsSync(reportFile) ? read(JSON.parse(readFileSync(reportFile, 'utf8'))) : [0, 0];
  passed += good;
  failed += bad === 0 && (code !== 0 || good === 0) ? 1 : bad;
}

function run(title, command, args, env = {}) {
  const started = Date.now();
  return new Promise((resolve) => {
    const child = spawn(command, args, { cwd: root, env: { ...process.env, ...env, NODE_ENV: 'test' }, stdio: ['ignore', 'pipe', 'pipe'] });
    let output = '';
    child.stdout.on('data', (data) => (output += data));
    child.stderr.on('data', (data) => (output += data));
    child.on('error', (error) => (output += error.message));
    child.on('close', (code) => {
      console.log(`\n── ${title}: ${code === 0 ? 'passed' : 'FAILED'} in ${((Date.now() - started) / 1000).toFixed(1)} s`);
      if (output.trim()) console.log(output.trimEnd());
      resolve(code ?? 1);
    });
  });
}
