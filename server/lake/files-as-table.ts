/** Files read as a table without registering them: `"tern-bay:landing/bottle-sheets"` in a query, or a file being looked at. */
import { groupFiles, type Candidate } from '../../core/crawl/group';
import { inferColumns, inferPartitionType } from '../../core/crawl/infer';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import { parsePattern } from '../../core/folder/path-pattern';
import { fullOptions, type GivenOptions } from '../../core/folder/read-options';
import { FolderTable, listingKey, MemoryListings, type FolderDefinition } from '../../core/folder/table';
import { FilePointer } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import type { Field } from '../../core/schema/types';
import type { ObjectInfo } from '../../core/storage/object-store';
import { baseName, below, normalPath, parentPath } from '../../core/storage/paths';
import type { LakeTable } from '../../core/table/contract';
import type { Inspected, Inspector } from './inspect';
import type { Lake, OpenStorage } from './lake';

type PlainFiles = Extract<Candidate, { kind: 'files' }>;

export class FilesAsTable {
  readonly #kept = new Map<string, { key: string; table: LakeTable }>();

  constructor(
    readonly lake: Lake,
    readonly inspector: Inspector,
  ) {}

  /** `name` is `storage:path` of a file, a folder of files, or a table's folder. */
  async open(name: string): Promise<{ table: LakeTable; storage: OpenStorage }> {
    const cut = name.indexOf(':');
    const storage = this.lake.storage(name.slice(0, cut));
    const path = normalPath(name.slice(cut + 1));
    const single = await storage.store.head(path);
    const files = single ? [single] : await storage.store.list(path);
    if (files.length === 0) throw new LakeError('not-found', `There are no files under ${name}.`, { path });
    const key = listingKey(files);
    const kept = this.#kept.get(name);
    if (kept?.key === key) return { table: kept.table, storage };
    const table = await this.#openFiles(name, storage, path, files, single !== undefined);
    this.#kept.set(name, { key, table });
    if (this.#kept.size > 100) this.#kept.delete(this.#kept.keys().next().value!);
    return { table, storage };
  }

  async #openFiles(name: string, storage: OpenStorage, path: string, files: ObjectInfo[], single: boolean): Promise<LakeTable> {
    const candidates = groupFiles(files, single ? parentPath(path) : path);
    const [candidate] = candidates;
    if (!candidate || candidates.length > 1) {
      throw new LakeError('bad-request', `${name} holds ${candidates.length} tables, not one: ${candidates.slice(0, 5).map((each) => each.root).join(', ')}. Name one of them.`, { path });
    }
    if (candidate.kind === 'delta') return new DeltaTable(storage.store, candidate.root, name);
    if (candidate.kind === 'iceberg') return new IcebergTable(storage.store, candidate.root, name, new FilePointer(storage.store, candidate.root));
    if (candidate.kind === 'mixed') throw new LakeError('bad-file', `${name} holds several kinds of file (${kindsText(candidate.kinds)}), which do not make one table. Name a single file.`, { path });
    const facts = await this.inspector.inspect(storage, candidate.fileKind, candidate.files);
    const bad = facts.find((each) => each.problem);
    if (bad && facts.every((each) => each.problem)) throw new LakeError('bad-file', bad.problem!, { path: bad.path, ...(bad.line === undefined ? {} : { line: bad.line }) });
    const plain = single ? { ...candidate, pattern: baseName(path), partitions: [] } : candidate;
    const { definition } = folderDefinition(plain, facts);
    return new FolderTable(storage.store, candidate.root, name, definition, new MemoryListings());
  }
}

const KIND_WORDS: Partial<Record<string, [one: string, many: string]>> = {
  parquet: ['Parquet file', 'Parquet files'], csv: ['CSV file', 'CSV files'], json: ['JSON file', 'JSON files'], text: ['text file', 'text files'],
  avro: ['Avro file', 'Avro files'], xml: ['XML file', 'XML files'], picture: ['picture', 'pictures'], other: ['file of another kind', 'files of other kinds'],
};

/** "2 CSV files, 1 JSON file and 2 pictures". */
export function kindsText(kinds: Record<string, number>): string {
  const parts = Object.entries(kinds).map(([kind, count]) => `${count} ${KIND_WORDS[kind]?.[count === 1 ? 0 : 1] ?? kind}`);
  return parts.length < 2 ? parts.join('') : `${parts.slice(0, -1).join(', ')} and ${parts.at(-1)}`;
}

/** The table that files of one kind make, by what they say of themselves. Fails when no reader fits. */
export function folderDefinition(candidate: PlainFiles, facts: readonly Inspected[]): { definition: FolderDefinition; inference: ReturnType<typeof inferColumns> } {
  const readable = facts.filter((each) => !each.problem);
  const given = readable.find((each) => each.options)?.options;
  if (!given) throw new LakeError('unsupported', `There is no reader for ${candidate.fileKind} files yet.`, { path: candidate.root });
  const options = fullOptions(given as GivenOptions);
  const inference = inferColumns(readable);
  const pattern = parsePattern(candidate.pattern);
  const matches = candidate.files.map((file) => pattern.match(below(candidate.root, file.path)!) ?? {});
  const pathFields: Field[] = pattern.columns.map((name) => ({ name, type: inferPartitionType([...new Set(matches.map((match) => match[name] ?? null))]), required: false }));
  const inFiles = inference.fields.filter((field) => !pathFields.some((each) => each.name.toLowerCase() === field.name.toLowerCase()));
  return { definition: { pattern: candidate.pattern, options, fields: [...inFiles, ...pathFields], partitionColumns: pattern.columns }, inference };
}
