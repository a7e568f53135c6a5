/** Serves the built product on the tests' port with a data folder made anew. */
import { rmSync } from 'node:fs';
import { main } from '../dist/server/main.js';

const shard = Number(process.env.E2E_SHARD ?? 1);
const home = `.cache/e2e-home-${shard}`;
rmSync(home, { recursive: true, force: true });
Object.assign(process.env, { KIND_HARBOR_HOME: home, KIND_HARBOR_PORT: String(4790 + shard), KIND_HARBOR_PERSON: 'Ada Tern' });
await main([]);
