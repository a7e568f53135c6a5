/** Serves the built product on the tests' port with a data folder made anew. */
import { rmSync } from 'node:fs';
import { main } from '../dist/server/main.js';

const home = '.cache/e2e-home';
rmSync(home, { recursive: true, force: true });
Object.assign(process.env, { KIND_HARBOR_HOME: home, KIND_HARBOR_PORT: '4791', KIND_HARBOR_PERSON: 'Ada Tern' });
await main([]);
