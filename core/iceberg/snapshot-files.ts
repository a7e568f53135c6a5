/** The files of one snapshot: what a query must read of them, and which of their rows are deleted (specification, "Scan Planning"). */
import { LakeError } from '../errors';
import { keepPromise, Lru } from '../lru';
import { pauses } from '../pause';
import { planScan, totalsOf, whyRuledOut, withRuledOut, type DataFile, type FileFormat, type ScanPlan, type Totals } from '../scan/plan';
import { predicateColumns, TRUE, type Predicate } from '../scan/predicate';
import { mergeStats, mightMatch, remembering, type StatsLookup } from '../scan/prune';
import type { Field, TableSchema } from '../schema/types';
import { unionOf, type RowPositions } from '../values/row-positions';
import type { Value } from '../values/value';
import { ColumnMatcher, isMissing } from './column-match';
import { DeleteIndex, type FileDeletes } from './delete-index';
import { textAt, type EntryColumns } from './entry-columns';
import { manifestLookup, metricsLookup, partitionLookup, partitionTexts, partsOf, typedPartition, type PartitionPart } from './file-stats';
import { entryAt, partitionAt, rowIdsOf, sequenceAt, type IcebergDataFile, type ManifestEntry } from './manifest';
import type { ManifestFile } from './manifest-list';
import type { PartitionSpecJson, SnapshotJson, TableMetadata } from './metadata';
import type { RowsFile } from './ports';
import { loadVector } from './puffin';
import type { IcebergTable } from './table';
import { fieldById, parseSchema } from './schema';

/** Up to so many files that are not read are named in a plan; more are counted. */
const NAMED_SKIPPED = 5000;
const PLANS_KEPT = 16;
const OPEN_AHEAD = 6;

/** What a data file stands for in the table's metadata. */
export interface FileEntry extends ManifestEntry {
  spec: PartitionSpecJson;
  deletes: FileDeletes;
}

interface OpenManifest {
  manifest: ManifestFile;
  spec: PartitionSpecJson;
  parts: PartitionPart[];
  columns: EntryColumns;
  /** By the number of the partition in `columns`. */
  partitions: ((Value | null)[] | undefined)[];
  rowIds: Float64Array | undefined;
}

interface Found {
  open: OpenManifest;
  row: number;
  verdict: 'read' | 'skipped-by-partition' | 'skipped-by-bounds';
}

export class SnapshotFiles {
  readonly fields: readonly Field[];
  readonly #plans = new Lru<Promise<ScanPlan>>(PLANS_KEPT);
  readonly #matcher: ColumnMatcher;
  readonly #partsOfSpecs = new Map<number, PartitionPart[]>();
  #manifests: Promise<ManifestFile[]> | undefined;
  #deletes: Promise<DeleteIndex> | undefined;
  #totals: Promise<Totals> | undefined;

  constructor(
    readonly table: IcebergTable,
    readonly metadata: TableMetadata,
    readonly snapshot: SnapshotJson | undefined,
    readonly schema: TableSchema,
  ) {
    this.fields = schema.fields;
    this.#matcher = new ColumnMatcher(metadata, schema.fields, table.name);
  }

  manifests(): Promise<ManifestFile[]> {
    return (this.#manifests ??= this.table.manifests(this.metadata, this.snapshot));
  }

  async files(): Promise<readonly DataFile[]> {
    return (await this.plan(TRUE)).considered.map(({ file }) => file);
  }

  plan(predicate: Predicate): Promise<ScanPlan> {
    return keepPromise(this.#plans, JSON.stringify(predicate, (_, value: unknown) => (typeof value === 'bigint' ? `${value}n` : value instanceof Uint8Array ? Buffer.from(value).toString('hex') : value)), () => this.#plan(predicate));
  }

  /** Without opening manifests where nothing is deleted; the bytes are then those of the snapshot's summary. */
  totals(): Promise<Totals> {
    return (this.#totals ??= this.#countTotals());
  }

  async #countTotals(): Promise<Totals> {
    const manifests = (await this.manifests()).filter((each) => each.addedFiles + each.existingFiles > 0 || isUncounted(each));
    const bytes = this.snapshot?.summary?.['total-files-size'];
    if (manifests.some((each) => each.content === 'deletes' || isUncounted(each)) || bytes === undefined) return totalsOf(await this.files());
    const rows = manifests.reduce((sum, each) => sum + each.addedRows + each.existingRows, 0);
    return { files: manifests.reduce((sum, each) => sum + each.addedFiles + each.existingFiles, 0), bytes: Number(bytes), rows };
  }

  /** Every live delete file, with the spec that it is of. */
  async liveDeletes(): Promise<{ file: IcebergDataFile; specId: number }[]> {
    const found: { file: IcebergDataFile; specId: number }[] = [];
    for (const manifest of (await this.manifests()).filter((each) => each.content === 'deletes')) {
      const index = await this.deletes([manifest]);
      found.push(...index.all.map(({ file }) => ({ file, specId: manifest.specId })));
    }
    return found;
  }

  /** Deletes of the manifests that the predicate leaves. */
  async deletes(manifests: readonly ManifestFile[]): Promise<DeleteIndex> {
    const index = new DeleteIndex();
    for (const manifest of manifests) {
      const { columns, spec } = await this.#open(manifest);
      index.add(columns, manifest, spec);
    }
    return index;
  }

  async #plan(predicate: Predicate): Promise<ScanPlan> {
    const all = await this.manifests();
    const possible = new Set(all.filter((manifest) => this.#mightHold(manifest, predicate)));
    const deleteManifests = [...possible].filter((each) => each.content === 'deletes');
    const wholeTable = deleteManifests.length === all.filter((each) => each.content === 'deletes').length;
    const deletes = await (wholeTable ? (this.#deletes ??= this.deletes(deleteManifests)) : this.deletes(deleteManifests));
    const ruledOut = { byPartition: 0, byBounds: 0, bytes: 0 };
    const byColumn = new Map<string, number>();
    const named = predicateColumns(predicate);
    for (const manifest of all) {
      const files = manifest.addedFiles + manifest.existingFiles;
      if (manifest.content !== 'data' || files === 0 || possible.has(manifest)) continue;
      ruledOut.byPartition += files;
      const stats = this.#summaryStats(manifest);
      const told = named.filter((name) => stats(name.split('.')) !== undefined);
      // Where summaries tell of one column alone it is that one.
      const column = told.length === 1 ? told[0]! : (whyRuledOut(predicate, stats) ?? 'several columns together');
      byColumn.set(column, (byColumn.get(column) ?? 0) + files);
    }
    const found: Found[] = [];
    const skipped: Found[] = [];
    const pause = pauses();
    for await (const open of this.#opened([...possible].filter((each) => each.content === 'data'))) {
      await this.#judge(open, predicate, pause, (each) => {
        if (each.verdict === 'read') found.push(each);
        else if (skipped.length < NAMED_SKIPPED) skipped.push(each);
        else {
          ruledOut[each.verdict === 'skipped-by-partition' ? 'byPartition' : 'byBounds']++;
          ruledOut.bytes += open.columns.bytes[each.row]!;
        }
      });
      await pause();
    }
    const read = await this.#dataFiles(found, deletes, pause);
    const others = skipped.map((each) => this.#dataFile(each, { positions: [], equality: [] }));
    const fields = [...this.fields];
    const plan = planOf(fields, [...read.map((file) => ({ file, verdict: 'read' as const })), ...others.map((file, index) => ({ file, verdict: skipped[index]!.verdict }))]);
    // Manifests that were not opened do not tell the bytes of their files; the summary tells those of all.
    const known = Number(this.snapshot?.summary?.['total-files-size'] ?? 0);
    if (possible.size < all.length) ruledOut.bytes = Math.max(ruledOut.bytes, known - plan.bytes.total);
    return { ...withRuledOut(plan, ruledOut), ruledOut: [...byColumn].map(([column, files]) => ({ column, kind: 'partition' as const, files })) };
  }

  #mightHold(manifest: ManifestFile, predicate: Predicate): boolean {
    if (manifest.addedFiles + manifest.existingFiles === 0 && !isUncounted(manifest)) return false;
    const spec = this.table.specOf(this.metadata, manifest.specId);
    if (manifest.partitions.length === 0 || spec.fields.length === 0) return true;
    return mightMatch(predicate, this.#summaryStats(manifest));
  }

  #summaryStats(manifest: ManifestFile): StatsLookup {
    return this.table.summaryOf(manifest, this.schema.id ?? 0, () => manifestLookup(this.#parts(this.table.specOf(this.metadata, manifest.specId)), manifest.partitions, this.fields));
  }

  /** A source column that was dropped since still tells what the partition's values mean. */
  #parts(spec: PartitionSpecJson): PartitionPart[] {
    const known = this.#partsOfSpecs.get(spec['spec-id']);
    if (known) return known;
    const parts = this.#makeParts(spec);
    this.#partsOfSpecs.set(spec['spec-id'], parts);
    return parts;
  }

  #makeParts(spec: PartitionSpecJson): PartitionPart[] {
    return partsOf(spec, this.fields).map((part, index) => (part.source ? part : { ...part, source: this.#formerField(spec.fields[index]!['source-id']) }));
  }

  #formerField(id: number): Field | undefined {
    for (const schema of this.metadata.schemas) {
      const found = fieldById(parseSchema(schema, this.table.name).fields, id);
      if (found) return found;
    }
    return undefined;
  }

  async #open(manifest: ManifestFile): Promise<OpenManifest> {
    const columns = await this.table.entries(this.metadata, manifest);
    const spec = this.table.specOf(this.metadata, manifest.specId);
    return { manifest, spec, columns, parts: this.#parts(spec), partitions: new Array<(Value | null)[] | undefined>(columns.partitions.length), rowIds: rowIdsOf(columns, manifest) };
  }

  /** Some are fetched and decoded while others are judged. */
  async *#opened(manifests: readonly ManifestFile[]): AsyncGenerator<OpenManifest> {
    const ahead: Promise<OpenManifest>[] = [];
    for (let next = 0; next < manifests.length || ahead.length > 0; ) {
      while (next < manifests.length && ahead.length < OPEN_AHEAD) {
        const opening = this.#open(manifests[next++]!);
        // It is waited for in its turn.
        opening.catch(() => undefined);
        ahead.push(opening);
      }
      yield await ahead.shift()!;
    }
  }

  async #judge(open: OpenManifest, predicate: Predicate, pause: () => Promise<void> | undefined, take: (found: Found) => void): Promise<void> {
    const { columns } = open;
    const byPartition = new Map<number, { stats: StatsLookup; matches: boolean }>();
    for (let row = 0; row < columns.count; row++) {
      if (columns.status[row] === 2) continue;
      if (predicate.op === 'true') {
        take({ open, row, verdict: 'read' });
        continue;
      }
      const number = columns.partition[row]!;
      let partition = byPartition.get(number);
      if (!partition) {
        const stats = remembering(partitionLookup(open.parts, partitionOf(open, row), this.fields));
        partition = { stats, matches: mightMatch(predicate, stats) };
        byPartition.set(number, partition);
      }
      const { stats } = partition;
      if (!partition.matches) take({ open, row, verdict: 'skipped-by-partition' });
      else {
        const metrics = metricsLookup(columns, row, this.fields);
        take({ open, row, verdict: mightMatch(predicate, (column) => mergeStats(stats(column), metrics(column))) ? 'read' : 'skipped-by-bounds' });
      }
      if ((row & 255) === 255) await pause();
    }
  }

  async #dataFiles(found: readonly Found[], deletes: DeleteIndex, pause: () => Promise<void> | undefined): Promise<DataFile[]> {
    const nothing: FileDeletes = { positions: [], equality: [] };
    const files: DataFile[] = [];
    for (const [index, each] of found.entries()) {
      const { open, row } = each;
      const { columns, manifest, spec } = open;
      const own = deletes.isEmpty ? nothing : deletes.of(textAt(columns, columns.path[row]!), sequenceAt(columns, row, manifest), spec['spec-id'], partitionAt(columns, row, spec));
      files.push(this.#dataFile(each, own));
      if ((index & 255) === 255) await pause();
    }
    await this.#findColumns(files);
    await this.#loadDeletes(files);
    return files;
  }

  #dataFile({ open, row }: Found, deletes: FileDeletes): DataFile {
    const { columns, parts, manifest, spec, rowIds } = open;
    const uri = textAt(columns, columns.path[row]!);
    const values = partitionOf(open, row);
    const rows = columns.rows[row]!;
    const { vector } = deletes;
    const deleted = vector?.file.rows ?? 0;
    const file: DataFile = {
      path: this.table.storePath(uri, this.metadata),
      bytes: columns.bytes[row]!,
      ...this.#formatOf('a data file', uri, textAt(columns, columns.format[row]!)),
      rows: rows - deleted,
      ...(vector ? { rowFilter: this.#vectorFilter(vector.file, rows) } : {}),
      partition: partitionTexts(parts, values),
      constants: {},
      partitionStats: remembering(partitionLookup(parts, values, this.fields)),
      stats: remembering(metricsLookup(columns, row, this.fields)),
    };
    // Made when it is asked for: planning of reads never does.
    this.table.noteEntry(file, () => ({ ...entryAt(columns, row, manifest, spec, rowIds), spec, deletes }), deletes);
    return file;
  }

  #vectorFilter({ path, contentOffset, contentBytes, rows }: ManifestEntry['file'], physicalRows: number): NonNullable<DataFile['rowFilter']> {
    if (contentOffset === undefined || contentBytes === undefined) throw new LakeError('bad-file', `${this.table.name}: the manifest does not say where in ${path} a vector lies.`, { table: this.table.name, path });
    const place = { path: this.table.storePath(path, this.metadata), offset: contentOffset, bytes: contentBytes, cardinality: rows };
    const key = `${path}@${contentOffset}`;
    return { listed: 'left-out', count: rows, physicalRows, key, load: () => this.table.rows(key, () => loadVector(this.table.store, place)) };
  }

  /** Files that must be read by name are looked into. */
  async #findColumns(files: readonly DataFile[]): Promise<void> {
    if (!this.#matcher.looksIntoFiles || files.length === 0) return;
    const columns = await this.table.columnsOf(files);
    for (const [index, file] of files.entries()) {
      const found = this.#matcher.of(columns[index]!);
      if (!found) continue;
      file.columns = found;
      const { spec, file: { partition } } = this.table.entryOf(file);
      // "Return the value from partition metadata if an identity transform exists for the field."
      for (const [at, part] of this.#parts(spec).entries()) {
        const field = found.fields.find((each) => each.id === part.source?.id);
        if (part.transform.kind === 'identity' && field && isMissing(field)) file.constants[field.name] = typedPartition(part, partition[at] ?? null);
      }
    }
  }

  /** Rows that delete files list or match; they are counted now, so that plans tell true numbers of rows. */
  async #loadDeletes(files: readonly DataFile[]): Promise<void> {
    const groups = new Map<string, DataFile[]>();
    const concerned = files.filter((file) => {
      const { positions, equality } = this.table.deletesOf(file);
      return positions.length + equality.length > 0;
    });
    if (concerned.length === 0) return;
    const listed = await this.#positions(concerned);
    for (const file of concerned) {
      const { equality } = this.table.deletesOf(file);
      if (equality.length === 0) continue;
      const key = equality.map((each) => each.file.path).sort().join('\n');
      groups.set(key, [...(groups.get(key) ?? []), file]);
    }
    const matched = new Map<DataFile, RowPositions>();
    for (const [key, group] of groups) {
      const found = await this.#matches(group, key);
      for (const [index, file] of group.entries()) matched.set(file, found[index]!);
    }
    for (const file of concerned) await this.#addFilter(file, listed, matched.get(file));
  }

  async #addFilter(file: DataFile, listed: ReadonlyMap<string, RowPositions>, matched: RowPositions | undefined): Promise<void> {
    const deletes = this.table.deletesOf(file);
    const entry = this.table.entryOf(file);
    const own = listed.get(entry.file.path);
    const rows = await [own, matched].reduce<Promise<RowPositions>>(async (all, each) => (each ? unionOf(await all, each) : all), file.rowFilter ? file.rowFilter.load() : Promise.resolve(new Uint32Array()));
    if (rows.length === 0) return;
    const physicalRows = entry.file.rows;
    const key = [entry.file.path, ...[...deletes.positions, ...deletes.equality].map((each) => each.file.path), ...(file.rowFilter ? [file.rowFilter.key] : [])].join('\n');
    file.rows = physicalRows - rows.length;
    file.rowFilter = { listed: 'left-out', count: rows.length, physicalRows, key: this.table.shortKey(key), load: async () => rows };
  }

  async #positions(files: readonly DataFile[]): Promise<ReadonlyMap<string, RowPositions>> {
    const deletes = new Map<string, RowsFile>();
    for (const file of files) for (const each of this.table.deletesOf(file).positions) {
      deletes.set(each.file.path, this.#rowsFile('a file of position deletes', each.file));
    }
    return deletes.size === 0 ? new Map() : this.table.positions([...deletes.values()]);
  }

  async #matches(files: readonly DataFile[], key: string): Promise<RowPositions[]> {
    const { equality } = this.table.deletesOf(files[0]!);
    const ids = new Set(equality.flatMap((each) => each.file.equalityIds ?? []));
    const fields = [...ids].map((id) => {
      const now = this.fields.find((field) => field.id === id);
      const found = now ?? this.#formerField(id);
      if (!found || (!now && !this.#isTopLevel(id))) throw new LakeError('unsupported', `${this.table.name} has equality deletes by the column ${id}, which is ${found ? 'inside another' : 'not known'}. Those are not supported.`, { table: this.table.name });
      return now ?? { ...found, name: `\u0001${id}` };
    });
    const deletes = equality.map(({ file }) => ({ ...this.#rowsFile('a file of equality deletes', file), rows: file.rows, ids: file.equalityIds ?? [] }));
    return this.table.matches({ files, deletes, fields }, key);
  }

  #rowsFile(what: string, { path, bytes, format }: IcebergDataFile): RowsFile {
    return { path: this.table.storePath(path, this.metadata), bytes, ...this.#formatOf(what, path, format) };
  }

  /** Nothing for Parquet. */
  #formatOf(what: string, path: string, format: string): { format?: FileFormat } {
    const name = format.toUpperCase();
    if (name === 'PARQUET') return {};
    if (name === 'AVRO') return { format: 'avro' };
    throw new LakeError('unsupported', `${this.table.name} has ${what} in ${name}: ${path}. Parquet and Avro are supported.`, { table: this.table.name, path });
  }

  #isTopLevel(id: number): boolean {
    return this.metadata.schemas.some((schema) => schema.fields.some((field) => field.id === id));
  }
}

function partitionOf(open: OpenManifest, row: number): (Value | null)[] {
  const number = open.columns.partition[row]!;
  return (open.partitions[number] ??= partitionAt(open.columns, row, open.spec).map((value, index) => typedPartition(open.parts[index]!, value)));
}

/** Version 1 lists may leave the counts out. */
function isUncounted(manifest: ManifestFile): boolean {
  return manifest.isUncounted ?? false;
}

function planOf(fields: Field[], considered: ScanPlan['considered']): ScanPlan {
  const plan = planScan({ kind: 'parquet', match: 'field-id' }, fields, [], TRUE);
  for (const { file, verdict } of considered) {
    plan.files.total++;
    plan.bytes.total += file.bytes;
    if (verdict === 'read') {
      plan.files.read++;
      plan.bytes.read += file.bytes;
    } else if (verdict === 'skipped-by-partition') plan.files.skippedByPartition++;
    else plan.files.skippedByBounds++;
  }
  return { ...plan, considered };
}
