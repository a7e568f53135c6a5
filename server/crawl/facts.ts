/** Facts of all files that a crawl must open, in as few steps as there can be, remembered as they come. */
import { isDeepStrictEqual } from 'node:util';
import { splitFiles, stemOf } from '../../core/crawl/split';
import type { ObjectInfo } from '../../core/storage/object-store';
import { LakeError } from '../../core/errors';
import { containerKind } from '../../core/storage/members';
import { baseName } from '../../core/storage/paths';
import { fullOptions, type GivenOptions, type ReadOptions } from '../../core/folder/read-options';
import { knownFacts, readAs, rememberFacts } from '../catalog/seen-files';
import type { Sql } from '../catalog/database';
import type { JobContext } from '../jobs/jobs';
import { READABLE, sampleOf, type Inspected, type Inspector } from '../lake/inspect';
import type { PlainFiles } from '../lake/files-as-table';
import type { OpenStorage } from '../lake/lake';
import type { Judged } from './crawler';

interface Tools {
  inspector: Inspector;
  database: Sql;
  sample: number;
  context: JobContext;
}

export interface GatheredFacts {
  facts: Inspected[];
  opened: number;
}

interface Wanted {
  judged: Judged;
  candidate: PlainFiles;
  /** The options of the registered table, which count over what its files seem. */
  given: ReadOptions | undefined;
  files: readonly ObjectInfo[];
}

/** Parquet files whose footers are read, and remembered, in one step. */
const AT_ONCE = 2000;

export async function gatherFacts(tools: Tools, fresh: readonly Judged[]): Promise<{ factsOf: (judged: Judged) => GatheredFacts; opened: number }> {
  const wanted = fresh.flatMap((judged) => wantedOf(judged, tools.sample));
  const total = wanted.reduce((sum, each) => sum + each.files.length, 0);
  const facts = new Map<Judged, GatheredFacts>(fresh.map((judged) => [judged, { facts: [], opened: 0 }]));
  const known = await knownOf(tools, wanted);
  let done = 0;
  let opened = 0;
  const progress = (more: number, place: string) => tools.context.progress((done += more), total, place);
  const parquet = wanted.filter((each) => (each.given?.format ?? each.candidate.fileKind) === 'parquet');
  opened += await gatherFooters(tools, parquet, known, facts, progress);
  await severalAtOnce(wanted.filter((other) => !parquet.includes(other)), async (each) => {
    tools.context.check();
    const gathered = await gatherText(tools, each, known.get(each)!);
    facts.set(each.judged, gathered);
    opened += gathered.opened;
    progress(each.files.length, each.candidate.root);
  });
  return { factsOf: (judged) => facts.get(judged)!, opened };
}

/** Places that are looked into beside each other. */
const AT_A_TIME = 6;

/** The outcome of each, in the order of what was given. The first that fails ends all. */
export async function severalAtOnce<T, R>(all: readonly T[], work: (each: T) => Promise<R>): Promise<R[]> {
  const outcomes: R[] = new Array<R>(all.length);
  let next = 0;
  await Promise.all(Array.from({ length: Math.min(AT_A_TIME, all.length) }, async () => {
    for (let at = next++; at < all.length; at = next++) outcomes[at] = await work(all[at]!);
  }));
  return outcomes;
}

function wantedOf(judged: Judged, sample: number): Wanted[] {
  const { candidate, relation } = judged;
  if (candidate.kind !== 'files') return [];
  const folder = relation?.definition.kind === 'folder' ? relation.definition.folder : undefined;
  const given = folder && folder.options.format !== 'parquet' ? fullOptions(folder.options as GivenOptions) : undefined;
  const files = (given?.format ?? candidate.fileKind) === 'parquet' ? candidate.files : sampleByName(candidate, sample);
  return [{ judged, candidate, given, files }];
}

/** Of each beginning of a name one file, and of the rest some. */
function sampleByName({ files, partitions }: PlainFiles, sample: number): ObjectInfo[] {
  const byStem = new Map<string, ObjectInfo>();
  if (partitions.length === 0) for (const file of files) if (!byStem.has(stemOf(baseName(file.path)))) byStem.set(stemOf(baseName(file.path)), file);
  const some = new Set([...(byStem.size > 1 ? sampleOf([...byStem.values()], MOST_STEMS) : []), ...sampleOf(files, sample)]);
  return files.filter((file) => some.has(file));
}

const MOST_STEMS = 64;

const OF_ALL_FILES: ReadonlySet<string> = new Set(['forms', 'nullTexts', 'misfits', 'pads', 'rewrite', 'perFile', 'compression']);

/** How a single file is read, without what is decided over all files of a table. */
function ofOneFile(given: GivenOptions): Record<string, unknown> {
  return Object.fromEntries(Object.entries(fullOptions(given)).filter(([key]) => !OF_ALL_FILES.has(key)));
}

/** One question for each crawled folder and way of reading, not one for each table. */
async function knownOf({ database }: Tools, wanted: readonly Wanted[]): Promise<Map<Wanted, Map<string, Inspected>>> {
  const known = new Map<Wanted, Map<string, Inspected>>();
  const groups = new Map<string, Wanted[]>();
  for (const each of wanted) {
    const key = JSON.stringify([each.judged.storage.storage.id, each.judged.within.folder, readAs(each.given)]);
    groups.set(key, [...(groups.get(key) ?? []), each]);
  }
  for (const group of groups.values()) {
    const { judged, given } = group[0]!;
    const storageId = judged.storage.storage.id;
    const folder = group.length === 1 ? judged.candidate.root : judged.within.folder;
    const files = group.flatMap((each) => each.files);
    const found = await knownFacts(database, storageId, folder, readAs(given), files);
    // Read once before the table was registered, in the very way that it is read since.
    const earlier = given && found.size < files.length ? await knownFacts(database, storageId, folder, readAs(undefined), files) : [];
    for (const [path, each] of earlier) if (!found.has(path) && each.options && isDeepStrictEqual(ofOneFile(each.options as GivenOptions), ofOneFile(given as GivenOptions))) found.set(path, each);
    for (const each of group) known.set(each, found);
  }
  return known;
}

async function gatherFooters(tools: Tools, wanted: readonly Wanted[], known: Map<Wanted, Map<string, Inspected>>, facts: Map<Judged, GatheredFacts>, progress: (more: number, place: string) => void): Promise<number> {
  let opened = 0;
  for (const [storage, group] of byStorage(wanted)) {
    const unknown = group.flatMap((each) => each.files.filter((file) => !known.get(each)!.has(file.path)));
    progress(group.reduce((sum, each) => sum + each.files.length, 0) - unknown.length, storage.storage.name);
    const fresh = new Map<string, Inspected>();
    for (let start = 0; start < unknown.length; start += AT_ONCE) {
      tools.context.check();
      const part = unknown.slice(start, start + AT_ONCE);
      const read = await tools.inspector.footers.read(storage, part);
      await rememberFacts(tools.database, storage.storage.id, readAs(undefined), part, read);
      for (const each of read) fresh.set(each.path, each);
      progress(part.length, part[0]!.path);
    }
    opened += fresh.size;
    for (const each of group) {
      const own = each.files.map((file) => known.get(each)!.get(file.path) ?? fresh.get(file.path)!);
      facts.set(each.judged, { facts: own, opened: each.files.filter((file) => fresh.has(file.path)).length });
    }
  }
  return opened;
}

function byStorage(wanted: readonly Wanted[]): Map<OpenStorage, Wanted[]> {
  const groups = new Map<OpenStorage, Wanted[]>();
  for (const each of wanted) groups.set(each.judged.storage, [...(groups.get(each.judged.storage) ?? []), each]);
  return groups;
}

/** So many files of one folder are opened to see whether they are several tables. */
const MOST_OPENED = 2000;

/** What is wrong with containers that could not be looked into. */
async function unopened({ store }: OpenStorage, files: readonly ObjectInfo[]): Promise<Inspected[]> {
  const found: Inspected[] = [];
  for (const { path } of files.filter((file) => containerKind(file.path))) {
    const problem = await store.list(path).then((members) => (members.length === 0 ? `${path} holds no file.` : undefined), (error: unknown) => (error instanceof LakeError ? error.message : undefined));
    if (problem !== undefined) found.push({ path, columns: [], problem });
  }
  return found;
}

/** A sample tells all of files that make one table; where their names or columns say that they are several, all are opened. */
async function gatherText(tools: Tools, wanted: Wanted, known: ReadonlyMap<string, Inspected>): Promise<GatheredFacts> {
  const { candidate, given } = wanted;
  const sample = await gatherSome(tools, wanted, known);
  const mayBeSeveral = !given && candidate.partitions.length === 0 && wanted.files.length < candidate.files.length && candidate.files.length <= MOST_OPENED;
  if (!mayBeSeveral || !splitFiles(sample.facts.filter((each) => !each.problem))) return sample;
  const seen = new Map(sample.facts.map((each) => [each.path, each]));
  const all = await gatherSome(tools, { ...wanted, files: candidate.files }, seen);
  return { facts: all.facts, opened: sample.opened + all.opened };
}

async function gatherSome(tools: Tools, { judged, candidate, given, files }: Wanted, known: ReadonlyMap<string, Inspected>): Promise<GatheredFacts> {
  const { storage } = judged;
  const unknown = files.filter((file) => !known.has(file.path));
  // What is known of all of them was found by their kind.
  const kind = given || unknown.length === 0 ? candidate.fileKind : await tools.inspector.kindOf(storage, files[0]!);
  if (!READABLE.has(kind) && !given && unknown.length > 0) return { facts: await unopened(storage, files), opened: 0 };
  // The records of XML are judged together, so one new file has all of them looked at again.
  const open = kind === 'xml' && unknown.length > 0 ? files : unknown;
  const fresh = open.length === 0 ? [] : await tools.inspector.inspect(storage, kind, open, { most: open.length, ...(given ? { given } : {}) });
  await rememberFacts(tools.database, storage.storage.id, readAs(given), open, fresh);
  const opened = new Set(open.map((file) => file.path));
  const before = files.filter((file) => !opened.has(file.path)).map((file) => known.get(file.path)!);
  return { facts: [...before, ...fresh].sort((a, b) => (a.path < b.path ? -1 : 1)), opened: fresh.length };
}
