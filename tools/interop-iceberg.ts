/** The Iceberg part of `npm run interop`: the built server on a port of its own, and an independent library in Python as its client. */
import { execFile, fork, type ChildProcess } from 'node:child_process';
import { mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { promisify } from 'node:util';
import { projectRoot } from '../server/program-files';

type Judge = (what: string, ours: unknown, theirs: unknown) => void;
interface Rows {
  columns: string[];
  rows: unknown[][];
}

const PORT = 4797;
export const BASE = `http://127.0.0.1:${PORT}`;
/** Ways of writing of our tables. */
const MARKED = Object.fromEntries(['delete', 'update', 'merge'].map((kind) => [`write.${kind}.mode`, 'merge-on-read']));
const OURS: Record<string, { properties?: Record<string, string>; fields?: { 'source-id': number; name: string; transform: string }[]; version?: string; isNotRenamed?: true }> = {
  copied: {},
  marked: { properties: MARKED },
  marked_by_file: { properties: { ...MARKED, 'write.delete.granularity': 'file' }, fields: [{ 'source-id': 2, name: 'name_trunc', transform: 'truncate[6]' }] },
  divided: { fields: [{ 'source-id': 1, name: 'n_bucket', transform: 'bucket[4]' }, { 'source-id': 3, name: 'day_month', transform: 'month' }] },
  packed: { properties: { 'write.metadata.compression-codec': 'gzip' }, fields: [{ 'source-id': 5, name: 'at_hour', transform: 'hour' }] },
  plain: { properties: MARKED, fields: [{ 'source-id': 3, name: 'day', transform: 'identity' }], isNotRenamed: true },
  plain_version3: { version: '3', properties: MARKED, isNotRenamed: true },
  version3: { version: '3' },
  version3_marked: { version: '3', properties: MARKED },
};
const SCHEMA = {
  type: 'struct', fields: [
    { id: 1, name: 'n', required: false, type: 'long' }, { id: 2, name: 'name', required: false, type: 'string' }, { id: 3, name: 'day', required: false, type: 'date' }, { id: 4, name: 'price', required: false, type: 'decimal(10, 2)' },
    { id: 5, name: 'at', required: false, type: 'timestamptz' }, { id: 6, name: 'x', required: false, type: 'double' }, { id: 7, name: 'place', required: false, type: { type: 'struct', fields: [{ id: 8, name: 'lat', required: false, type: 'double' }, { id: 9, name: 'tags', required: false, type: { type: 'list', 'element-id': 10, element: 'string', 'element-required': false } }] } },
  ],
};
const rowsOf = (from: number, to: number) => `
  SELECT n::BIGINT AS n, CASE WHEN n % 5 = 0 THEN NULL ELSE 'näme ' || n END AS name, DATE '2026-03-01' + (n % 40)::INTEGER AS day, (n + 0.25)::DECIMAL(10,2) AS price,
         TIMESTAMPTZ '2026-03-01 00:00:00+00' + to_microseconds(n) AS "at", CASE WHEN n = 3 THEN 'nan'::DOUBLE ELSE n / 4 END AS x, {'lat': n / 2, 'tags': ['a', NULL]} AS place
  FROM range(${from}, ${to}) numbers(n)`;

export async function api<T>(at: string, body?: unknown): Promise<T> {
  const response = await fetch(`${BASE}${at}`, body === undefined ? {} : { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) });
  const answer = (await response.json()) as T & { detail?: string };
  if (!response.ok) throw new Error(`${at}: ${answer.detail ?? JSON.stringify(answer)}`);
  return answer;
}

export const sql = (text: string) => api<Rows & { columns: unknown }>('/api/query', { sql: text, maxRows: 100_000 }).then(({ rows }) => rows);

export async function checkIceberg(python: string, cache: string, judge: Judge): Promise<void> {
  const [home, lake] = [path.join(cache, 'server-home'), path.join(cache, 'lake')];
  for (const folder of [home, lake]) rmSync(folder, { recursive: true, force: true });
  mkdirSync(lake, { recursive: true });
  const server = await startServer(home);
  try {
    await api('/api/storages', { name: 'bay', kind: 'folder', location: lake });
    const token = async (right: string) => (await api<{ text: string }>('/api/access/tokens', { name: `interop, ${right}`, grants: [{ on: '*', right }] })).text;
    const all = await token('manage');
    const ask = async <T>(what: string, ...more: string[]) => JSON.parse((await promisify(execFile)(python, [path.join(projectRoot, 'tools/interop/check_iceberg.py'), `${BASE}/iceberg`, all, what, ...more], { encoding: 'utf8', maxBuffer: 1e9 })).stdout.trim().split('\n').at(-1)!) as T;
    await readTheirs(await ask('make'), judge);
    for (const [name, options] of Object.entries(OURS)) await makeOurs(all, name, options);
    for (const [name, { snapshots, latest, alone, refused }] of Object.entries(await ask<Record<string, { snapshots: Record<string, Rows>; latest: Rows | null; alone: Rows | null; refused: string | null }>>('read'))) {
      if (refused) console.log(`${name}: the other library does not read it (${refused})`);
      for (const [id, their] of Object.entries(snapshots)) judge(`ours.${name}, snapshot ${id}`, await ourRows(`ours.${name} FOR SYSTEM_VERSION AS OF ${id}`), their.rows);
      if (latest) judge(`ours.${name}`, await ourRows(`ours.${name}`), latest.rows);
      if (alone) judge(`ours.${name}, by its metadata file`, latest!.rows, alone.rows);
    }
    for (const [name, answer] of Object.entries(await ask<Record<string, Rows & { refused?: string }>>('append'))) {
      if (answer.refused) console.log(`${name}: the other library does not append to it (${answer.refused})`);
      else judge(`ours.${name}, after it appended`, await ourRows(`ours.${name}`), answer.rows);
    }
    await race(ask, judge);
    judge('a token that may only read', { read: (await sql('SELECT count(*)::INTEGER FROM ours.copied'))[0]![0], refused: 'ForbiddenError' }, await ask('refused', await token('read'), 'copied'));
    judge('client credentials', { rows: (await sql('SELECT count(*)::INTEGER FROM ours.copied'))[0]![0] }, await ask('credential', 'copied'));
    await checkConversions(python, lake, ask, judge);
  } finally {
    server.kill('SIGTERM');
  }
}

/** Our Iceberg tables become Delta tables, and then Iceberg tables again; each time outside libraries must find the same rows. */
async function checkConversions(python: string, lake: string, ask: <T>(what: string) => Promise<T>, judge: Judge): Promise<void> {
  const before = new Map<string, unknown[][]>();
  const convert = (name: string) => api(`/api/catalog/ours/${name}/conversion`, {});
  const ours = (name: string) => sql(`SELECT n, name, day, price, later FROM ours.${name} ORDER BY n`);
  for (const name of Object.keys(OURS)) {
    before.set(name, await ours(name));
    await convert(name);
    judge(`ours.${name} as a Delta table`, await ours(name), before.get(name));
  }
  const text = (await promisify(execFile)(python, [path.join(projectRoot, 'tools/interop/check_delta.py'), path.join(lake, 'warehouse', 'ours'), 'read'], { encoding: 'utf8', maxBuffer: 1e9 })).stdout;
  for (const [name, { versions, refused }] of Object.entries(JSON.parse(text) as Record<string, { versions: Record<string, Rows>; refused: string | null }>)) {
    if (refused) console.log(`${name} as a Delta table: the other library does not read it (${refused})`);
    else judge(`ours.${name} as a Delta table, read by another library`, before.get(name), versions[0]!.rows);
  }
  const back: string[] = [];
  for (const name of Object.keys(OURS)) {
    const { plan } = await api<{ plan: { obstacles: { what: string; why: string }[] } }>(`/api/catalog/ours/${name}/conversion`);
    if (plan.obstacles.length > 0) console.log(`${name} stays a Delta table: ${plan.obstacles.map(({ what, why }) => `${what}: ${why}`).join('; ')}`);
    else {
      await convert(name);
      back.push(name);
      judge(`ours.${name} as an Iceberg table again`, await ours(name), before.get(name));
    }
  }
  const read = await ask<Record<string, { latest: Rows | null; refused: string | null }>>('read');
  for (const name of back) {
    const { latest, refused } = read[name]!;
    if (!latest) console.log(`${name} as an Iceberg table again: the other library does not read it (${refused})`);
    else judge(`ours.${name} as an Iceberg table again, read by another library`, await ourRows(`ours.${name}`), latest.rows);
  }
}

async function readTheirs(made: Record<string, Record<string, Rows>>, judge: Judge): Promise<void> {
  for (const [name, states] of Object.entries(made)) {
    for (const [key, their] of Object.entries(states)) {
      const clause = key === 'latest' ? '' : ` FOR SYSTEM_VERSION AS OF ${/^\d+$/.test(key) ? key : `'${key}'`}`;
      judge(`theirs.${name}, ${key}`, await ourRows(`theirs.${name}${clause}`), their.rows);
    }
    const { entries } = await api<{ entries: { who?: string; operation: string }[] }>(`/api/catalog/theirs/${name}/history`);
    judge(`theirs.${name}, who wrote it`, [...new Set(entries.flatMap(({ who }) => who ?? []))], ['interop, manage (token)']);
  }
}

async function ourRows(from: string): Promise<unknown[][]> {
  return sql(`SELECT * FROM ${from} ORDER BY n`);
}

async function makeOurs(token: string, name: string, { properties = {}, fields = [], version = '2', isNotRenamed }: (typeof OURS)[string]): Promise<void> {
  const post = (at: string, body: unknown) => fetch(`${BASE}/iceberg/v1${at}`, { method: 'POST', headers: { authorization: `Bearer ${token}` }, body: JSON.stringify(body) });
  await post('/namespaces', { namespace: ['ours'] });
  const made = await post('/namespaces/ours/tables', { name, schema: SCHEMA, 'partition-spec': { fields }, properties: { ...properties, 'format-version': version } });
  if (!made.ok) throw new Error(`ours.${name}: ${await made.text()}`);
  const t = `ours.${name}`;
  await sql(`INSERT INTO ${t} BY NAME ${rowsOf(0, 12)}`);
  await sql(`INSERT INTO ${t} BY NAME ${rowsOf(12, 16)}`);
  await sql(`DELETE FROM ${t} WHERE n BETWEEN 4 AND 6 OR n = 15`);
  await sql(`UPDATE ${t} SET price = price + 1, name = 'upd' WHERE n IN (1, 13)`);
  await api(`/api/catalog/ours/${name}/iceberg/columns`, { add: { name: 'later', type: 'integer' } });
  await sql(`MERGE INTO ${t} AS t USING (${rowsOf(11, 20)}) AS s ON t.n = s.n WHEN MATCHED AND s.n = 12 THEN DELETE WHEN MATCHED THEN UPDATE SET later = 1 WHEN NOT MATCHED THEN INSERT (n, day, later) VALUES (s.n, s.day, 2)`);
  if (!isNotRenamed) await api(`/api/catalog/ours/${name}/iceberg/columns`, { rename: { from: 'x', to: 'x_renamed' } });
  await api(`/api/catalog/ours/${name}/iceberg/upkeep`, { do: 'rewrite', layout: { kind: 'sort', columns: ['n'] } });
  await sql(`DELETE FROM ${t} WHERE n = 2`);
  await api(`/api/catalog/ours/${name}/iceberg/upkeep`, { do: 'rewrite-manifests' });
  await sql(`REPLACE ROWS OF ${t} WHERE n >= 18 BY SELECT 30 AS n`);
}

/** Writers of both sides at once, against each other: none is lost. */
async function race(ask: <T>(what: string, ...more: string[]) => Promise<T>, judge: Judge): Promise<void> {
  const own = Array.from({ length: 4 }, async (_unused, writer) => {
    for (let n = 0; n < 6; n++) await sql(`INSERT INTO ours.copied (n) VALUES (${5_000_000 + writer * 100 + n})`);
  });
  const [their] = await Promise.all([ask<{ written: number[]; tries: number }>('race', 'copied', '4', '6'), ...own]);
  const found = (await sql('SELECT n FROM ours.copied WHERE n >= 10000 ORDER BY n')).flat() as number[];
  const ours = Array.from({ length: 4 }, (_unused, writer) => Array.from({ length: 6 }, (_also, n) => 5_000_000 + writer * 100 + n)).flat();
  judge('writers of both sides at once', found, [...their.written, ...ours].sort((a, b) => a - b));
  console.log(`48 appends of eight writers at once, none lost; the other library needed ${their.tries} tries for its 24.`);
}

export async function startServer(home: string): Promise<ChildProcess> {
  const child = fork(path.join(projectRoot, 'tools/start.mjs'), ['--empty'], { env: { ...process.env, KIND_HARBOR_HOME: home, KIND_HARBOR_PORT: String(PORT), KIND_HARBOR_PERSON: 'interop' }, stdio: 'ignore' });
  for (let tries = 0; tries < 1200; tries++) {
    if (await fetch(`${BASE}/api/health`).then((response) => response.ok, () => false)) return child;
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
  child.kill('SIGKILL');
  throw new Error('The server did not start.');
}
