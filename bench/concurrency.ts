/**
 * Clients that insert through the API at once, for a minute each: of what was acknowledged nothing may be lost or doubled,
 * and the log may have no gap. Held against the files themselves.
 */
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import type { Claim } from './lib/measure';
import type { Running } from './lib/server';

const CLIENTS = [4, 8, 32];
const SECONDS = Number(process.env.KIND_HARBOR_BENCH_SECONDS ?? 60);

export async function benchConcurrency(server: Running): Promise<Claim[]> {
  const claims: Claim[] = [];
  const ask = async <T>(sql: string): Promise<T> => {
    const response = await fetch(`${server.base}/api/query`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ sql, maxRows: 1_000_000 }) });
    const body = (await response.json()) as T & { detail?: string };
    if (!response.ok) throw new Error(body.detail ?? String(response.status));
    return body;
  };
  for (const format of ['delta', 'iceberg']) {
    for (const clients of CLIENTS) {
      const table = `refined.at_once_${format}_${clients}`;
      await ask(`CREATE TABLE ${table} (k BIGINT, client INTEGER) WITH (format = '${format}')`);
      const acknowledged: number[] = [];
      const refused = new Map<string, number>();
      const until = Date.now() + SECONDS * 1000;
      let next = 0;
      await Promise.all(Array.from({ length: clients }, async (_, client) => {
        while (Date.now() < until) {
          const k = next++;
          // One in five changes a row of its own, so that files go as well as come.
          const sql = k % 5 === 4 ? `UPDATE ${table} SET client = client WHERE k = ${k - clients}` : `INSERT INTO ${table} VALUES (${k}, ${client})`;
          try {
            await ask(sql);
            if (k % 5 !== 4) acknowledged.push(k);
          } catch (error) {
            const why = (error as Error).message.slice(0, 60);
            refused.set(why, (refused.get(why) ?? 0) + 1);
          }
        }
      }));
      const { rows } = await ask<{ rows: [number, number][] }>(`SELECT k, count(*) FROM ${table} GROUP BY k`);
      const found = new Map(rows.map(([k, count]) => [Number(k), Number(count)]));
      const lost = acknowledged.filter((k) => !found.has(k)).length;
      const doubled = [...found.values()].filter((count) => count > 1).length;
      const gaps = format === 'delta' ? gapsIn(path.join(server.home, 'lake'), `at_once_${format}_${clients}`) : 0;
      claims.push({
        what: `${clients} clients insert and update one ${format} table through the API for ${SECONDS} s`, limit: '0 lost, 0 doubled, no gap in the log',
        measured: `${acknowledged.length} inserts acknowledged, ${lost} lost, ${doubled} doubled, ${gaps} gaps; ${[...refused.values()].reduce((sum, each) => sum + each, 0)} refused`, reference: 'the rows and the log themselves', holds: lost === 0 && doubled === 0 && gaps === 0,
      });
      for (const [why, count] of refused) console.log(`  refused ${count} times: ${why}`);
      await ask(`DROP TABLE ${table}`);
    }
  }
  return claims;
}

/** Versions without a commit file between the first and the last. */
function gapsIn(lake: string, name: string): number {
  const folder = readdirSync(lake, { recursive: true, encoding: 'utf8' }).find((each) => each.endsWith(`${name}/_delta_log`));
  if (folder === undefined || !existsSync(path.join(lake, folder))) throw new Error(`there is no log of ${name}`);
  const versions = readdirSync(path.join(lake, folder)).flatMap((file) => (/^(\d{20})\.json$/.test(file) ? [Number(file.slice(0, 20))] : [])).sort((a, b) => a - b);
  for (const version of versions) JSON.parse(readFileSync(path.join(lake, folder, `${String(version).padStart(20, '0')}.json`), 'utf8').split('\n')[0]!);
  return versions.filter((version, index) => index > 0 && version !== versions[index - 1]! + 1).length;
}
