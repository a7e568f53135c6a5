/** `npm start`: installs what is missing, builds, and serves. `-- --empty` starts without demo data. */
import path from 'node:path';
import { pathToFileURL } from 'node:url';
import { checkNode, ensureBuilt, ensureInstalled, root } from './lib/prepare.mjs';

checkNode();
ensureInstalled();
ensureBuilt();
const { main } = await import(pathToFileURL(path.join(root, 'dist/server/main.js')).href);
await main(process.argv.slice(2));
