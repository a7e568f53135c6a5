/** The built server on a data folder that is kept between runs, so that its demo lake is made once. */
import { spawn, type ChildProcess } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import path from 'node:path';
import { projectRoot } from '../../server/program-files';

export interface Running {
  home: string;
  /** Where it is served. */
  base: string;
  child: ChildProcess;
  post<T>(address: string, body: unknown): Promise<T>;
  get<T>(address: string): Promise<T>;
  /** Resident memory in MB by part. */
  memory(): Record<'api' | 'catalog' | 'query engine' | 'work engine', number>;
  stop(): Promise<void>;
}

/** `fresh` makes the catalog anew while keeping nothing; else what an earlier run left is used. */
export async function startServer(scale: number, port: number, options: { fresh?: boolean } = {}): Promise<Running> {
  const home = path.join(projectRoot, '.cache', `bench-scale-${scale}${options.fresh ? '-fresh' : ''}`);
  if (options.fresh) rmSync(home, { recursive: true, force: true });
  mkdirSync(home, { recursive: true });
  if (!existsSync(path.join(home, 'lake'))) console.log(`Making the demo lake at scale ${scale} …`);
  const base = `http://127.0.0.1:${port}/api`;
  const script = `import(${JSON.stringify(path.join(projectRoot, 'dist/server/main.js'))}).then(({ main }) => main(['--scale', '${scale}']))`;
  const child = spawn(process.execPath, ['-e', script], { stdio: ['ignore', 'ignore', 'inherit'], env: { ...process.env, KIND_HARBOR_HOME: home, KIND_HARBOR_PORT: String(port), KIND_HARBOR_QUERY_SECONDS: '300' } });
  for (;;) {
    await new Promise((resolve) => setTimeout(resolve, 100));
    if (child.exitCode !== null) throw new Error(`The server ended with code ${child.exitCode}.`);
    const healthy = await fetch(`${base}/health`).then((answer) => answer.status === 200, () => false);
    if (healthy) break;
  }
  const ask = async <T>(address: string, init?: RequestInit): Promise<T> => {
    const answer = await fetch(`${base}${address}`, init);
    const body = (await answer.json()) as T;
    if (!answer.ok) throw new Error(`${address}: ${JSON.stringify(body)}`);
    return body;
  };
  return {
    home,
    base: base.slice(0, -'/api'.length),
    child,
    post: (address, body) => ask(address, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) }),
    get: (address) => ask(address),
    memory: () => memoryOf(child.pid!),
    stop: () => new Promise((resolve) => {
      child.once('exit', () => resolve());
      child.kill('SIGTERM');
    }),
  };
}

function memoryOf(pid: number): ReturnType<Running['memory']> {
  const parts = { api: resident(pid), catalog: 0, 'query engine': 0, 'work engine': 0 };
  for (const name of readdirSync('/proc').filter((each) => /^\d+$/.test(each))) {
    const stat = tryRead(`/proc/${name}/stat`);
    if (Number(stat.slice(stat.lastIndexOf(')') + 2).split(' ')[1]) !== pid) continue;
    const command = tryRead(`/proc/${name}/cmdline`);
    if (command.includes('catalog-process')) parts.catalog = resident(Number(name));
    else if (command.includes('\0work')) parts['work engine'] = resident(Number(name));
    else if (command.includes('\0query')) parts['query engine'] = Math.max(parts['query engine'], resident(Number(name)));
  }
  return parts;
}

function resident(pid: number): number {
  return Number(/VmRSS:\s+(\d+)/.exec(tryRead(`/proc/${pid}/status`))?.[1] ?? 0) / 1000;
}

function tryRead(file: string): string {
  try {
    return readFileSync(file, 'utf8');
  } catch {
    return '';
  }
}
