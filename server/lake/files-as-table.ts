/** Files read as a table without registering them: `"tern-bay:landing/bottle-sheets"` in a query, or a file being looked at. */
import { groupFiles, guessPattern, type Candidate } from '../../core/crawl/group';
import { inferColumns, inferPartitionType, type Inference } from '../../core/crawl/infer';
import { kindByName, WITHOUT_TABLE } from '../../core/crawl/kinds';
import { LOG_FOLDER } from '../../core/delta/log';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { isPattern, parsePattern, splitPattern } from '../../core/folder/path-pattern';
import { fullOptions, type CsvOptions, type GivenOptions, type ReadOptions } from '../../core/folder/read-options';
import { FolderTable, listingKey, MemoryListings, type FolderDefinition } from '../../core/folder/table';
import { Lru } from '../../core/lru';
import type { Field } from '../../core/schema/types';
import type { ObjectInfo } from '../../core/storage/object-store';
import { containerKind, listForPattern } from '../../core/storage/members';
import { baseName, below, isHidden, joinPath, normalPath, parentPath } from '../../core/storage/paths';
import type { LakeTable } from '../../core/table/contract';
import { findByLocation } from '../catalog/relations';
import { getSavedOptions } from '../catalog/saved-options';
import type { Inspected, Inspector } from './inspect';
import { prove } from './proof';
import { sourcePlace, sourceTable, type Lake, type OpenStorage } from './lake';

export type PlainFiles = Extract<Candidate, { kind: 'files' }>;

/** How files are read where they are named: as they seem, like this, or with options saved under a name. */
export interface FilesRead {
  options?: ReadOptions;
  readWith?: string;
}

/** So much is read to its end before files are shown that nobody registered; all of it is when they are crawled. */
const PROVEN_AT_ONCE = 8e6;

export class FilesAsTable {
  readonly #kept = new Lru<{ key: string; table: LakeTable }>(100);

  constructor(
    readonly lake: Lake,
    readonly inspector: Inspector,
  ) {}

  /** `name` is `storage:path` of a file, a folder of files, a pattern of files, or a table's folder. */
  async open(name: string, read: FilesRead = {}): Promise<{ table: LakeTable; storage: OpenStorage }> {
    const cut = name.indexOf(':');
    const storage = this.lake.storage(name.slice(0, cut));
    if (storage.storage.kind === 'postgres') return { table: sourceTable(storage.store, sourcePlace(name.slice(cut + 1)), name), storage };
    const path = normalPath(name.slice(cut + 1));
    const isAsItSeems = read.options === undefined && read.readWith === undefined;
    if (isAsItSeems && !isPattern(path) && (await storage.store.hasFolder(joinPath(path, LOG_FOLDER)))) return { table: this.#delta(name, storage, path), storage };
    const given = read.readWith === undefined ? read.options : (await getSavedOptions(this.lake.database, read.readWith)).options;
    const found = isPattern(path) ? await byPattern(storage, path) : await byPlace(storage, path);
    if (found.files.length === 0) throw new LakeError('not-found', `There are no files under ${name}.`, { path });
    const key = `${listingKey(found.files)} ${JSON.stringify(given)}`;
    const keptAs = `${name} ${JSON.stringify(read)}`;
    const kept = this.#kept.get(keptAs);
    if (kept?.key === key) return { table: kept.table, storage };
    const table = found.definite || given ? await this.#folder(name, storage, found.definite ?? (await wholeFolder(found)), given) : await this.#guessed(name, storage, path, found);
    this.#kept.set(keptAs, { key, table });
    return { table, storage };
  }

  /** A Delta table follows its own log, so its files need not be listed. */
  #delta(name: string, storage: OpenStorage, path: string): LakeTable {
    const kept = this.#kept.get(name);
    if (kept?.table instanceof DeltaTable && kept.table.store === storage.store) return kept.table;
    const table = new DeltaTable(storage.store, path, name, this.lake.indexes);
    this.#kept.set(name, { key: '', table });
    return table;
  }

  /** Of a table that the catalog owns the catalog says which state is current, whatever its folder says. */
  async #iceberg(name: string, storage: OpenStorage, root: string): Promise<LakeTable> {
    const owner = await findByLocation(this.lake.database, storage.storage.id, root);
    return owner?.definition.kind === 'lake' && owner.format === 'iceberg' ? this.lake.table(owner) : this.lake.icebergTable(storage, root, name);
  }

  async #guessed(name: string, storage: OpenStorage, path: string, found: Found): Promise<LakeTable> {
    const candidates = await groupFiles(found.files, found.root);
    const [candidate] = candidates;
    if (candidates.length > 1 && candidates.every((each) => each.root === candidate!.root)) throw new LakeError('bad-file', `${name} holds several kinds of file (${kindsText(countKinds(candidates))}), which do not make one table. Name a single file, or a pattern such as *.csv.`, { path });
    if (!candidate || candidates.length > 1) {
      throw new LakeError('bad-request', `${name} holds ${candidates.length} tables, not one: ${candidates.slice(0, 5).map((each) => each.root).join(', ')}. Name one of them.`, { path });
    }
    if (candidate.kind === 'delta') return new DeltaTable(storage.store, candidate.root, name, this.lake.indexes);
    if (candidate.kind === 'iceberg') return this.#iceberg(name, storage, candidate.root);
    return this.#folder(name, storage, candidate);
  }

  async #folder(name: string, storage: OpenStorage, candidate: PlainFiles, given?: ReadOptions): Promise<LakeTable> {
    const definition = await this.define(storage, candidate, given);
    return new FolderTable(storage.store, candidate.root, name, definition, new MemoryListings());
  }

  /** The table that the files make, read like `given` or as they seem. Fails when none of them can be read. */
  async define(storage: OpenStorage, candidate: PlainFiles, given?: ReadOptions): Promise<FolderDefinition> {
    const kind = candidate.fileKind !== 'parquet' && !given && candidate.files.length > 0 ? await this.inspector.kindOf(storage, candidate.files[0]!) : candidate.fileKind;
    const facts = await this.inspector.inspect(storage, kind, candidate.files, given ? { given } : {});
    const bad = facts.find((each) => each.problem);
    if (bad && facts.every((each) => each.problem)) throw new LakeError('bad-file', bad.problem!, { path: bad.path, ...(bad.line === undefined ? {} : { line: bad.line }) });
    const { definition } = folderDefinition(candidate, facts);
    return given ? definition : (await prove(this.inspector, storage, definition, candidate.files, { name: candidate.root, mostBytes: PROVEN_AT_ONCE })).definition;
  }
}

interface Found {
  root: string;
  files: ObjectInfo[];
  /** What they make is said by the name: one file, or a pattern. */
  definite?: PlainFiles;
}

async function byPlace({ store }: OpenStorage, path: string): Promise<Found> {
  const single = await store.head(path);
  if (!single) return { root: path, files: await store.list(path) };
  if (containerKind(path) && store.listWithMembers) {
    const members = await store.list(path);
    const names = members.map((each) => below(path, each.path)!);
    if (members.length === 0) throw new LakeError('bad-file', `${baseName(path)} holds no file.`, { path });
    if (members.length > 1) throw new LakeError('bad-request', `${baseName(path)} holds ${members.length} files: ${names.slice(0, 5).join(', ')}${names.length > 5 ? ` and ${names.length - 5} more` : ''}. Name one of them, as ${path}/${names[0]}.`, { path });
    return { root: path, files: members, definite: { kind: 'files', root: path, files: members, fileKind: kindByName(names[0]!), pattern: names[0]!, partitions: [] } };
  }
  return { root: parentPath(path), files: [single], definite: { kind: 'files', root: parentPath(path), files: [single], fileKind: kindByName(path), pattern: baseName(path), partitions: [] } };
}

/** Files that match a pattern from the storage's root. */
export async function byPattern({ store }: OpenStorage, full: string): Promise<Required<Found>> {
  const { root, pattern } = splitPattern(full);
  const parsed = parsePattern(pattern);
  const files = (await listForPattern(store, root, pattern)).filter((file) => {
    const inside = below(root, file.path)!;
    return file.bytes > 0 && !isHidden(inside) && parsed.match(inside) !== undefined;
  });
  return { root, files, definite: { kind: 'files', root, files, fileKind: kindByName(files[0]?.path ?? ''), pattern, partitions: parsed.columns } };
}

/** Every file under a folder, whatever its kind: how it is read was said. */
async function wholeFolder({ root, files }: Found): Promise<PlainFiles> {
  const [candidate] = await groupFiles(files, root);
  if (candidate?.kind === 'files' && candidate.root === root) return candidate;
  const plain = files.filter((file) => file.bytes > 0 && !isHidden(below(root, file.path) ?? file.path));
  return { kind: 'files', root, files: plain, fileKind: 'text', ...guessPattern(root, plain) };
}

function countKinds(candidates: readonly Candidate[]): Record<string, number> {
  const counts: Record<string, number> = {};
  for (const each of candidates) {
    const kind = each.kind === 'files' ? each.fileKind : each.kind;
    counts[kind] = (counts[kind] ?? 0) + each.files.length;
  }
  return counts;
}

const KIND_WORDS: Partial<Record<string, [one: string, many: string]>> = {
  parquet: ['Parquet file', 'Parquet files'], csv: ['CSV file', 'CSV files'], json: ['JSON file', 'JSON files'], text: ['text file', 'text files'],
  avro: ['Avro file', 'Avro files'], xml: ['XML file', 'XML files'], yaml: ['YAML file', 'YAML files'], arrow: ['Arrow file', 'Arrow files'],
  document: ['document', 'documents'], archive: ['archive', 'archives'], spreadsheet: ['spreadsheet', 'spreadsheets'], database: ['database file', 'database files'], picture: ['picture', 'pictures'], other: ['file of another kind', 'files of other kinds'],
};

/** "2 CSV files, 1 JSON file and 2 pictures". */
export function kindsText(kinds: Record<string, number>): string {
  const parts = Object.entries(kinds).map(([kind, count]) => `${count} ${KIND_WORDS[kind]?.[count === 1 ? 0 : 1] ?? kind}`);
  return parts.length < 2 ? parts.join('') : `${parts.slice(0, -1).join(', ')} and ${parts.at(-1)}`;
}

/** What a file is that nothing reads, and what to do. */
function unreadableKind({ files, fileKind }: PlainFiles): string {
  const name = baseName(files[0]!.path);
  if (WITHOUT_TABLE.has(fileKind)) return `${name} is a ${fileKind}, which holds no table.`;
  const known = UNREAD.find(({ ending }) => ending.test(name));
  return known ? `${name} is ${known.what}.` : `${name} is of a kind that is not read. Delimited text, text of fixed width, JSON, YAML, XML, Avro and Parquet are, and what is in archives, spreadsheets and SQLite files.`;
}

const UNREAD = [
  { ending: /\.orc$/i, what: 'an ORC file, which is not read; have it written as Parquet' },
  { ending: /\.(7z|rar)$/i, what: 'an archive of a kind that is not opened; unpack it beside' },
  { ending: /\.(mdb|accdb|duckdb|dbf)$/i, what: 'a database file of a kind that is not read; have its tables written as Parquet or CSV' },
];

/** Files that people put beside each other come from several programs. */
function isCutAlike(a: CsvOptions, b: CsvOptions): boolean {
  return (['delimiter', 'quote', 'escape', 'comment', 'skip', 'skipEnd', 'header', 'headerLines', 'encoding'] as const).every((key) => a[key] === b[key]);
}

/** What the files say together: forms of all their columns, and leave for shorter lines where one has them. */
function withForms(given: ReadOptions, facts: readonly Inspected[], { forms }: Inference): ReadOptions {
  const packings = new Set(facts.flatMap((each) => (each.options && 'compression' in each.options ? [each.options.compression] : [])));
  const options = packings.size > 1 ? { ...given, compression: 'auto' as const } as ReadOptions : given;
  if (!('forms' in options)) return options;
  const all = facts.flatMap((each) => (each.options?.format === 'csv' ? [each.options] : []));
  const csv = options.format === 'csv' ? { pads: all.some((each) => each.pads), rewrite: all.some((each) => each.rewrite), perFile: options.perFile || all.some((each) => !isCutAlike(each, all[0]!)) } : {};
  return { ...options, ...csv, forms: { ...forms, ...options.forms } };
}

/** The table that files of one kind make, by what they say of themselves. Fails when no reader fits. */
export function folderDefinition(candidate: PlainFiles, facts: readonly Inspected[]): { definition: FolderDefinition; inference: ReturnType<typeof inferColumns> } {
  const readable = facts.filter((each) => !each.problem);
  const given = readable.find((each) => each.options)?.options;
  const bad = facts.find((each) => each.problem);
  if (!given && bad) throw new LakeError('bad-file', bad.problem!, { path: bad.path, ...(bad.line === undefined ? {} : { line: bad.line }) });
  if (!given) throw new LakeError('unsupported', unreadableKind(candidate), { path: candidate.root });
  const inference = inferColumns(readable);
  const options = withForms(fullOptions(given as GivenOptions), readable, inference);
  const pattern = parsePattern(candidate.pattern);
  const matches = candidate.files.map((file) => pattern.match(below(candidate.root, file.path)!) ?? {});
  const pathFields: Field[] = pattern.columns.map((name) => ({ name, type: inferPartitionType([...new Set(matches.map((match) => match[name] ?? null))]), required: false }));
  const inFiles = inference.fields.filter((field) => !pathFields.some((each) => each.name.toLowerCase() === field.name.toLowerCase()));
  return { definition: { pattern: candidate.pattern, options, fields: [...inFiles, ...pathFields], partitionColumns: pattern.columns }, inference };
}
