/**
 * The Spark part of `npm run interop`: an existing distributed engine works on our tables through the REST catalog protocol,
 * and on Delta folders, and we on its tables; both write at once. Needs Java, Python 3 and packages of Maven Central; says
 * plainly when it did not run.
 */
import { spawn, spawnSync, type ChildProcess } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { createInterface } from 'node:readline';
import { projectRoot } from '../server/program-files';
import { api, BASE, sql, startServer } from './interop-iceberg';

type Judge = (what: string, ours: unknown, theirs: unknown) => void;

const JARS = ['org.apache.iceberg:iceberg-spark-runtime-3.5_2.12:1.9.2', 'io.delta:delta-spark_2.12:3.3.2', 'io.delta:delta-storage:3.3.2'];
const cache = path.join(projectRoot, '.cache/spark');

/** The jars' folder and the Python that has Spark; undefined where they cannot be had. */
function prepared(): { python: string; jars: string } | undefined {
  const [python, jars] = [path.join(cache, 'venv/bin/python'), path.join(cache, 'jars')];
  mkdirSync(jars, { recursive: true });
  const run = (command: string, ...args: string[]) => spawnSync(command, args, { stdio: ['ignore', 'ignore', 'ignore'] }).status === 0;
  if (!run('java', '-version')) return undefined;
  if (!existsSync(python) && !(run('python3', '-m', 'venv', path.join(cache, 'venv')) && run(python, '-m', 'pip', 'install', '--quiet', 'pyspark==3.5.5'))) return undefined;
  const missing = JARS.filter((each) => !readdirSync(jars).includes(`${each.split(':').slice(1).join('-')}.jar`));
  return missing.every((each) => run('mvn', '-q', '-B', 'dependency:copy', `-Dartifact=${each}`, `-DoutputDirectory=${jars}`)) ? { python, jars } : undefined;
}

interface Answer {
  rows?: unknown[][];
  error?: string;
  version?: string;
}

class Spark {
  readonly #waiting: ((answer: Answer) => void)[] = [];
  readonly #child: ChildProcess;

  constructor(python: string, jars: string, token: string) {
    this.#child = spawn(python, [path.join(projectRoot, 'tools/interop/spark_session.py'), jars, `${BASE}/iceberg`, token], { stdio: ['pipe', 'pipe', 'ignore'] });
    createInterface({ input: this.#child.stdout! }).on('line', (line) => this.#waiting.shift()?.(JSON.parse(line) as Answer));
    this.#child.on('exit', () => this.#waiting.splice(0).forEach((each) => each({ error: 'Spark ended' })));
  }

  ready(): Promise<Answer> {
    return new Promise((resolve) => this.#waiting.push(resolve));
  }

  ask(text: string): Promise<Answer> {
    const answer = this.ready();
    this.#child.stdin!.write(`${JSON.stringify({ sql: text })}\n`);
    return answer;
  }

  async run(text: string): Promise<unknown[][]> {
    const { rows, error } = await this.ask(text);
    if (error !== undefined) throw new Error(`${text}: ${error}`);
    return rows!;
  }

  stop(): void {
    this.#child.stdin!.end();
    this.#child.kill('SIGTERM');
  }
}

const COLUMNS = 'id BIGINT, name STRING, day DATE, price DECIMAL(10,2), at TIMESTAMP, place STRUCT<lat: DOUBLE, tags: ARRAY<STRING>>';
const VALUES = (from: number, to: number) => `SELECT id, concat('n', id) AS name, date_add(DATE '2026-03-01', CAST(id % 9 AS INT)) AS day, CAST(id * 1.25 AS DECIMAL(10,2)) AS price, CAST(CONCAT('2026-03-01 00:00:', LPAD(CAST(id % 60 AS STRING), 2, '0')) AS TIMESTAMP) AS at, named_struct('lat', CAST(id / 2 AS DOUBLE), 'tags', array('a', NULL)) AS place FROM range(${from}, ${to})`;
const WAYS: Record<string, string> = {
  copied: "'format-version'='2'",
  marked: "'format-version'='2', 'write.delete.mode'='merge-on-read', 'write.update.mode'='merge-on-read', 'write.merge.mode'='merge-on-read'",
  avro: "'format-version'='2', 'write.format.default'='avro', 'write.delete.format.default'='avro', 'write.delete.mode'='merge-on-read', 'write.update.mode'='merge-on-read', 'write.merge.mode'='merge-on-read'",
  version3: "'format-version'='3', 'write.delete.mode'='merge-on-read', 'write.update.mode'='merge-on-read', 'write.merge.mode'='merge-on-read'",
};

export async function checkSpark(judge: Judge): Promise<void> {
  const tools = prepared();
  if (!tools) return console.log('Spark did NOT run: Java, Python 3 or its packages could not be set up.');
  const [home, lake] = [path.join(cache, 'home'), path.join(cache, 'lake')];
  for (const folder of [home, lake]) rmSync(folder, { recursive: true, force: true });
  mkdirSync(lake, { recursive: true });
  const server = await startServer(home);
  let spark: Spark | undefined;
  try {
    await api('/api/storages', { name: 'bay', kind: 'folder', location: lake });
    const { text: token } = await api<{ text: string }>('/api/access/tokens', { name: 'spark', grants: [{ on: '*', right: 'manage' }] });
    spark = new Spark(tools.python, tools.jars, token);
    const { version, error } = await spark.ready();
    if (version === undefined) return console.log(`Spark did NOT run: ${error}`);
    await theirTables(spark, judge);
    await ourTables(spark, judge);
    await deltaFolders(spark, lake, judge);
    await atOnce(spark, judge);
    console.log(`Spark ${version} worked on both formats.`);
  } finally {
    spark?.stop();
    server.kill('SIGTERM');
  }
}

/** Times as Spark shows them, rows in the order of their first column. */
function plain(rows: unknown[][]): string[] {
  const value = (each: unknown): unknown => (typeof each === 'string' ? each.replace(/Z$/, '').replace(/(\.\d*?)0+$/, '$1').replace(/\.$/, '') : Array.isArray(each) ? each.map(value) : typeof each === 'object' && each !== null ? Object.fromEntries(Object.entries(each).map(([key, one]) => [key, value(one)])) : each);
  return rows.map((row) => JSON.stringify(row.map(value))).sort();
}

async function same(spark: Spark, judge: Judge, what: string, ours: string, theirs: string): Promise<void> {
  const [a, b] = await Promise.all([sql(ours).then(plain, (error: Error) => error.message), spark.run(theirs).then(plain, (error: Error) => error.message)]);
  judge(what, a, b);
}

async function theirTables(spark: Spark, judge: Judge): Promise<void> {
  await spark.run('CREATE NAMESPACE IF NOT EXISTS harbor.spark');
  for (const [name, properties] of Object.entries(WAYS)) {
    const t = `harbor.spark.${name}`;
    const steps = [
      `CREATE TABLE ${t} (${COLUMNS}) USING iceberg PARTITIONED BY (bucket(4, id)) TBLPROPERTIES (${properties})`,
      `INSERT INTO ${t} ${VALUES(0, 40)}`, `INSERT INTO ${t} ${VALUES(40, 60)}`, `DELETE FROM ${t} WHERE id % 10 = 3`, `UPDATE ${t} SET name = 'changed', price = price + 1 WHERE id BETWEEN 5 AND 12`,
      `ALTER TABLE ${t} ADD COLUMN more INT`, `MERGE INTO ${t} t USING (${VALUES(50, 70)}) s ON t.id = s.id WHEN MATCHED AND s.id % 2 = 0 THEN DELETE WHEN MATCHED THEN UPDATE SET name = 'merged', more = 7 WHEN NOT MATCHED THEN INSERT (id, name, day, price, at, place) VALUES (s.id, s.name, s.day, s.price, s.at, s.place)`,
      `ALTER TABLE ${t} RENAME COLUMN name TO title`, `ALTER TABLE ${t} ALTER COLUMN more TYPE BIGINT`, `ALTER TABLE ${t} ADD PARTITION FIELD months(day)`, `INSERT INTO ${t} VALUES (100, 'late', DATE '2026-05-05', 1.5, NULL, NULL, 3)`,
      `ALTER TABLE ${t} CREATE BRANCH trial`, `INSERT INTO ${t}.branch_trial VALUES (200, 'beside', NULL, NULL, NULL, NULL, NULL)`, `CALL harbor.system.rewrite_data_files(table => 'spark.${name}')`, `CALL harbor.system.rewrite_manifests('spark.${name}')`,
      `CALL harbor.system.fast_forward('spark.${name}', 'trial', 'main')`, `ALTER TABLE ${t} DROP COLUMN at`,
    ];
    for (const step of steps) {
      const { error } = await spark.ask(step);
      // A branch that went another way cannot be moved on, which both say.
      if (error !== undefined && !step.includes('fast_forward')) judge(`spark.${name}: ${step.slice(0, 60)}`, 'done', error);
    }
    await same(spark, judge, `spark.${name}, rows`, `SELECT * FROM spark.${name}`, `SELECT * FROM ${t}`);
    await same(spark, judge, `spark.${name}, its branch`, `SELECT id FROM spark.${name} FOR SYSTEM_VERSION AS OF 'trial'`, `SELECT id FROM ${t} VERSION AS OF 'trial'`);
    for (const [id] of await spark.run(`SELECT CAST(snapshot_id AS STRING) FROM ${t}.snapshots`)) await same(spark, judge, `spark.${name}, snapshot ${String(id)}`, `SELECT count(*), sum(id) FROM spark.${name} FOR SYSTEM_VERSION AS OF ${String(id)}`, `SELECT count(*), sum(id) FROM ${t} VERSION AS OF ${String(id)}`);
    // And we go on where it stopped.
    await sql(`UPDATE spark.${name} SET title = 'ours' WHERE id < 3`);
    await sql(`DELETE FROM spark.${name} WHERE id = 7`);
    await same(spark, judge, `spark.${name}, after our changes`, `SELECT * FROM spark.${name}`, `SELECT * FROM ${t}`);
  }
}

async function ourTables(spark: Spark, judge: Judge): Promise<void> {
  await sql('CREATE NAMESPACE made');
  for (const properties of ['', ", 'write.delete.mode' = 'merge-on-read', 'write.update.mode' = 'merge-on-read'"]) {
    const name = properties === '' ? 'whole' : 'vectors';
    await sql(`CREATE TABLE made.${name} (k BIGINT, name VARCHAR, day DATE, x DOUBLE, d DECIMAL(12,3), at TIMESTAMPTZ, t TIMESTAMP, s STRUCT(a INTEGER, b VARCHAR[])) PARTITION BY (month(day)) WITH (format = 'iceberg'${properties.replaceAll("'write", '"write').replaceAll("mode' =", 'mode" =')})`);
    await sql(`INSERT INTO made.${name} SELECT i, 'n' || i, DATE '1969-11-01' + i::INTEGER * 9, i / 3, (i * 1.001)::DECIMAL(12,3), TIMESTAMPTZ '1969-12-31 23:59:59.5+00' + to_seconds(i), TIMESTAMP '2026-01-01' + to_seconds(i), {'a': i::INTEGER, 'b': ['x', NULL]} FROM range(50) r(i)`);
    await sql(`DELETE FROM made.${name} WHERE k % 7 = 0`);
    await sql(`UPDATE made.${name} SET name = NULL WHERE k BETWEEN 20 AND 25`);
    await same(spark, judge, `made.${name}`, `SELECT k, name, day, d, "at", t, s FROM made.${name}`, `SELECT k, name, day, d, at, t, s FROM harbor.made.${name}`);
    await same(spark, judge, `made.${name}, where day`, `SELECT k FROM made.${name} WHERE day < DATE '1970-01-01'`, `SELECT k FROM harbor.made.${name} WHERE day < DATE '1970-01-01'`);
    judge(`made.${name}, Spark merges`, 'done', (await spark.ask(`MERGE INTO harbor.made.${name} t USING (SELECT id AS k FROM range(45, 55)) s ON t.k = s.k WHEN MATCHED THEN UPDATE SET name = 'theirs' WHEN NOT MATCHED THEN INSERT (k, name, day, x, d, at, t, s) VALUES (s.k, NULL, NULL, NULL, NULL, NULL, NULL, NULL)`)).error ?? 'done');
    await same(spark, judge, `made.${name}, after Spark merged`, `SELECT k, name FROM made.${name}`, `SELECT k, name FROM harbor.made.${name}`);
  }
  await sql('CREATE VIEW made.some AS SELECT k, upper(name) AS name FROM made.whole WHERE k < 5');
  await same(spark, judge, 'our view in Spark', 'SELECT * FROM made.some', 'SELECT * FROM harbor.made.some');
  const { error } = await spark.ask('CREATE VIEW harbor.made.theirs AS SELECT `k` AS key, day FROM harbor.made.whole WHERE day IS NOT NULL');
  if (error === undefined) await same(spark, judge, "Spark's view here", 'SELECT * FROM made.theirs', 'SELECT * FROM harbor.made.theirs');
  else judge("Spark's view is made", 'done', error);
}

async function deltaFolders(spark: Spark, lake: string, judge: Judge): Promise<void> {
  const variants: Record<string, string> = { plain: '', vectors: "\"delta.enableDeletionVectors\" = 'true'", mapped: "\"delta.columnMapping.mode\" = 'name'", feed: "\"delta.enableChangeDataFeed\" = 'true'" };
  for (const [name, option] of Object.entries(variants)) {
    await sql(`CREATE TABLE made.d_${name} (k BIGINT, name VARCHAR, day DATE, at TIMESTAMPTZ, d DECIMAL(12,3)) PARTITION BY (day) WITH (format = 'delta'${option ? `, ${option}` : ''})`);
    for (let n = 0; n < 12; n++) await sql(`INSERT INTO made.d_${name} SELECT i, 'n' || i, DATE '2026-01-01' + (i % 3)::INTEGER, TIMESTAMPTZ '1969-12-31 23:59:59.9995+00' + to_days(i::INTEGER - 5), i::DECIMAL(12,3) FROM range(${n * 5}, ${n * 5 + 5}) r(i)`);
    await sql(`DELETE FROM made.d_${name} WHERE k % 7 = 0`);
    await sql(`UPDATE made.d_${name} SET name = 'upd' WHERE k BETWEEN 20 AND 25`);
    const { location } = await api<{ location: string }>(`/api/catalog/made/d_${name}`);
    const folder = `delta.\`${path.join(lake, location)}\``;
    await same(spark, judge, `made.d_${name} in Spark`, `SELECT k, name, day, "at", d FROM made.d_${name}`, `SELECT k, name, day, at, d FROM ${folder}`);
    await same(spark, judge, `made.d_${name} in Spark, before 1970`, `SELECT k FROM made.d_${name} WHERE "at" < TIMESTAMPTZ '1970-01-01 00:00:00+00'`, `SELECT k FROM ${folder} WHERE at < TIMESTAMP '1970-01-01 00:00:00'`);
    await same(spark, judge, `made.d_${name}, version 5 in Spark`, `SELECT count(*), sum(k) FROM made.d_${name} FOR SYSTEM_VERSION AS OF 5`, `SELECT count(*), sum(k) FROM ${folder} VERSION AS OF 5`);
    for (const step of [`INSERT INTO ${folder} VALUES (1000, 'theirs', DATE '2026-01-02', NULL, NULL)`, `UPDATE ${folder} SET name = 'theirs' WHERE k < 5`, `DELETE FROM ${folder} WHERE k = 30`, `OPTIMIZE ${folder}`]) judge(`made.d_${name}: ${step.slice(0, 20)}`, 'done', (await spark.ask(step)).error ?? 'done');
    await sql(`ALTER TABLE made.d_${name} SET PROPERTIES ("offered-as-iceberg" = 'true')`);
    await same(spark, judge, `made.d_${name}, offered as Iceberg`, `SELECT k, name, day, "at", d FROM made.d_${name}`, `SELECT k, name, day, at, d FROM harbor.made.d_${name}`);
    await same(spark, judge, `made.d_${name}, after Spark's changes`, `SELECT k, name, day FROM made.d_${name}`, `SELECT k, name, day FROM ${folder}`);
  }
  const folder = path.join(lake, 'from-spark');
  for (const step of [`CREATE TABLE delta.\`${folder}\` (${COLUMNS}) USING delta PARTITIONED BY (day) TBLPROPERTIES ('delta.enableDeletionVectors'='true', 'delta.columnMapping.mode'='name', 'delta.checkpointInterval'='3')`, ...[0, 1, 2, 3, 4].map((n) => `INSERT INTO delta.\`${folder}\` ${VALUES(n * 10, n * 10 + 10)}`), `DELETE FROM delta.\`${folder}\` WHERE id % 4 = 1`, `UPDATE delta.\`${folder}\` SET name = 'x' WHERE id > 40`, `ALTER TABLE delta.\`${folder}\` RENAME COLUMN name TO title`]) judge(`from Spark: ${step.slice(0, 30)}`, 'done', (await spark.ask(step)).error ?? 'done');
  for (let version = 1; version <= 7; version++) await same(spark, judge, `from Spark, version ${version}`, `SELECT id, name, day, price FROM "bay:from-spark" FOR SYSTEM_VERSION AS OF ${version}`, `SELECT id, name, day, price FROM delta.\`${folder}\` VERSION AS OF ${version}`);
  await sql(`MERGE INTO "bay:from-spark" AS t USING (SELECT 2::BIGINT AS id) AS s ON t.id = s.id WHEN MATCHED THEN UPDATE SET title = 'ours'`);
  await same(spark, judge, 'from Spark, after our merge', 'SELECT id, title, day FROM "bay:from-spark"', `SELECT id, title, day FROM delta.\`${folder}\``);
}

/** Four clients here and Spark on the same Iceberg table at once; rows of all of them must be there once. */
async function atOnce(spark: Spark, judge: Judge): Promise<void> {
  await sql("CREATE TABLE made.busy (k BIGINT, who VARCHAR) WITH (format = 'iceberg')");
  await sql("INSERT INTO made.busy SELECT i, 'base' FROM range(100) r(i)");
  let going = true;
  const ours: number[] = [];
  let next = 1000;
  const clients = Array.from({ length: 4 }, async () => {
    while (going) {
      const k = next++;
      await sql(k % 3 === 0 ? `UPDATE made.busy SET who = 'ours' WHERE k = ${k % 100}` : `INSERT INTO made.busy VALUES (${k}, 'ours')`);
      if (k % 3 !== 0) ours.push(k);
    }
  });
  const counts = { appends: 0, refusedAppends: 0, merges: 0, refusedMerges: 0 };
  for (let n = 0; n < 6; n++) {
    const { error } = await spark.ask(`INSERT INTO harbor.made.busy VALUES (${50_000 + n}, 'theirs')`);
    counts[error === undefined ? 'appends' : 'refusedAppends']++;
    const merged = await spark.ask(`MERGE INTO harbor.made.busy t USING (SELECT CAST(${n} AS BIGINT) AS k) s ON t.k = s.k WHEN MATCHED THEN UPDATE SET who = 'theirs ${n}'`);
    counts[merged.error === undefined ? 'merges' : 'refusedMerges']++;
  }
  going = false;
  await Promise.all(clients);
  console.log(`At once with four busy clients here: Spark's appends ${counts.appends} done, ${counts.refusedAppends} refused; its merges ${counts.merges} done, ${counts.refusedMerges} refused; ${ours.length} inserts of ours.`);
  judge('appends of Spark that were refused', 0, counts.refusedAppends);
  judge('merges of Spark that got through', true, counts.merges >= 5);
  const rows = await sql('SELECT k, count(*) FROM made.busy GROUP BY k');
  judge('rows of both, each once', [100 + ours.length + counts.appends, 0], [rows.length, rows.filter(([, count]) => Number(count) !== 1).length]);
}
