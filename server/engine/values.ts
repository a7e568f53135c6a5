/** Engine values as JSON values, exact: what a double would round becomes text. */
import { DuckDBTimestampValue, DuckDBTypeId, type DuckDBDataChunk, type DuckDBType, type DuckDBValue } from '@duckdb/node-api';
import { formatMicros } from '../../core/values/text';
import { floorDiv } from '../../core/values/value';
import { EngineError } from './failures';

export function shownType(type: DuckDBType): string {
  return type.toString().replace(/"([a-z_][a-z0-9_]*)"/g, '$1').replace(/[A-Z][A-Z_0-9 ]+/g, (word) => word.toLowerCase()).replaceAll('timestamp with time zone', 'timestamptz');
}

/** JSON numbers lose its sign in most programs. */
const NEGATIVE_ZERO = '-0.0';

type Cell = (value: DuckDBValue) => unknown;

/** How much a result may hold, counted while its values are made: a few rows can be more than a program has room for. */
export class ResultBudget {
  #bytes = 0;

  constructor(
    /** Of all values together, about as JSON text. */
    readonly bytes: number,
    readonly cellBytes = CELL_BYTES,
  ) {}

  /** Fails with `limit` for a value that is too large, or too much with those before. */
  take(value: unknown): void {
    const size = sizeOf(value, this.cellBytes);
    if (size > this.cellBytes) throw new EngineError('limit', `A value of the result is over ${Math.round(this.cellBytes / 1e6)} MB, the limit for one. Ask for a part of it.`);
    this.#bytes += size;
    if (this.#bytes > this.bytes) throw new EngineError('limit', `The result is over ${Math.round(this.bytes / 1e6)} MB, the limit. Ask for fewer columns or rows, or aggregate.`);
  }
}

const CELL_BYTES = 32e6;

/** About as many characters as its JSON has; counting stops where it is more than `most`. */
function sizeOf(value: unknown, most: number): number {
  if (typeof value === 'string') return value.length + 3;
  if (typeof value !== 'object' || value === null) return 8;
  let size = 2;
  for (const [key, inner] of Object.entries(value)) {
    size += (Array.isArray(value) ? 0 : key.length + 3) + sizeOf(inner, most);
    if (size > most) break;
  }
  return size;
}

/** Rows of a chunk as arrays of JSON values. */
export function chunkRows(chunk: DuckDBDataChunk, converters: readonly Cell[], budget?: ResultBudget): unknown[][] {
  const rows: unknown[][] = Array.from({ length: chunk.rowCount }, () => new Array<unknown>(converters.length));
  for (let c = 0; c < converters.length; c++) {
    const vector = chunk.getColumnVector(c);
    const convert = converters[c]!;
    for (let r = 0; r < rows.length; r++) {
      const value = vector.getItem(r) as DuckDBValue;
      const made = value === null ? null : convert(value);
      budget?.take(made);
      rows[r]![c] = made;
    }
  }
  return rows;
}

export function converter(type: DuckDBType): Cell {
  switch (type.typeId) {
    case DuckDBTypeId.BOOLEAN:
    case DuckDBTypeId.TINYINT:
    case DuckDBTypeId.SMALLINT:
    case DuckDBTypeId.INTEGER:
    case DuckDBTypeId.UTINYINT:
    case DuckDBTypeId.USMALLINT:
    case DuckDBTypeId.UINTEGER:
    case DuckDBTypeId.VARCHAR:
    case DuckDBTypeId.ENUM:
      return (value) => value;
    case DuckDBTypeId.BIGINT:
    case DuckDBTypeId.UBIGINT:
    case DuckDBTypeId.HUGEINT:
    case DuckDBTypeId.UHUGEINT:
      return (value) => (Number.isSafeInteger(Number(value)) ? Number(value) : String(value));
    case DuckDBTypeId.FLOAT:
      return (value) => (Number.isFinite(value) ? (Object.is(value, -0) ? NEGATIVE_ZERO : shortestFloat(value as number)) : String(value));
    case DuckDBTypeId.DOUBLE:
      return (value) => (Number.isFinite(value) ? (Object.is(value, -0) ? NEGATIVE_ZERO : value) : String(value));
    case DuckDBTypeId.TIMESTAMP:
      return (value) => isoTime((value as unknown as { micros: bigint }).micros, '');
    case DuckDBTypeId.TIMESTAMP_TZ:
      return (value) => isoTime((value as unknown as { micros: bigint }).micros, 'Z');
    case DuckDBTypeId.TIMESTAMP_S:
      return (value) => isoTime((value as unknown as { seconds: bigint }).seconds * 1_000_000n, '');
    case DuckDBTypeId.TIMESTAMP_MS:
      return (value) => isoTime((value as unknown as { millis: bigint }).millis * 1000n, '');
    case DuckDBTypeId.TIMESTAMP_NS:
      return (value) => nanoTime((value as unknown as { nanos: bigint }).nanos);
    case DuckDBTypeId.BLOB:
      return (value) => Buffer.from((value as unknown as { bytes: Uint8Array }).bytes).toString('base64');
    case DuckDBTypeId.LIST:
    case DuckDBTypeId.ARRAY: {
      const inner = nullable(converter((type as unknown as { valueType: DuckDBType }).valueType));
      return (value) => (value as unknown as { items: DuckDBValue[] }).items.map(inner);
    }
    case DuckDBTypeId.STRUCT: {
      const { entryNames, entryTypes } = type as unknown as { entryNames: string[]; entryTypes: DuckDBType[] };
      const inner = entryTypes.map((each) => nullable(converter(each)));
      return (value) => {
        const entries = (value as unknown as { entries: Record<string, DuckDBValue> }).entries;
        return Object.fromEntries(entryNames.map((name, index) => [name, inner[index]!(entries[name]!)]));
      };
    }
    case DuckDBTypeId.MAP: {
      const { keyType, valueType } = type as unknown as { keyType: DuckDBType; valueType: DuckDBType };
      const [key, inner] = [nullable(converter(keyType)), nullable(converter(valueType))];
      return (value) => Object.fromEntries((value as unknown as { entries: { key: DuckDBValue; value: DuckDBValue }[] }).entries.map((entry) => [String(key(entry.key)), inner(entry.value)]));
    }
    default:
      return (value) => String(value);
  }
}

/** A 32-bit float by the fewest digits that name it: 12.77, not the 12.770000457763672 of its double. */
function shortestFloat(value: number): number {
  for (let digits = 6; digits < 9; digits++) {
    const short = Number(value.toPrecision(digits));
    if (Math.fround(short) === value) return short;
  }
  return Number(value.toPrecision(9));
}

function nullable(convert: Cell): Cell {
  return (value) => (value === null || value === undefined ? null : convert(value));
}

function isoTime(micros: bigint, zone: string): string {
  if (micros === 9223372036854775807n) return 'infinity';
  if (micros <= -9223372036854775806n) return '-infinity';
  // Years that ISO 8601 has no text for, as far as programs know: by the engine's own text.
  return micros > LAST_DATE || micros < -LAST_DATE ? String(new DuckDBTimestampValue(micros)) : `${formatMicros(micros)}${zone}`;
}

/** In microseconds: the farthest that a JavaScript date goes. */
const LAST_DATE = 8_640_000_000_000_000_000n;

function nanoTime(nanos: bigint): string {
  const micros = floorDiv(nanos, 1000n);
  if (micros * 1000n === nanos) return isoTime(micros, '');
  const seconds = floorDiv(nanos, 1_000_000_000n);
  return `${formatMicros(seconds * 1_000_000n)}.${String(nanos - seconds * 1_000_000_000n).padStart(9, '0')}`;
}
