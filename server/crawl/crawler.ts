/** One crawl: list, group, look into what is new, and write down findings. Registers nothing. */
import { groupFiles, type Candidate } from '../../core/crawl/group';
import { proposedName } from '../../core/crawl/names';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { FilePointer } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import type { ObjectInfo } from '../../core/storage/object-store';
import { LATEST } from '../../core/table/contract';
import { ensureCrawl, finishRun, knownFacts, leftOutPlaces, rememberFacts, setRunJob, startRun, } from '../catalog/crawls';
import { findByLocation, type Relation } from '../catalog/relations';
import type { Events } from '../events';
import type { Job, JobContext, Jobs } from '../jobs/jobs';
import { kindsText } from '../lake/files-as-table';
import { READABLE, sampleOf, TEXT_SAMPLE, type Inspected, type Inspector } from '../lake/inspect';
import type { Lake, OpenStorage } from '../lake/lake';
import { lakeEvidence, noEvidence } from './evidence';
import { folderFinding, type NewFinding } from './folder-finding';


export class Crawler {
  constructor(
    readonly lake: Lake,
    readonly inspector: Inspector,
    readonly jobs: Jobs,
    readonly events: Events,
  ) {}

  /** Starts a run and returns at once. */
  async start(storageName: string, folder: string, who: string): Promise<{ runId: number; job: Job; finished: Promise<Job> }> {
    const storage = this.lake.storage(storageName);
    const runId = await startRun(this.lake.database, await ensureCrawl(this.lake.database, storage.storage.id, folder));
    const place = folder === '' ? storage.storage.name : `${storage.storage.name}/${folder}`;
    const { job, finished } = await this.jobs.start('crawl', `Crawl ${place}`, who, (context) => this.#run(runId, storage, folder, context));
    await setRunJob(this.lake.database, runId, job.id);
    return { runId, job, finished };
  }

  async #run(runId: number, storage: OpenStorage, folder: string, context: JobContext): Promise<Record<string, unknown>> {
    const files = await storage.store.list(folder);
    if (files.length === 0) throw new LakeError('not-found', `There are no files under ${storage.storage.name}:${folder}.`, { path: folder });
    context.log(`${files.length} files listed.`);
    const known = await knownFacts(this.lake.database, storage.storage.id, folder, files);
    const always = await leftOutPlaces(this.lake.database, storage.storage.id);
    const findings: NewFinding[] = [];
    let opened = 0;
    let passed = 0;
    for (const candidate of groupFiles(files, folder)) {
      context.check();
      const facts = await this.#factsOf(storage, candidate, known, (done) => context.progress(passed + done, files.length, candidate.root));
      opened += facts.opened;
      passed += candidate.files.length;
      const finding = await this.#finding(storage, candidate, facts);
      findings.push(always.has(candidate.root) && finding.decision !== 'registered' ? { ...finding, decision: 'leave-out-always' } : finding);
      context.log(`${candidate.root || '(root)'}: ${findings.at(-1)!.summary}`);
      context.progress(passed, files.length, candidate.root);
    }
    await finishRun(this.lake.database, runId, files.length, opened, findings);
    this.events.tell({ topic: 'crawl', runId });
    return { runId, files: files.length, opened, findings: findings.length };
  }

  async #factsOf(storage: OpenStorage, candidate: Candidate, known: ReadonlyMap<string, Inspected>, onFile: (done: number) => void): Promise<{ facts: Inspected[]; opened: number }> {
    if (candidate.kind !== 'files') return { facts: [], opened: 0 };
    const wanted = candidate.fileKind === 'parquet' ? candidate.files : sampleOf(candidate.files, TEXT_SAMPLE);
    const kind = READABLE.has(candidate.fileKind) ? candidate.fileKind : await this.inspector.kindOf(storage, candidate.files[0]!.path);
    if (!READABLE.has(kind)) return { facts: [], opened: 0 };
    const unknown = wanted.filter((file) => !known.has(file.path));
    const fresh = await this.inspector.inspect(storage, kind, unknown, { onFile });
    if (fresh.length > 0) await rememberFacts(this.lake.database, storage.storage.id, unknown, fresh);
    return { facts: [...wanted.map((file) => known.get(file.path)).filter((each) => each !== undefined), ...fresh].sort((a, b) => (a.path < b.path ? -1 : 1)), opened: fresh.length };
  }

  async #finding(storage: OpenStorage, candidate: Candidate, { facts, opened }: { facts: Inspected[]; opened: number }): Promise<NewFinding> {
    const relation = await findByLocation(this.lake.database, storage.storage.id, candidate.root);
    const base = {
      location: candidate.root,
      ...proposedName(candidate.root, storage.storage.name),
      ...(relation ? { namespace: relation.namespace, name: relation.name } : {}),
      files: candidate.files.length,
      bytes: candidate.files.reduce((sum, file) => sum + file.bytes, 0),
      rows: null,
      relationId: relation?.id ?? null,
      definition: null,
    };
    try {
      if (candidate.kind === 'mixed') return { ...base, status: 'no-shape', decision: 'undecided', format: null, summary: `${kindsText(candidate.kinds)} in one folder`, evidence: noEvidence(candidate.files.length) };
      if (candidate.kind !== 'files') return await this.#lakeFinding(storage, candidate, base, relation);
      return folderFinding(storage, candidate, base, facts, opened, relation);
    } catch (error) {
      if (!(error instanceof LakeError)) throw error;
      const evidence = { ...noEvidence(candidate.files.length), problems: [{ path: error.details.path ?? candidate.root, problem: error.message }] };
      return { ...base, status: 'unreadable', decision: 'undecided', format: candidate.kind === 'files' ? candidate.fileKind : candidate.kind, summary: error.message, evidence };
    }
  }

  async #lakeFinding(storage: OpenStorage, candidate: { kind: 'delta' | 'iceberg'; root: string; files: ObjectInfo[] }, base: Pick<NewFinding, 'location' | 'namespace' | 'name' | 'files' | 'bytes' | 'rows' | 'relationId' | 'definition'>, relation: Relation | undefined): Promise<NewFinding> {
    const name = `${base.namespace}.${base.name}`;
    const table = relation
      ? this.lake.table(relation)
      : candidate.kind === 'delta' ? new DeltaTable(storage.store, candidate.root, name) : new IcebergTable(storage.store, candidate.root, name, new FilePointer(storage.store, candidate.root));
    const snapshot = await table.snapshot(LATEST);
    const files = await snapshot.files();
    const rows = files.reduce((sum, file) => sum + (file.rows ?? 0), 0);
    return {
      ...base,
      files: files.length,
      bytes: files.reduce((sum, file) => sum + file.bytes, 0),
      rows,
      status: relation ? 'unchanged' : 'new',
      decision: relation ? 'registered' : 'register',
      format: candidate.kind,
      summary: `${candidate.kind === 'delta' ? 'Delta' : 'Iceberg'}, version ${snapshot.version}`,
      definition: { kind: 'lake', pointer: 'files' },
      evidence: lakeEvidence(snapshot, files, `${storage.storage.name}:${candidate.root}`, [base.namespace, base.name]),
    };
  }
}
