/**
 * `npm run bench`: measures every claim about speed and size against its reference in this same run, prints the
 * ratios, writes docs/bench.md, and ends with an error when one does not hold. `-- --only queries` runs one part.
 */
import { writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { projectRoot } from '../server/program-files';
import { benchConcurrency } from './concurrency';
import { benchCrawls } from './crawls';
import { benchDelta } from './delta';
import { benchFinding } from './finding';
import { benchIceberg, benchRestCommits } from './iceberg';
import { benchMemory, benchPages } from './footprint';
import { benchLoading } from './loading';
import type { Claim } from './lib/measure';
import { startServer, type Running } from './lib/server';
import { benchManyFiles } from './many-files';
import { benchQueries } from './queries';
import { benchPeople } from './people';
import { benchReading } from './reading';
import { benchStandard } from './standard';

const SCALE = 20;
const only = process.argv.includes('--only') ? process.argv[process.argv.indexOf('--only') + 1] : undefined;
const claims: Claim[] = [];

if (!only || only === 'queries') {
  await withServer(await startServer(SCALE, 4792), async (large) => claims.push(...(await benchQueries(large)), ...benchMemory(large)));
}
if (!only || only === 'crawls') {
  await withServer(await startServer(1, 4793, { fresh: true }), async (small) => claims.push(...(await benchCrawls(small)), ...(await benchManyFiles(small))));
}
if (!only || only === 'reading') await withServer(await startServer(1, 4793, { fresh: true }), async (small) => claims.push(...(await benchReading(small))));
if (!only || only === 'standard') claims.push(...(await benchStandard()));
if (!only || only === 'concurrency') await withServer(await startServer(1, 4793), async (small) => claims.push(...(await benchConcurrency(small))));
if (!only || only === 'people') await withServer(await startServer(1, 4793), async (small) => claims.push(...(await benchPeople(small))));
if (!only || only === 'delta') claims.push(...(await benchDelta()));
if (!only || only === 'iceberg') {
  claims.push(...(await benchIceberg()));
  await withServer(await startServer(1, 4793), async (small) => claims.push(...(await benchRestCommits(small))));
}
if (!only || only === 'loading') await withServer(await startServer(1, 4793), async (small) => claims.push(...(await benchLoading(small))));
if (!only || only === 'finding') claims.push(...(await benchFinding()));
if (!only || only === 'pages') claims.push(...benchPages());

for (const { what, limit, measured, reference, holds } of claims) console.log(`${holds ? 'holds ' : 'MISSED'}  ${what}: ${measured}; limit: ${limit}; reference: ${reference}`);
if (!only) writeFileSync(path.join(projectRoot, 'docs/bench.md'), report(claims));
process.exit(claims.every((claim) => claim.holds) ? 0 : 1);

async function withServer(server: Running, work: (server: Running) => Promise<unknown>): Promise<void> {
  try {
    await work(server);
  } finally {
    await server.stop();
  }
}

function report(all: readonly Claim[]): string {
  const rows = all.map(({ what, limit, measured, reference, holds }) => `| ${what} | ${limit} | ${measured} | ${reference} | ${holds ? 'yes' : '**no**'} |`);
  return `# Measured

Written by \`npm run bench\` on ${new Date().toISOString().slice(0, 10)}: ${os.availableParallelism()} cores, Node.js ${process.versions.node}, the demo lake at scale ${SCALE} (12.4 million soundings)
for queries and at scale 1 for crawls. Each figure is the median of runs in turn with its reference, with the least
and the most in brackets. Trust the ratios more than the times.

| what | limit | measured | reference | holds |
|---|---|---|---|---|
${rows.join('\n')}
`;
}
