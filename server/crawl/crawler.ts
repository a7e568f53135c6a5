/** One crawl: list, group, look into what is new, and write down findings. Registers nothing, unless its rules say so. */
import { createHash } from 'node:crypto';
import { plainCrawl, nameByRule, wantedFiles, type CrawlDefinition, type CrawlFolder } from '../../core/crawl/definition';
import { distinctTableNames } from '../../core/crawl/distinct-names';
import { groupFiles, type Candidate } from '../../core/crawl/group';
import { isBeside, WITHOUT_TABLE } from '../../core/crawl/kinds';
import { pauses } from '../../core/pause';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { parsePattern } from '../../core/folder/path-pattern';
import { fullPattern } from '../../core/folder/table';
import type { ObjectInfo } from '../../core/storage/object-store';
import { nameAsSql } from '../../core/sql/tokens';
import { below, joinPath } from '../../core/storage/paths';
import { LATEST } from '../../core/table/contract';
import { rememberedCorrections } from '../catalog/corrections';
import { endRun, ensureCrawl, getCrawl, setRunJob, startRun, takeInterrupted, type RunCause } from '../catalog/crawls';
import { addFindings, earlierFindings, leftOutPlaces, repeatFindings, type EarlierFinding, type NewFinding, type Repeated } from '../catalog/findings';
import { listRelations, listTiedFolders, type Relation } from '../catalog/relations';
import { JUDGED_BY } from '../catalog/seen-files';
import type { Events } from '../events';
import type { Job, JobContext, Jobs } from '../jobs/jobs';
import type { Inspector } from '../lake/inspect';
import { nameOfIdentity, type Identity } from '../access/access';
import type { Lake, OpenStorage } from '../lake/lake';
import { lakeEvidence, noEvidence } from './evidence';
import { gatherFacts, severalAtOnce, type GatheredFacts } from './facts';
import { folderFindings, partName, type FindingTools } from './folder-finding';
import { sourceFindings, wantedObjects } from './source-findings';
import { affectedBy, goneFindings, noteDrift, type AfterRun } from './after-run';

/** A candidate with all that judging it takes. */
export interface Judged {
  candidate: Candidate;
  storage: OpenStorage;
  within: CrawlFolder;
  place: string;
  digest: string;
  relation: Relation | undefined;
}

type Grouped = Omit<Judged, 'digest'>;

export class Crawler {
  constructor(
    readonly lake: Lake,
    readonly inspector: Inspector,
    readonly jobs: Jobs,
    readonly events: Events,
    readonly after: AfterRun,
  ) {}

  /** Crawls one folder by the usual rules, under its own name; returns at once. */
  async startFolder(storageName: string, folder: string, as: Identity): Promise<{ runId: number; job: Job; finished: Promise<Job> }> {
    const { storage } = this.lake.storage(storageName);
    const name = folder === '' ? storage.name : `${storage.name}/${folder}`;
    return this.start(await ensureCrawl(this.lake.database, name, plainCrawl(storage.name, folder), nameOfIdentity(as)), as);
  }

  /** Starts a run and returns at once. Fails when the crawl runs already. */
  async start(crawlId: number, by: Identity, cause: RunCause = 'asked'): Promise<{ runId: number; job: Job; finished: Promise<Job> }> {
    const crawl = await getCrawl(this.lake.database, crawlId);
    for (const each of crawl.definition.folders) this.lake.storage(each.storage);
    const { runAs } = crawl.definition;
    const as = runAs ? await this.after.identityOf(runAs) : by;
    const who = runAs ? `${nameOfIdentity(by)} as ${nameOfIdentity(as)}` : nameOfIdentity(by);
    const runId = await startRun(this.lake.database, crawlId, who, cause);
    const { job, finished } = await this.jobs.start('crawl', `Crawl ${crawl.name}`, who, async (context) => {
      try {
        return await this.#run(runId, crawlId, crawl.definition, as, context);
      } catch (error) {
        const problem = error instanceof LakeError ? error.message : 'An unexpected error; the server log has more.';
        await endRun(this.lake.database, runId, { problem }).catch(() => undefined);
        this.events.tell({ topic: 'crawl', runId });
        throw error;
      }
    });
    await setRunJob(this.lake.database, runId, job.id);
    return { runId, job, finished };
  }

  /** Goes on with runs that a stop of the server cut off; files that had been opened are not opened again. */
  async resume(): Promise<void> {
    const cut = new Map((await takeInterrupted(this.lake.database)).map((run) => [run.crawlId, run.who]));
    for (const [crawlId, who] of cut) await this.start(crawlId, { kind: 'person', name: who }, 'restart').catch(() => undefined);
  }

  async #run(runId: number, crawlId: number, definition: CrawlDefinition, as: Identity, context: JobContext): Promise<Record<string, unknown>> {
    const { database } = this.lake;
    const [remembered, relations, tied, always, earlier] = await Promise.all([rememberedCorrections(database), listRelations(database), listTiedFolders(database), leftOutPlaces(database), earlierFindings(database, crawlId)]);
    const { judged, listed, sources } = await this.#list(definition, relations, context);
    const before = byDigest(earlier);
    const same = judged.filter((each) => before.has(keyOf(each)));
    const fresh = judged.filter((each) => !before.has(keyOf(each)));
    await repeatFindings(database, runId, same.flatMap((each) => before.get(keyOf(each))!.map((finding) => repeated(finding, registeredAt(relations, each, finding.place), always))));
    context.log(`${same.length} places are as they were; ${fresh.length} are looked into.`);
    const { factsOf, opened } = await gatherFacts({ inspector: this.inspector, database, sample: definition.sample, context }, fresh);
    const findings: NewFinding[] = [];
    const found = await severalAtOnce(fresh, async (each) => {
      context.check();
      return this.#findings(each, nameOf(each, nameByRule(each.candidate.root, each.within, definition, tied)), factsOf(each), relations, remembered);
    });
    for (const [index, each] of fresh.entries()) {
      for (const finding of found[index]!) {
        findings.push(always.has(`${finding.storageId} ${finding.place}`) && finding.decision !== 'registered' ? { ...finding, decision: 'leave-out-always' } : finding);
        if (fresh.length <= 500) context.log(`${each.candidate.root || '(root)'}: ${finding.summary}`);
      }
    }
    for (const { storage, objects } of sources) findings.push(...(await sourceFindings(storage, objects, definition, relations)));
    findings.push(...goneFindings(definition, relations, judged, listed, this.lake));
    tellApart(findings, relations);
    await affectedBy(this.after, findings, relations);
    await addFindings(database, runId, findings);
    await noteDrift(this.after, runId, findings, relations);
    const files = [...listed.values()].reduce((sum, each) => sum + each.length, 0);
    const added = definition.findings === 'additions' ? await this.after.registerAdditions(runId, as) : 0;
    await endRun(database, runId, { files, opened, added });
    this.events.tell({ topic: 'crawl', runId });
    return { runId, files, opened, findings: findings.length + same.length, added };
  }

  /** Lists every folder and groups its files; nothing is opened. */
  async #list(definition: CrawlDefinition, relations: readonly Relation[], context: JobContext): Promise<{ judged: Judged[]; listed: Map<CrawlFolder, ObjectInfo[]>; sources: { storage: OpenStorage; objects: ObjectInfo[] }[] }> {
    const grouped: Grouped[] = [];
    const pause = pauses();
    const byPlace = new Map<string, Relation[]>();
    for (const relation of relations) byPlace.set(`${relation.storage}:${relation.location}`, [...(byPlace.get(`${relation.storage}:${relation.location}`) ?? []), relation]);
    const sources: { storage: OpenStorage; objects: ObjectInfo[] }[] = [];
    const listed = new Map<CrawlFolder, ObjectInfo[]>();
    for (const within of definition.folders) {
      context.check();
      const storage = this.lake.storage(within.storage);
      const files = wantedFiles(await listReadable(storage, within.folder, context.signal), within);
      listed.set(within, files);
      if (storage.storage.kind === 'postgres') {
        const objects = wantedObjects(files, within);
        sources.push({ storage, objects });
        context.log(`${storage.storage.name}: ${countKinds(objects)}.`);
        continue;
      }
      const beside = files.filter((file) => isBeside(file.path)).length;
      context.log(`${storage.storage.name}${within.folder === '' ? '' : `/${within.folder}`}: ${files.length} files listed.${beside === 0 ? '' : ` ${beside} are notes, documents, pictures, checksums, backups or on their way, and are passed over where data lies beside them.`}`);
      for (const found of await groupFiles(files, within.folder)) {
        await pause();
        const relation = relationAt(byPlace.get(`${storage.storage.name}:${found.root}`) ?? [], found);
        const candidate = asRegistered(found, relation);
        const place = candidate.kind === 'files' ? joinPath(candidate.root, candidate.pattern) : candidate.root;
        grouped.push({ candidate, storage, within, place, relation });
      }
    }
    if ([...listed.values()].every((files) => files.length === 0) && !relations.some((relation) => definition.folders.some((within) => isUnder(relation, within)))) {
      const [first] = definition.folders;
      throw new LakeError('not-found', `There are no files under ${first!.storage}:${first!.folder}.`, { path: first!.folder });
    }
    const judged = mergeRegistered(grouped).map((each) => ({ ...each, digest: digestOf(each.candidate, definition, each.relation) }));
    return { judged, listed, sources };
  }

  async #findings(each: Judged, named: { namespace: string; name: string }, facts: GatheredFacts, relations: readonly Relation[], remembered: FindingTools['remembered']): Promise<NewFinding[]> {
    const { candidate, storage, relation, place, digest } = each;
    const base = {
      storageId: storage.storage.id, location: candidate.root, place, digest,
      ...named, ...(relation ? { namespace: relation.namespace, name: relation.name } : {}),
      files: candidate.files.length, bytes: candidate.files.reduce((sum, file) => sum + file.bytes, 0), rows: null, relationId: relation?.id ?? null, definition: null,
    };
    try {
      if (candidate.kind !== 'files') return [await this.#lakeFinding(storage, candidate, base, relation)];
      return await folderFindings({ engine: this.inspector.engine, local: this.inspector.local, remembered }, storage, candidate, base, facts, relation, (partPlace) => registeredAt(relations, each, partPlace));
    } catch (error) {
      if (!(error instanceof LakeError)) throw error;
      const evidence = { ...noEvidence(candidate.files.length), example: candidate.files[0]?.path ?? null, problems: [{ path: error.details.path ?? candidate.root, problem: error.message }] };
      const holdsNone = candidate.kind === 'files' && WITHOUT_TABLE.has(candidate.fileKind);
      return [{ ...base, status: 'unreadable', decision: holdsNone ? 'leave-out' : 'undecided', format: candidate.kind === 'files' ? candidate.fileKind : candidate.kind, summary: error.message, evidence }];
    }
  }

  async #lakeFinding(storage: OpenStorage, candidate: Extract<Candidate, { kind: 'delta' | 'iceberg' }>, base: Omit<NewFinding, 'status' | 'decision' | 'format' | 'summary' | 'evidence'>, relation: Relation | undefined): Promise<NewFinding> {
    const name = `${base.namespace}.${base.name}`;
    const table = relation
      ? this.lake.table(relation)
      : candidate.kind === 'delta' ? new DeltaTable(storage.store, candidate.root, name) : this.lake.icebergTable(storage, candidate.root, name);
    const snapshot = await table.snapshot(LATEST);
    const { files, bytes, rows } = await snapshot.totals();
    return {
      ...base,
      files,
      bytes,
      rows: rows ?? null,
      status: relation ? 'unchanged' : 'new',
      decision: relation ? 'registered' : 'register',
      format: candidate.kind,
      summary: `${candidate.kind === 'delta' ? 'Delta' : 'Iceberg'}, version ${snapshot.version}`,
      definition: { kind: 'lake', pointer: 'files' },
      evidence: lakeEvidence(snapshot, files, `${storage.storage.name}:${candidate.root}`, [base.namespace, base.name]),
    };
  }
}

/** New tables that would take a name that another has, here or in the catalog, get that of their folders too. */
function tellApart(findings: NewFinding[], relations: readonly Relation[]): void {
  const fresh = findings.filter((each) => each.relationId === null && each.definition !== null);
  const names = distinctTableNames(fresh, new Set(relations.map((each) => `${each.namespace}.${each.name}`.toLowerCase())));
  for (const [index, finding] of fresh.entries()) {
    if (names[index] === finding.name) continue;
    const statement = finding.evidence.statement.replace(/^CREATE TABLE .*/, () => `CREATE TABLE ${nameAsSql(finding.namespace)}.${nameAsSql(names[index]!)}`);
    findings[findings.indexOf(finding)] = { ...finding, name: names[index]!, evidence: { ...finding.evidence, statement } };
  }
}

/** A folder that holds several kinds of file makes several tables. */
function nameOf({ candidate }: Judged, named: { namespace: string; name: string }): { namespace: string; name: string } {
  return candidate.kind === 'files' && candidate.label !== undefined ? { ...named, name: partName(named.name, candidate.root, candidate.label) } : named;
}

/** Files of several kinds that one registered table takes in are judged as that table's. */
function mergeRegistered(all: readonly Grouped[]): Grouped[] {
  const merged = new Map<string, Grouped>();
  for (const [index, each] of all.entries()) {
    const key = each.relation && each.candidate.kind === 'files' ? `relation ${each.relation.id}` : `place ${index}`;
    const before = merged.get(key);
    if (before?.candidate.kind === 'files' && each.candidate.kind === 'files') merged.set(key, { ...before, candidate: { ...before.candidate, files: [...before.candidate.files, ...each.candidate.files] } });
    else merged.set(key, each);
  }
  return [...merged.values()];
}

/** "12 tables, 3 views". */
function countKinds(objects: readonly ObjectInfo[]): string {
  const counts = new Map<string, number>();
  for (const { etag: kind = 'table' } of objects) counts.set(kind, (counts.get(kind) ?? 0) + 1);
  return [...counts].map(([kind, count]) => `${count} ${kind}${count === 1 ? '' : 's'}`).join(', ') || 'nothing';
}

/** Fails naming the right that is missing when the folder may not be listed. */
async function listReadable({ store, storage }: OpenStorage, folder: string, signal: AbortSignal): Promise<ObjectInfo[]> {
  return (store.listWithMembers ? store.listWithMembers(folder, signal) : store.list(folder, signal)).catch((error: unknown) => {
    if (signal.aborted) throw new LakeError('cancelled', 'Stopped.');
    const { code, path: place } = error as NodeJS.ErrnoException;
    if (code !== 'EACCES' && code !== 'EPERM') throw error;
    const inside = store.root !== undefined && place?.startsWith(store.root) ? place.slice(store.root.length + 1) : folder;
    throw new LakeError('refused', `The server may not list ${storage.name}:${inside}: the right to read that folder is missing.`, { path: inside });
  });
}

function keyOf({ storage, digest }: Judged): string {
  return `${storage.storage.id} ${digest}`;
}

/** A folder that holds several tables gave several findings, all of one digest. */
function byDigest(earlier: readonly EarlierFinding[]): Map<string, EarlierFinding[]> {
  const found = new Map<string, EarlierFinding[]>();
  for (const each of earlier) {
    const key = `${each.storageId} ${each.digest}`;
    if (each.digest !== '') found.set(key, [...(found.get(key) ?? []), each]);
  }
  return found;
}

/** The table that stands over the candidate: over its folder, with a pattern that takes in every file of it. */
function relationAt(here: readonly Relation[], candidate: Candidate): Relation | undefined {
  if (candidate.kind !== 'files') return here.find((relation) => relation.definition.kind === 'lake') ?? here[0];
  return here.find((relation) => {
    if (relation.definition.kind !== 'folder') return false;
    const pattern = parsePattern(relation.definition.folder.pattern);
    return candidate.files.every((file) => pattern.match(below(candidate.root, file.path)!) !== undefined);
  });
}

/** Files of a registered table are read by its pattern, whatever one would guess of their paths. */
function asRegistered(candidate: Candidate, relation: Relation | undefined): Candidate {
  if (candidate.kind !== 'files' || relation?.definition.kind !== 'folder') return candidate;
  const { pattern } = relation.definition.folder;
  return { ...candidate, pattern, partitions: parsePattern(pattern).columns };
}

/** The table that is registered at a finding's own place. */
function registeredAt(relations: readonly Relation[], judged: Judged, place: string): Relation | undefined {
  if (place === judged.place) return judged.relation;
  return relations.find((relation) => relation.storage === judged.storage.storage.name && relation.definition.kind === 'folder' && fullPattern(relation.location ?? '', relation.definition.folder) === place);
}

export function isUnder(relation: Relation, within: CrawlFolder): boolean {
  return relation.storage === within.storage && relation.location !== null && (relation.location === within.folder || within.folder === '' || below(within.folder, relation.location) !== undefined);
}

/** The same for the same files, judged by the same rules, under the same registered definition. */
function digestOf(candidate: Candidate, { namespace, prefix, naming, sample }: CrawlDefinition, relation: Relation | undefined): string {
  const hash = createHash('sha1').update(JSON.stringify([JUDGED_BY, namespace, prefix, naming, sample, candidate.kind, relation?.id, relation?.definition]));
  for (const file of candidate.files) hash.update(`${file.path}\0${file.bytes}\0${file.modified}\0${file.etag ?? ''}\n`);
  return hash.digest('hex');
}

/** An earlier finding said again: what was registered since, or is left out for good by now, counts; what was left out for that time is asked again. */
function repeated(earlier: EarlierFinding, relation: Relation | undefined, always: ReadonlySet<string>): Repeated {
  const registered = relation !== undefined && (earlier.status === 'new' || earlier.status === 'unchanged' || earlier.decision === 'registered');
  const status = registered ? 'unchanged' : earlier.status;
  const isOpen = earlier.decision === 'register' || earlier.decision === 'undecided';
  const again = isOpen ? earlier.decision : earlier.status === 'new' ? 'register' : 'undecided';
  const decision = registered ? 'registered' : always.has(`${earlier.storageId} ${earlier.place}`) ? 'leave-out-always' : again;
  return { id: earlier.id, status, decision, relationId: relation?.id ?? null };
}
