/** Runs one of our TypeScript tools: `node tools/run.mjs FILE [ARGUMENTS]`, after installing and building what is missing. */
import { spawn } from 'node:child_process';
import { checkNode, ensureBuilt, ensureInstalled, root } from './lib/prepare.mjs';

checkNode();
ensureInstalled();
ensureBuilt();
const child = spawn(process.execPath, ['--import', 'tsx', ...process.argv.slice(2)], { cwd: root, stdio: 'inherit' });
for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => child.kill(signal));
child.on('exit', (code) => process.exit(code ?? 1));
