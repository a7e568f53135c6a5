/**
 * `npm run harbor -- …`: the product from the command line, over its HTTP API. Exit codes: 0 done, 1 refused or failed,
 * 2 not understood, 3 no server.
 */
import { readFileSync } from 'node:fs';
import { Command, CommanderError } from 'commander';
import { LakeError } from '../core/errors';
import { splitStatements } from '../core/sql/script';
import { Client, NoServer, ServerProblem } from './client';
import { definitionSql } from './definition-file';
import { asObjects, asTable, type Rows } from './output';

interface StatementAnswer extends Rows {
  done?: string;
  truncated: boolean;
  written?: { table: string; version: number | null };
}

interface Globals {
  url: string;
  token?: string;
  json?: boolean;
}

const program = new Command('harbor').description('Define, load, look at and query lake tables over the HTTP API.')
  .option('--url <address>', 'where the server is', process.env.KIND_HARBOR_URL ?? 'http://127.0.0.1:4780')
  .option('--token <text>', 'a token, instead of the person at this machine (KIND_HARBOR_TOKEN)', process.env.KIND_HARBOR_TOKEN)
  .option('--json', 'answers as JSON')
  .exitOverride().configureHelp({ showGlobalOptions: true });

const client = () => {
  const { url, token } = program.opts<Globals>();
  return new Client(url.replace(/\/+$/, ''), token);
};
const isJson = () => program.opts<Globals>().json === true;
const say = (text: string): void => void process.stdout.write(`${text}\n`);

function show(answer: StatementAnswer): void {
  if (isJson()) return say(JSON.stringify(answer.done === undefined ? asObjects(answer) : { done: answer.done }, null, 2));
  if (answer.done !== undefined) return say(answer.done);
  if (answer.columns.length === 1 && answer.columns[0]!.name === 'statement') return say(String(answer.rows[0]?.[0]));
  say(asTable(answer));
  if (answer.written) say(answer.written.version === null ? 'No row was concerned, so no version was made.' : `Version ${answer.written.version} of ${answer.written.table}.`);
  if (answer.truncated) say(`There are more rows; the first ${answer.rows.length} are shown (--limit).`);
}

async function run(sql: string, limit = 1000): Promise<void> {
  if (splitStatements(sql).length < 2) return show(await client().post<StatementAnswer>('/query', { sql, maxRows: limit }));
  const { steps, left } = await client().post<{ steps: { sql: string; result?: StatementAnswer; problem?: { message: string; hint?: string } }[]; left: number }>('/script', { sql, maxRows: limit });
  for (const { result } of steps) if (result) show(result);
  const failed = steps.find((each) => each.problem);
  if (failed) throw new ServerProblem(`${failed.sql.replace(/\s+/g, ' ').slice(0, 80)}: ${failed.problem!.message}${left > 0 ? ` The ${left} after it were not run.` : ''}`, 400, failed.problem!.hint);
}

const limit = (text: string) => Math.max(0, Math.floor(Number(text)) || 0);
const sqlName = (name: string) => name.split('.').map((each) => `"${each.replaceAll('"', '""')}"`).join('.');
const tablePath = (name: string) => {
  const cut = name.lastIndexOf('.');
  if (cut <= 0) throw new ServerProblem(`"${name}" needs its namespace before it: namespace.${name}.`, 400);
  return `/catalog/${encodeURIComponent(name.slice(0, cut))}/${encodeURIComponent(name.slice(cut + 1))}`;
};

program.command('query').description('run one statement, or several with semicolons between').argument('<sql>').option('--limit <rows>', 'rows to show', limit, 1000)
  .action((sql: string, options: { limit: number }) => run(sql, options.limit));
program.command('run').description('run the statements of a file; stops at the first that fails').argument('<file>').option('--limit <rows>', 'rows to show of each', limit, 1000)
  .action((file: string, options: { limit: number }) => run(readFileSync(file, 'utf8'), options.limit));
program.command('create').description('make a namespace or a table from a JSON or SQL file').argument('<file>')
  .action((file: string) => {
    const text = readFileSync(file, 'utf8');
    return run(/\.json$/i.test(file) ? definitionSql(text) : text);
  });
program.command('list').description('namespaces, or the tables and views of one').argument('[namespace]')
  .action(async (namespace?: string) => {
    if (namespace === undefined) return run('SHOW NAMESPACES');
    const { relations } = await client().get<{ relations: { namespace: string; name: string; kind: string; format: string | null; managed: boolean; description: string }[] }>('/catalog');
    const inside = relations.filter((each) => each.namespace.toLowerCase() === namespace.toLowerCase());
    show({ columns: ['name', 'kind', 'format', 'kept', 'description'].map((name) => ({ name })), rows: inside.map((each) => [each.name, each.kind, each.format, each.kind === 'view' ? null : each.managed ? 'managed' : 'external', each.description]), truncated: false });
  });
for (const [name, words, sql] of [
  ['describe', 'columns, place, partitioning and properties of a table or view', 'DESCRIBE '], ['definition', 'the statement that makes a table or view', 'SHOW CREATE '], ['history', 'the versions of a table', 'SHOW HISTORY OF '],
  ['partitions', 'the partitions of a table', 'SHOW PARTITIONS OF '], ['files', 'the files of a table', 'SHOW FILES OF '],
] as const) program.command(name).description(words).argument('<table>').action((table: string) => run(`${sql}${sqlName(table)}`, 100_000));
program.command('drop').description('drop a table or view; the files of a managed table wait in the trash').argument('<table>')
  .action(async (table: string) => {
    const { kind } = await client().get<{ kind: 'table' | 'view' }>(tablePath(table));
    return run(`DROP ${kind.toUpperCase()} ${sqlName(table)}`);
  });
program.command('undrop').description('bring a dropped table back').argument('<table>').action((table: string) => run(`UNDROP TABLE ${sqlName(table)}`));

interface LoadFlags {
  files?: string;
  table?: string;
  query?: string;
  mode: string;
  key?: string;
  latestBy?: string;
  takeNewColumns?: boolean;
  cast?: boolean;
  again?: boolean;
  dryRun?: boolean;
}

program.command('load').description('load rows into a table; what was loaded before is not loaded twice').argument('<table>')
  .option('--files <storage:path>', 'from a file, a folder or a pattern').option('--table <name>', 'from a table or view').option('--query <sql>', 'from a query')
  .option('--mode <mode>', 'append, overwrite, partitions or merge', 'append').option('--key <columns>', 'of merge: columns that tell rows apart, with commas').option('--latest-by <column>', 'of merge: of rows of one key the latest counts')
  .option('--take-new-columns', 'add columns that the table has not').option('--cast', 'cast values, and leave out rows that do not fit').option('--again', 'load what was loaded before once more').option('--dry-run', 'say what would be done')
  .action(async (table: string, { files, table: other, query, key, dryRun, ...flags }: LoadFlags) => {
    const from = { ...(files ? { files } : {}), ...(other ? { table: other } : {}), ...(query ? { query } : {}) };
    const body = { from, ...flags, ...(key ? { key: key.split(',').map((each) => each.trim()) } : {}) };
    const answer = await client().post<Record<string, unknown> & { problems?: string[]; columns?: { name: string; type: string; from: string | null; fit: string; misfits: number }[]; difference?: number | null }>(`${tablePath(table)}/load${dryRun ? '/plan' : ''}`, body);
    if (isJson()) say(JSON.stringify(answer, null, 2));
    else if (answer.columns) {
      say(asTable({ columns: ['column', 'type', 'filled from', 'how it fits', 'rows without a place'].map((name) => ({ name })), rows: answer.columns.map((each) => [each.name, each.type, each.from, each.fit, each.misfits]) }));
      for (const each of answer.problems ?? []) say(`Problem: ${each}.`);
    } else say(asTable({ columns: [{ name: 'count' }, { name: 'rows', type: 'bigint' }], rows: Object.entries(answer).filter(([name]) => name !== 'receiptId').map(([name, value]) => [name, value]) }));
    if ((answer.problems?.length ?? 0) > 0 || (answer.difference ?? 0) !== 0) process.exitCode = 1;
  });
program.command('crawl').description('crawl a folder and show what was found').argument('<storage:folder>').option('--register', 'register what is new')
  .action(async (place: string, { register }: { register?: boolean }) => {
    const cut = place.indexOf(':');
    const { runId } = await client().post<{ runId: number }>('/crawls', cut < 0 ? { storage: place, folder: '' } : { storage: place.slice(0, cut), folder: place.slice(cut + 1) });
    const runOf = () => client().get<{ finishedAt: string | null; problem: string | null; findings: { id: number; namespace: string; name: string; status: string; decision: string; summary: string; files: number }[] }>(`/crawl-runs/${runId}`);
    let found = await runOf();
    while (found.finishedAt === null) {
      await new Promise((resolve) => setTimeout(resolve, 200));
      found = await runOf();
    }
    if (found.problem) throw new ServerProblem(found.problem, 422);
    const rows = found.findings.map((each) => [`${each.namespace}.${each.name}`, each.status, each.files, each.summary]);
    show({ columns: [{ name: 'finding' }, { name: 'status' }, { name: 'files', type: 'integer' }, { name: 'summary' }], rows, truncated: false });
    if (!register) return;
    const { registered, failed } = await client().post<{ registered: string[]; failed: { name: string; problem: string }[] }>(`/crawl-runs/${runId}/register`);
    if (!isJson()) say(registered.length > 0 ? `Registered ${registered.join(', ')}.` : 'Nothing was there to be registered.');
    if (failed.length > 0) throw new ServerProblem(failed.map((each) => `${each.name}: ${each.problem}`).join(' '), 409);
  });

try {
  await program.parseAsync();
} catch (error) {
  if (error instanceof CommanderError) process.exitCode = error.exitCode === 0 ? 0 : 2;
  else {
    const isKnown = error instanceof ServerProblem || error instanceof NoServer || error instanceof LakeError;
    const hint = error instanceof ServerProblem ? error.hint : error instanceof LakeError ? error.details.hint : undefined;
    const message = isKnown || (error as NodeJS.ErrnoException).code === 'ENOENT' ? (error as Error).message : String(error);
    process.stderr.write(`${message}${hint ? ` ${hint}` : ''}\n`);
    process.exitCode = error instanceof NoServer ? 3 : 1;
  }
}
