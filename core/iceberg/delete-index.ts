/** Which delete files apply to which data file (Iceberg specification, "Scan Planning", delete files). */
import { compareText } from '../values/value';
import type { EntryColumns } from './entry-columns';
import { entryAt, sequenceAt, type IcebergDataFile } from './manifest';
import type { ManifestFile } from './manifest-list';
import type { PartitionSpecJson } from './metadata';

/** Field id of the column of position delete files that names the data file ("Reserved Field IDs"). */
const FILE_PATH = 2147483546;

export interface AppliedDelete {
  file: IcebergDataFile;
  sequenceNumber: number;
}

/** What deletes rows of one data file. With a vector, position delete files do not count. */
export interface FileDeletes {
  vector?: AppliedDelete;
  positions: AppliedDelete[];
  equality: AppliedDelete[];
}

export class DeleteIndex {
  readonly #vectors = new Map<string, AppliedDelete[]>();
  readonly #byFile = new Map<string, AppliedDelete[]>();
  readonly #byPartition = new Map<string, { positions: AppliedDelete[]; equality: AppliedDelete[] }>();
  readonly #everywhere: AppliedDelete[] = [];
  /** All of them. */
  readonly all: AppliedDelete[] = [];

  add(columns: EntryColumns, manifest: ManifestFile, spec: PartitionSpecJson): void {
    for (let row = 0; row < columns.count; row++) {
      if (columns.status[row] === 2) continue;
      const { file } = entryAt(columns, row, manifest, spec);
      this.addFile(file, sequenceAt(columns, row, manifest), spec);
    }
  }

  addFile(file: IcebergDataFile, sequenceNumber: number, spec: PartitionSpecJson): void {
    const applied = { file, sequenceNumber };
    this.all.push(applied);
    if (file.content === 2) {
      if (spec.fields.length === 0) this.#everywhere.push(applied);
      else this.#group(spec['spec-id'], file.partition).equality.push(applied);
    } else if (file.format === 'PUFFIN') put(this.#vectors, file.referencedFile ?? '', applied);
    else {
      const only = file.referencedFile ?? onlyFile(file);
      if (only === undefined) this.#group(spec['spec-id'], file.partition).positions.push(applied);
      else put(this.#byFile, only, applied);
    }
  }

  get isEmpty(): boolean {
    return this.all.length === 0;
  }

  /** Position deletes count from their own sequence number on, equality deletes only for what came before. */
  of(path: string, sequenceNumber: number, specId: number, partition: IcebergDataFile['partition']): FileDeletes {
    const group = this.#byPartition.get(groupKey(specId, partition));
    const equality = [...(group?.equality ?? []), ...this.#everywhere].filter((each) => each.sequenceNumber > sequenceNumber);
    const notOlder = (each: AppliedDelete) => each.sequenceNumber >= sequenceNumber;
    const vector = this.#vectors.get(path)?.findLast(notOlder);
    if (vector) return { vector, positions: [], equality };
    return { positions: [...(group?.positions.filter((each) => mayName(each.file, path)) ?? []), ...(this.#byFile.get(path) ?? [])].filter(notOlder), equality };
  }

  #group(specId: number, partition: IcebergDataFile['partition']) {
    const key = groupKey(specId, partition);
    const known = this.#byPartition.get(key);
    if (known) return known;
    const made = { positions: [], equality: [] };
    this.#byPartition.set(key, made);
    return made;
  }
}

function put(map: Map<string, AppliedDelete[]>, key: string, applied: AppliedDelete): void {
  const list = map.get(key);
  if (list) list.push(applied);
  else map.set(key, [applied]);
}

export function groupKey(specId: number, partition: IcebergDataFile['partition']): string {
  return `${specId}\0${partition.map((value) => (value instanceof Uint8Array ? `b${Buffer.from(value).toString('hex')}` : typeof value === 'string' ? `s${value}` : String(value))).join('\0')}`;
}

/** The data file that both bounds name, if they do: bounds of that column are cut only where they would be long. */
function onlyFile({ lower, upper }: IcebergDataFile): string | undefined {
  const [low, high] = [textOf(lower.get(FILE_PATH)), textOf(upper.get(FILE_PATH))];
  return low !== undefined && low === high ? low : undefined;
}

function mayName({ lower, upper }: IcebergDataFile, path: string): boolean {
  const [low, high] = [textOf(lower.get(FILE_PATH)), textOf(upper.get(FILE_PATH))];
  return (low === undefined || compareText(low, path) <= 0) && (high === undefined || compareText(high, path) >= 0);
}

function textOf(bytes: Uint8Array | undefined): string | undefined {
  return bytes && new TextDecoder().decode(bytes);
}
