/**
 * The entries of a manifest in columns, decoded straight from Avro: a manifest of a large table has hundreds of thousands
 * of values, of which planning looks at few. Metrics stay as bytes until they are asked for.
 */
import { LakeError } from '../errors';
import { faultWords } from '../fault-words';
import type { Value } from '../values/value';
import { asBuffer, AvroCursor, readAvroBlocks, type AvroSchema } from './avro';
import { AvroTypes, type AvroType, type Step } from './avro-types';
import { signedBigEndian } from './single-value';

/** Plain typed arrays, so that they can be sent between threads and kept on disk. Absent numbers are NaN, absent places -1. */
export interface EntryColumns {
  count: number;
  /** The file's blocks, unpacked, one after the other; places are offsets in it. */
  data: Uint8Array;
  /** 0 existing, 1 added, 2 deleted. */
  status: Uint8Array;
  /** 0 data, 1 position deletes, 2 equality deletes. */
  content: Uint8Array;
  /** Minus one where absent. */
  snapshotId: BigInt64Array;
  sequence: Float64Array;
  fileSequence: Float64Array;
  path: Int32Array;
  format: Int32Array;
  rows: Float64Array;
  bytes: Float64Array;
  /** Index into `partitions`. */
  partition: Uint32Array;
  /** Different partitions: field id to value as Avro has it. */
  partitions: Map<number, Value | null>[];
  /** Places of the maps, by field id: column sizes, value counts, null counts, NaN counts, lower and upper bounds. */
  maps: Map<number, Int32Array>;
  /** Maps that are written as Avro maps with text keys, as some writers do. */
  textKeyed: number[];
  sortOrder: Float64Array;
  firstRowId: Float64Array;
  referenced: Int32Array;
  contentOffset: Float64Array;
  contentBytes: Float64Array;
  equalityIds: Int32Array;
  splitOffsets: Int32Array;
}

export const METRIC_MAPS = { columnBytes: 108, valueCounts: 109, nullCounts: 110, nanCounts: 137, lower: 125, upper: 128 } as const;
const MAP_IDS = Object.values(METRIC_MAPS) as number[];

/** Fails with `bad-file` for bytes that are no manifest, naming `path`. */
export async function decodeEntries(bytes: Uint8Array, path: string): Promise<EntryColumns> {
  const { schema, blocks } = await readAvroBlocks(bytes, path);
  try {
    const total = blocks.reduce((sum, block) => sum + block.count, 0);
    const data = blocks.length === 1 ? blocks[0]!.data : Buffer.concat(blocks.map((block) => block.data));
    if (total > data.length) throw new Error(`it claims ${total} entries in ${data.length} bytes`);
    return new Decoder(schema, path, total, data).run();
  } catch (error) {
    if (error instanceof LakeError) throw error;
    throw new LakeError('bad-file', `${path}: not a readable manifest: ${faultWords(error)}.`, { path }, { cause: error });
  }
}

class Decoder {
  readonly #columns: EntryColumns;
  readonly #known = new Map<string, number>();
  readonly #types = new AvroTypes();
  #partition: Map<number, Value | null> = new Map();

  constructor(
    readonly schema: AvroSchema,
    readonly path: string,
    count: number,
    data: Uint8Array,
  ) {
    const places = () => new Int32Array(count).fill(-1);
    const numbers = () => new Float64Array(count).fill(NaN);
    this.#columns = {
      count, data, status: new Uint8Array(count).fill(255), content: new Uint8Array(count), snapshotId: new BigInt64Array(count).fill(-1n), sequence: numbers(), fileSequence: numbers(), path: places(), format: places(),
      rows: numbers(), bytes: numbers(), partition: new Uint32Array(count), partitions: [], maps: new Map(MAP_IDS.map((id) => [id, places()])), textKeyed: [], sortOrder: numbers(), firstRowId: numbers(),
      referenced: places(), contentOffset: numbers(), contentBytes: numbers(), equalityIds: places(), splitOffsets: places(),
    };
  }

  run(): EntryColumns {
    const columns = this.#columns;
    const record = this.#types.record(this.schema, (id, type) => this.#entryField(id, type));
    const at = new AvroCursor(asBuffer(columns.data), this.path);
    for (let row = 0; row < columns.count; row++) {
      record(at, row);
      if (columns.status[row]! > 2 || columns.path[row] === -1) throw new Error(`entry ${row + 1} has no status or no data file`);
    }
    return columns;
  }

  #entryField(id: number, type: AvroType): Step | undefined {
    const { status, snapshotId, sequence, fileSequence } = this.#columns;
    switch (id) {
      case 0:
        return this.#number(type, status);
      case 1:
        return this.#whenPresent(type, 'long', (at, row) => {
          snapshotId[row] = at.bigLong();
        });
      case 3:
        return this.#number(type, sequence);
      case 4:
        return this.#number(type, fileSequence);
      case 2: {
        const inner = this.#types.branches(type).find((each) => this.#types.kind(each) === 'record') as AvroSchema | undefined;
        if (!inner) throw new Error('its entries have no data file');
        return this.#types.union(type, (branch) => (this.#types.resolved(branch) === inner ? this.#types.record(inner, (field, fieldType) => this.#fileField(field, fieldType)) : undefined));
      }
      default:
        return undefined;
    }
  }

  #fileField(id: number, type: AvroType): Step | undefined {
    const c = this.#columns;
    switch (id) {
      case 134:
        return this.#number(type, c.content);
      case 100:
        return this.#place(type, c.path);
      case 101:
        return this.#place(type, c.format);
      case 103:
        return this.#number(type, c.rows);
      case 104:
        return this.#number(type, c.bytes);
      case 140:
        return this.#number(type, c.sortOrder);
      case 142:
        return this.#number(type, c.firstRowId);
      case 143:
        return this.#place(type, c.referenced);
      case 144:
        return this.#number(type, c.contentOffset);
      case 145:
        return this.#number(type, c.contentBytes);
      case 135:
        return this.#place(type, c.equalityIds);
      case 132:
        return this.#place(type, c.splitOffsets);
      case 131:
        return this.#whenPresent(type, 'bytes', () => {
          throw new LakeError('unsupported', `${this.path}: its data files are encrypted, which is not supported.`, { path: this.path });
        });
      case 102:
        return this.#partitionStep(type);
      default:
        if (!MAP_IDS.includes(id)) return undefined;
        if (this.#types.branches(type).some((each) => this.#types.kind(each) === 'map')) c.textKeyed.push(id);
        return this.#place(type, c.maps.get(id)!);
    }
  }

  /** Most entries share their partition with others, so equal bytes are decoded once. */
  #partitionStep(type: AvroType): Step {
    const record = this.#types.branches(type).find((each) => this.#types.kind(each) === 'record') as AvroSchema | undefined;
    if (!record) return this.#types.skip(type);
    const decode = this.#types.record(record, (id, fieldType) => this.#partitionField(id, fieldType));
    const skip = this.#types.skip(record);
    return this.#types.union(type, (branch) => (this.#types.resolved(branch) !== record ? undefined : (at, row) => {
      const start = at.at;
      skip(at, row);
      const end = at.at;
      const key = at.buffer.toString('latin1', start, end);
      let index = this.#known.get(key);
      if (index === undefined) {
        at.at = start;
        this.#partition = new Map();
        decode(at, row);
        at.at = end;
        index = this.#columns.partitions.push(this.#partition) - 1;
        this.#known.set(key, index);
      }
      this.#columns.partition[row] = index;
    }));
  }

  #partitionField(id: number, type: AvroType): Step {
    return this.#types.union(type, (branch) => {
      const read = this.#value(branch);
      return (at) => void this.#partition.set(id, read(at));
    });
  }

  #value(type: AvroType): (at: AvroCursor) => Value | null {
    switch (this.#types.kind(type)) {
      case 'null':
        return () => null;
      case 'boolean':
        return (at) => at.take(1)[0] !== 0;
      case 'int':
        return (at) => at.long();
      case 'long':
        return (at) => at.bigLong();
      case 'float':
        return (at) => at.take(4).readFloatLE();
      case 'double':
        return (at) => at.take(8).readDoubleLE();
      case 'string':
        return (at) => at.bytes().toString('utf8');
      case 'bytes':
        return isDecimal(this.#types.resolved(type)) ? (at) => signedBigEndian(at.bytes()) : (at) => Uint8Array.from(at.bytes());
      case 'fixed': {
        const { size } = this.#types.resolved(type) as { size: number };
        if (isDecimal(this.#types.resolved(type))) return (at) => signedBigEndian(at.take(size));
        const isUuid = (this.#types.resolved(type) as { logicalType?: string }).logicalType === 'uuid';
        return (at) => (isUuid ? uuidText(at.take(size)) : Uint8Array.from(at.take(size)));
      }
      default:
        throw new LakeError('unsupported', `${this.path}: a partition field of the Avro type ${JSON.stringify(type)} is not supported.`, { path: this.path });
    }
  }

  #number(type: AvroType, into: Float64Array | Uint8Array): Step {
    return this.#types.union(type, (branch) => (this.#types.kind(branch) === 'null' ? undefined : (at, row) => {
      into[row] = at.long();
    }));
  }

  /** Notes where the value begins, and goes past it. */
  #place(type: AvroType, into: Int32Array): Step {
    return this.#types.union(type, (branch) => {
      if (this.#types.kind(branch) === 'null') return undefined;
      const skip = this.#types.skip(branch);
      return (at, row) => {
        into[row] = at.at;
        skip(at, row);
      };
    });
  }

  #whenPresent(type: AvroType, kind: string, step: Step): Step {
    return this.#types.union(type, (branch) => (this.#types.kind(branch) === kind || (kind === 'long' && this.#types.kind(branch) === 'int') ? step : undefined));
  }

}

function isDecimal(type: AvroType): boolean {
  return (type as { logicalType?: string }).logicalType === 'decimal';
}

function uuidText(bytes: Buffer): string {
  return bytes.toString('hex').replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, '$1-$2-$3-$4-$5');
}

/** Text at a place, '' for none. */
export function textAt({ data }: EntryColumns, place: number): string {
  if (place < 0) return '';
  const at = cursorAt(data, place);
  return at.bytes().toString('utf8');
}

/** The value of one column in a map of counts; undefined where the map has none. */
export function countAt(columns: EntryColumns, map: number, row: number, id: number): number | undefined {
  const at = find(columns, map, row, id);
  return at?.long();
}

export function boundAt(columns: EntryColumns, map: number, row: number, id: number): Uint8Array | undefined {
  return find(columns, map, row, id)?.bytes();
}

/** Every key of a map with its value. */
export function mapAt<T>(columns: EntryColumns, map: number, row: number, read: (at: AvroCursor) => T): Map<number, T> {
  const found = new Map<number, T>();
  walk(columns, map, row, (key, at) => {
    found.set(key, read(at));
    return false;
  });
  return found;
}

export function numbersAt({ data }: EntryColumns, place: number): number[] {
  if (place < 0) return [];
  const at = cursorAt(data, place);
  const numbers: number[] = [];
  for (let count = at.long(); count !== 0; count = at.long()) {
    if (count < 0) at.long();
    for (let i = 0; i < Math.abs(count); i++) numbers.push(at.long());
  }
  return numbers;
}

const COUNTS = new Set<number>([METRIC_MAPS.columnBytes, METRIC_MAPS.valueCounts, METRIC_MAPS.nullCounts, METRIC_MAPS.nanCounts]);

function find(columns: EntryColumns, map: number, row: number, id: number): AvroCursor | undefined {
  const place = columns.maps.get(map)![row]!;
  if (place < 0) return undefined;
  const isText = columns.textKeyed.length > 0 && columns.textKeyed.includes(map);
  const isCount = COUNTS.has(map);
  const at = cursorAt(columns.data, place);
  for (let count = at.long(); count !== 0; count = at.long()) {
    if (count < 0) at.long();
    for (let i = Math.abs(count); i > 0; i--) {
      const key = isText ? Number(at.bytes().toString('utf8')) : at.long();
      if (key === id) return at;
      if (isCount) at.skipLong();
      else at.skip(at.long());
    }
  }
  return undefined;
}

function walk(columns: EntryColumns, map: number, row: number, take: (key: number, at: AvroCursor) => boolean): void {
  const place = columns.maps.get(map)![row]!;
  if (place < 0) return;
  const isText = columns.textKeyed.includes(map);
  const at = cursorAt(columns.data, place);
  for (let count = at.long(); count !== 0; count = at.long()) {
    if (count < 0) at.long();
    for (let i = 0; i < Math.abs(count); i++) {
      const key = isText ? Number(at.bytes().toString('utf8')) : at.long();
      if (take(key, at)) return;
    }
  }
}

/** One cursor for all: whoever asks reads at once, and millions of small objects are not made. */
const shared = new AvroCursor(Buffer.alloc(0), 'a manifest');
const buffers = new WeakMap<Uint8Array, Buffer>();

function cursorAt(data: Uint8Array, place: number): AvroCursor {
  let buffer = buffers.get(data);
  if (!buffer) {
    buffer = asBuffer(data);
    buffers.set(data, buffer);
  }
  shared.buffer = buffer;
  shared.at = place;
  return shared;
}
