/** Finding in a catalog of 10,000 tables and 200,000 columns. */
import { FindIndex } from '../server/catalog/find-index';
import type { Sql } from '../server/catalog/database';
import { Events } from '../server/events';
import { repeated, timeText, type Claim } from './lib/measure';

const TABLES = 10_000;
const COLUMNS = 20;
const WORDS = ['oxygen', 'site', 'buoy', 'depth', 'reading', 'crew', 'visit', 'limit', 'tide', 'level', 'station', 'sample'];

/** A catalog as the database would give it. */
function catalogOf(): Sql {
  const word = (n: number) => `${WORDS[n % WORDS.length]}_${(n * 2654435761) % 99991}`;
  const relations = Array.from({ length: TABLES }, (_, t) => ({
    id: t + 1, namespace: `area_${t % 50}`, name: `${word(t)}_${t}`, kind: 'table', format: 'parquet', storage: 'lake', description: `Readings of ${WORDS[(t * 7) % WORDS.length]} by ${WORDS[(t * 5) % WORDS.length]}`, owner: '', tags: t % 9 === 0 ? ['public'] : [],
    columns: Array.from({ length: COLUMNS }, (_, c) => ({ name: word(t * COLUMNS + c), type: 'double' })), notes: {}, changedAt: '2026-01-01',
  }));
  return { query: async <T>(sql: string) => (sql.includes('array_agg') ? [{ ids: relations.map((relation) => relation.id) }] : relations) as T[] };
}

export async function benchFinding(): Promise<Claim[]> {
  const index = new FindIndex(catalogOf(), new Events());
  const asks: [words: string, options: Record<string, string>][] = [['oxygen', {}], ['a', {}], ['level_77', { kind: 'column' }], ['readings tide public', {}], ['nowhere to be found', {}], ['site', { namespace: 'area_7' }]];
  for (const [words, options] of asks) await index.find(words, { limit: 40, ...options });
  const claims: Claim[] = [];
  for (const [words, options] of asks) {
    const time = await repeated(() => index.find(words, { limit: 40, ...options }), 9);
    claims.push({ what: `Find “${words}”${Object.entries(options).map(([key, value]) => `, ${key} ${value}`).join('')} among 10,000 tables and 200,000 columns`, limit: 'under 50 ms', measured: timeText(time), reference: 'fixed', holds: time.median < 50 });
  }
  return claims;
}
