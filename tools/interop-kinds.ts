/**
 * One table in files of every kind that other libraries write (tools/kinds.py), part of `npm run interop`: crawled, registered
 * and queried as a user does, each answer held against the table itself.
 */
import { spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, rmSync } from 'node:fs';
import path from 'node:path';
import type { Finding } from '../server/catalog/findings';
import { projectRoot } from '../server/program-files';
import { api, BASE, startServer } from './interop-iceberg';
import { finished } from './interop-corpus';

type Judge = (what: string, ours: unknown, theirs: unknown) => void;

interface Truth {
  /** A folder, a file, or a member of one. */
  path: string;
  columns: string[];
  /** All rows, or how many there are. */
  rows: unknown[][] | number;
  sum: number;
  /** `count`: only the number of lines is known. */
  kind: string;
}

const cache = path.join(projectRoot, '.cache/kinds');
const python = path.join(projectRoot, '.cache/corpus/py/bin/python');
const LIBRARIES = ['openpyxl', 'odfpy', 'cramjam', 'pyyaml', 'fastavro'];

export async function checkKinds(judge: Judge): Promise<void> {
  const lake = path.join(cache, 'lake');
  rmSync(cache, { recursive: true, force: true });
  mkdirSync(lake, { recursive: true });
  const isMade =
    existsSync(python) &&
    spawnSync(python, ['-m', 'pip', 'install', '-q', ...LIBRARIES]).status === 0 &&
    spawnSync(python, [path.join(projectRoot, 'tools/kinds.py'), lake], { stdio: ['ignore', 'ignore', 'inherit'] })
      .status === 0;
  if (!isMade) return console.log('Kinds of file were NOT tried: Python 3 with its libraries could not be had.');
  const truth = JSON.parse(
    readFileSync(path.join(cache, 'kinds-truth.json'), 'utf8')
      .replace(/("n": )(\d{17,})/g, '$1"$2"')
      .replace(/\[(\d{17,}),/g, '["$1",'),
  ) as Truth[];
  const server = await startServer(path.join(cache, 'home'));
  try {
    await api('/api/storages', { name: 'kinds', kind: 'folder', location: lake });
    const { id } = await api<{ id: number }>('/api/crawls/define', {
      name: 'all',
      folders: [{ storage: 'kinds', folder: '', include: [], exclude: [] }],
      namespace: 'kinds',
      prefix: '',
      naming: 'path',
      sample: 16,
      findings: 'ask',
      schedule: null,
    });
    const { runId } = await api<{ runId: number }>(`/api/crawls/${id}/run`, {});
    const findings = await finished(runId);
    await api(`/api/crawl-runs/${runId}/register`, {});
    const fitting = new Map(truth.map((each) => [each, findings.find((finding) => fits(finding, each.path))]));
    for (const [each, finding] of fitting)
      judge(`kinds of file: ${each.path}`, await answerOf(finding, each), expected(each));
    const unread = findings.filter((each) => each.status === 'unreadable');
    judge(
      'kinds of file: none that is there is left unread',
      unread.map((each) => `${each.place}: ${each.summary}`),
      [],
    );
  } finally {
    server.kill('SIGTERM');
  }
}

/** A finding of the folder, of the one file in it, or of the member. */
function fits({ location, place }: Finding, wanted: string): boolean {
  return (
    place === wanted ||
    location === wanted ||
    (path.dirname(wanted) === location &&
      (place.endsWith('/*') || path.dirname(place) === location) &&
      !/\.(zip|xlsx|ods|sqlite|db)\//.test(wanted)) ||
    location === `${wanted}`
  );
}

function expected({ rows, columns, sum, kind }: Truth): unknown {
  if (kind === 'count') return { rows: rows instanceof Array ? rows[0]![0] : rows };
  if (typeof rows === 'number') return { rows, sum };
  return { columns, rows: rows.map((row) => row.map(canonical)) };
}

async function answerOf(finding: Finding | undefined, { rows, columns, kind }: Truth): Promise<unknown> {
  if (!finding) return 'there is no finding';
  if (finding.definition === null || finding.status === 'unreadable') return finding.summary;
  const name = `"${finding.namespace}"."${finding.name}"`;
  const onlyCounts = kind === 'count' || typeof rows === 'number';
  const response = await fetch(`${BASE}/api/query`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({
      sql:
        kind === 'count'
          ? `SELECT count(*) FROM ${name}`
          : onlyCounts
            ? `SELECT count(*), sum("count")::varchar FROM ${name}`
            : `SELECT * FROM ${name} ORDER BY ${isUsedFirst(columns)}`,
      maxRows: 5000,
    }),
  });
  const body = (await response.json()) as { columns: { name: string }[]; rows: unknown[][]; detail?: string };
  if (!response.ok) return body.detail;
  if (kind === 'count') return { rows: Number(body.rows[0]![0]) };
  if (onlyCounts) return { rows: Number(body.rows[0]![0]), sum: Number(body.rows[0]![1]) };
  return { columns: body.columns.map((each) => each.name), rows: body.rows.map((row) => row.map(canonical)) };
}

/** The rows are given in the order of their number, or of what stands first. */
function isUsedFirst(columns: readonly string[]): string {
  return columns.includes('id')
    ? 'id'
    : columns.includes('pump')
      ? 'pump'
      : columns[0] === 'key' || columns[0] === 'boat'
        ? `length("${columns[0]}"), "${columns[0]}"`
        : `"${columns[0]}"`;
}

/** Numbers and times that are the same are written the same. */
function canonical(value: unknown): unknown {
  if (typeof value === 'number') return String(value);
  if (typeof value === 'string')
    return value
      .replace(/^(\d{4}-\d\d-\d\d)[T ]00:00:00(\.0+)?Z?$/, '$1')
      .replace(/^(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d)Z$/, '$1');
  return value ?? null;
}
