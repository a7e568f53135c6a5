/** Starting and stopping, as a person at a terminal sees it. */
import { spawn, type ChildProcess } from 'node:child_process';
import { cpSync, existsSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { get } from 'node:http';
import { createServer } from 'node:net';
import path from 'node:path';
import { afterAll, afterEach, describe, expect, it, vi } from 'vitest';
import { projectRoot } from './program-files';
import { temporaryFolder } from './testing/lake-tools';

// Starting makes a database, which takes its time on a busy machine.
vi.setConfig({ testTimeout: 120_000 });
const folder = temporaryFolder();
afterAll(folder.remove);
const home = path.join(folder.path, 'home');
const running = new Set<ChildProcess>();
afterEach(() => running.forEach((child) => child.kill('SIGKILL')));

interface Started {
  child: ChildProcess;
  output: () => string;
  ended: Promise<number | null>;
}

function start(port: number, env: Record<string, string> = {}, args = ['--empty']): Started {
  const script = "import(process.env.MAIN).then(({ main }) => main(process.argv.slice(1)))";
  const child = spawn(process.execPath, ['-e', script, '--', ...args], { cwd: folder.path, env: { ...process.env, MAIN: path.join(projectRoot, 'dist/server/main.js'), KIND_HARBOR_HOME: home, KIND_HARBOR_PORT: String(port), ...env } });
  running.add(child);
  let text = '';
  child.stdout.on('data', (data: Buffer) => (text += data.toString()));
  child.stderr.on('data', (data: Buffer) => (text += data.toString()));
  return { child, output: () => text, ended: new Promise((resolve) => child.on('exit', (code) => resolve(code))) };
}
async function ready(server: Started): Promise<void> {
  while (!server.output().includes('Kind Harbor is at')) {
    if (server.child.exitCode !== null) throw new Error(server.output());
    await new Promise((resolve) => setTimeout(resolve, 30));
  }
}
/** Ids of processes whose parent is `pid`. */
function childrenOf(pid: number): number[] {
  return readdirSync('/proc').filter((name) => /^\d+$/.test(name)).map(Number).filter((each) => {
    try {
      const stat = readFileSync(`/proc/${each}/stat`, 'utf8');
      return Number(stat.slice(stat.lastIndexOf(')') + 2).split(' ')[1]) === pid;
    } catch {
      return false;
    }
  });
}
const post = (port: number, address: string, body: unknown) => fetch(`http://127.0.0.1:${port}/api${address}`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) });

describe('the server', () => {
  it('starts empty, serves, stops with all its processes on Ctrl-C, and starts again with what it knew', async () => {
    const first = start(4801);
    await ready(first);
    expect(await (await fetch('http://127.0.0.1:4801/api/storages')).json()).toEqual([]);
    expect((await post(4801, '/storages', { name: 'here', location: folder.path })).status).toBe(200);
    const processes = childrenOf(first.child.pid!);
    expect(processes.length).toBe(5);
    process.kill(first.child.pid!, 'SIGINT');
    expect(await first.ended).toBe(0);
    expect(processes.filter((pid) => existsSync(`/proc/${pid}`))).toEqual([]);

    const second = start(4801);
    await ready(second);
    expect(await (await fetch('http://127.0.0.1:4801/api/storages')).json()).toMatchObject([{ name: 'here', kind: 'folder' }]);
  });

  it('restarts an engine that was killed; who waited is told, the next query works', async () => {
    const server = start(4802);
    await ready(server);
    const waiting = post(4802, '/query', { sql: 'SELECT count(*) FROM range(100000000000)' });
    const engine = childrenOf(server.child.pid!).find((pid) => readFileSync(`/proc/${pid}/cmdline`, 'utf8').endsWith('engine-process.js\0query\0'))!;
    await new Promise((resolve) => setTimeout(resolve, 300));
    process.kill(engine, 'SIGKILL');
    const told = await waiting;
    expect([told.status, (await told.json()).detail]).toEqual([503, expect.stringContaining('started again')]);
    expect((await (await post(4802, '/query', { sql: 'SELECT 7 AS seven' })).json()).rows).toEqual([[7]]);
  });

  it('starts the catalog again when its process was killed; health tells the truth meanwhile', async () => {
    const server = start(4811);
    await ready(server);
    const catalog = () => childrenOf(server.child.pid!).find((pid) => readFileSync(`/proc/${pid}/cmdline`, 'utf8').includes('catalog-process.js'))!;
    const health = async () => (await fetch('http://127.0.0.1:4811/api/health')).status;
    const killed = catalog();
    process.kill(killed, 'SIGKILL');
    while (existsSync(`/proc/${killed}`)) await new Promise((resolve) => setTimeout(resolve, 5));
    const seen = [await health()];
    while (seen.at(-1) !== 200) {
      await new Promise((resolve) => setTimeout(resolve, 10));
      seen.push(await health());
    }
    expect(new Set(seen)).toEqual(new Set([503, 200]));
    expect((await (await fetch('http://127.0.0.1:4811/api/storages')).json())).toMatchObject([{ name: 'here' }]);
  });

  it('answers who waits, and keeps a receipt, when it is stopped in the middle', async () => {
    const server = start(4812);
    await ready(server);
    await post(4812, '/query', { sql: 'CREATE NAMESPACE IF NOT EXISTS cut' });
    await post(4812, '/query', { sql: 'CREATE TABLE cut.short (i BIGINT)' });
    const write = post(4812, '/query', { sql: 'INSERT INTO cut.short SELECT i FROM range(3000000000) r(i)' });
    await new Promise((resolve) => setTimeout(resolve, 1000));
    process.kill(server.child.pid!, 'SIGTERM');
    const answer = await write;
    expect([answer.status, (await answer.json()).detail]).toEqual([503, expect.stringContaining('stopping')]);
    expect(await server.ended).toBe(0);
    const again = start(4812);
    await ready(again);
    const receipts = (await (await fetch('http://127.0.0.1:4812/api/receipts')).json()) as { receipts?: { sql: string }[] };
    expect(JSON.stringify(receipts)).toContain('INSERT INTO cut.short');
    expect((await (await post(4812, '/query', { sql: 'SELECT count(*) FROM cut.short' })).json()).rows).toEqual([[0]]);
  });

  it('answers other machines only with a token, whatever a request says of itself', async () => {
    const refused = start(4813, { KIND_HARBOR_HOST: '0.0.0.0' });
    expect(await refused.ended).toBe(1);
    expect(refused.output()).toMatch(/^Kind Harbor cannot start: KIND_HARBOR_HOST is 0\.0\.0\.0.*KIND_HARBOR_NEEDS_TOKEN=true.*\n$/);
    await ready(start(4813, { KIND_HARBOR_HOST: '0.0.0.0', KIND_HARBOR_NEEDS_TOKEN: 'true' }));
    const status = (headers: Record<string, string>) => new Promise<number | undefined>((resolve, reject) => {
      get('http://127.0.0.1:4813/api/storages', { headers }, (response) => resolve(response.statusCode)).on('error', reject);
    });
    for (const headers of [{} as Record<string, string>, { host: 'localhost:4813' }, { host: '127.0.0.1:4813' }, { 'x-forwarded-for': '127.0.0.1' }, { authorization: 'Bearer kh_none' }]) expect(await status(headers)).toBe(401);
  });

  it('lets no second server onto its data folder', async () => {
    const first = start(4803);
    await ready(first);
    const second = start(4804);
    expect(await second.ended).toBe(1);
    expect(second.output()).toMatch(/^The data folder .* is in use by another server \(process \d+\)\. .*\n$/);
  });

  it('takes over the lock of a server that was killed', async () => {
    const first = start(4805);
    await ready(first);
    first.child.kill('SIGKILL');
    await first.ended;
    await ready(start(4805));
  });
});

describe('one clear sentence and exit code 1', () => {
  it.each<[string, Record<string, string>, string[], RegExp]>([
    ['a wrong setting, every one of them', { KIND_HARBOR_PORT: 'x', KIND_HARBOR_ENGINE_MEMORY: 'lots' }, [], /^Kind Harbor cannot start: KIND_HARBOR_PORT must be a number; KIND_HARBOR_ENGINE_MEMORY .*a size such as.*\n$/],
    ['an unknown option', {}, ['--emty'], /^Kind Harbor cannot start: --emty is not an option.*\n$/],
    ['a data folder that cannot be made', { KIND_HARBOR_HOME: '/dev/null/home' }, [], /^The data folder \/dev\/null\/home cannot be made.*\n$/],
  ])('for %s', async (_, env, args, sentence) => {
    const server = start(4806, env, args);
    expect(await server.ended).toBe(1);
    expect(server.output()).toMatch(sentence);
  });

  it.each<[string, (home: string) => void, RegExp]>([
    ['is empty', (at) => writeFileSync(path.join(at, 'secrets.key'), ''), /^The key in .* has 0 bytes, where 32 are expected\..*\n$/],
    ['is lost', (at) => rmSync(path.join(at, 'secrets.key')), /^The key .* is missing, and the catalog holds 1 tokens and keys.*\n$/],
  ])('for a data folder whose key %s', async (what, spoil, sentence) => {
    const at = path.join(folder.path, `key ${what}`);
    cpSync(home, at, { recursive: true });
    const first = start(4814, { KIND_HARBOR_HOME: at });
    await ready(first);
    expect((await post(4814, '/access/tokens', { name: 'of before', grants: [{ on: '*', right: 'read' }] })).status).toBe(200);
    process.kill(first.child.pid!, 'SIGTERM');
    await first.ended;
    spoil(at);
    const second = start(4814, { KIND_HARBOR_HOME: at });
    expect(await second.ended).toBe(1);
    expect(second.output()).toMatch(sentence);
    expect(existsSync(path.join(at, 'secrets.key'))).toBe(what === 'is empty');
  });

  it('for a start that was ended early, which is no damage', async () => {
    const at = path.join(folder.path, 'ended');
    cpSync(home, at, { recursive: true });
    const server = start(4815, { KIND_HARBOR_HOME: at });
    const catalog = () => childrenOf(server.child.pid!).find((pid) => readFileSync(`/proc/${pid}/cmdline`, 'utf8').includes('catalog-process.js\0serve'));
    while (catalog() === undefined) await new Promise((resolve) => setTimeout(resolve, 1));
    process.kill(catalog()!, 'SIGKILL');
    expect(await server.ended).toBe(1);
    expect(server.output()).toMatch(/The process of the catalog was ended \(SIGKILL\) before it was open\. Nothing is wrong with the catalog; start again\.\n$/);
    await ready(start(4815, { KIND_HARBOR_HOME: at }));
  });

  it('for a taken port', async () => {
    const holder = createServer().listen(4807, '127.0.0.1');
    const server = start(4807, { KIND_HARBOR_HOME: path.join(folder.path, 'other') });
    expect(await server.ended).toBe(1);
    expect(server.output()).toMatch(/^Port 4807 on 127\.0\.0\.1 is taken\. .*\n$/);
    holder.close();
  });

  it.each<[string, (catalog: string) => void]>([
    ['its files overwritten', (catalog) => readdirSync(path.join(catalog, 'global')).forEach((name) => writeFileSync(path.join(catalog, 'global', name), 'damaged'))],
    ['its version file gone', (catalog) => rmSync(path.join(catalog, 'PG_VERSION'))],
  ])('for a data folder with %s', async (what, damage) => {
    const damaged = path.join(folder.path, what);
    cpSync(path.join(home, 'catalog'), path.join(damaged, 'catalog'), { recursive: true });
    damage(path.join(damaged, 'catalog'));
    const server = start(4808, { KIND_HARBOR_HOME: damaged });
    expect(await server.ended).toBe(1);
    expect(server.output()).toMatch(/^The catalog in .* cannot be opened: its files are damaged\..*\n$/);
  });
});
