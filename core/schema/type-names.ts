import { LakeError } from '../errors';
import { field, type Field, type LogicalType, type PrimitiveKind } from './types';

const NAMES: Record<PrimitiveKind, string> = {
  boolean: 'boolean', byte: 'tinyint', short: 'smallint', int: 'integer', long: 'bigint', float: 'float', double: 'double',
  date: 'date', time: 'time', timestamp: 'timestamp', timestamptz: 'timestamptz', timestamp_ns: 'timestamp_ns',
  string: 'varchar', binary: 'blob', uuid: 'uuid',
};

/** Other spellings, and the engine's types without an equal in the open formats (read as the next wider one). */
const ALIASES: Record<string, LogicalType> = {
  'timestamp with time zone': { kind: 'timestamptz' },
  'timestamp_s': { kind: 'timestamp' },
  'timestamp_ms': { kind: 'timestamp' },
  'double precision': { kind: 'double' }, real: { kind: 'float' }, float4: { kind: 'float' }, float8: { kind: 'double' }, int2: { kind: 'short' }, int4: { kind: 'int' }, int8: { kind: 'long' }, bool: { kind: 'boolean' }, varbinary: { kind: 'binary' }, binary: { kind: 'binary' },
  bytea: { kind: 'binary' }, text: { kind: 'string' }, string: { kind: 'string' }, int: { kind: 'int' }, long: { kind: 'long' },
  utinyint: { kind: 'short' }, usmallint: { kind: 'int' }, uinteger: { kind: 'long' },
  ubigint: { kind: 'decimal', precision: 20, scale: 0 }, hugeint: { kind: 'decimal', precision: 38, scale: 0 },
  json: { kind: 'string' }, bit: { kind: 'string' }, interval: { kind: 'string' }, 'time with time zone': { kind: 'string' },
  '"null"': { kind: 'string' }, null: { kind: 'string' },
};

/** `CHAR(n)` and its like: the length is read and not kept, since no open format has it. */
const TEXTS_OF_LENGTH = new Set(['char', 'character', 'bpchar', 'nchar', 'nvarchar', 'varchar', 'character varying', 'text', 'string']);

/** The SQL name of a type, as shown and as the engine reads it: `struct("lat" double)`, `decimal(10,2)`, `varchar[]`. */
export function typeName(type: LogicalType): string {
  switch (type.kind) {
    case 'decimal':
      return `decimal(${type.precision},${type.scale})`;
    case 'fixed':
      return 'blob';
    case 'struct':
      return `struct(${type.fields.map((each) => `${quoteIfNeeded(each.name)} ${typeName(each.type)}`).join(', ')})`;
    case 'list':
      return `${typeName(type.element.type)}[]`;
    case 'map':
      return `map(${typeName(type.key.type)}, ${typeName(type.value.type)})`;
    default:
      return NAMES[type.kind];
  }
}

/** Words that the engine's grammar keeps for itself, so that a name like them needs quotes (its `duckdb_keywords()`, tried one by one). */
const KEPT_WORDS = new Set(
  `all analyse analyze and anti any array as asc asof asymmetric at authorization binary both by case cast check collate collation column concurrently constraint create cross default
  deferrable desc describe distinct do else end except false fetch for foreign freeze from full glob group having ilike in initially inner intersect into is isnull join lambda lateral
  leading left like limit natural not notnull null offset on only or order outer overlaps pivot pivot_longer pivot_wider placing positional primary qualify references returning right
  select semi show similar some summarize symmetric table tablesample then to trailing true union unique unpack unpivot using variadic verbose when where window with`.split(/\s+/),
);

function quoteIfNeeded(name: string): string {
  return /^[a-z_][a-z0-9_]*$/.test(name) && !KEPT_WORDS.has(name) ? name : `"${name.replaceAll('"', '""')}"`;
}

/** Reads a SQL type name, upper or lower case, nested too; fields of structs may be NOT NULL and have a COMMENT. Fails on what it does not know. */
export function parseTypeName(text: string): LogicalType {
  const reader = new TypeReader(text);
  const type = reader.type();
  reader.end();
  return type;
}

class TypeReader {
  #at = 0;
  constructor(readonly text: string) {}

  type(): LogicalType {
    let type = this.#base();
    for (let suffix = this.#match(/\[\d*\]/y); suffix; suffix = this.#match(/\[\d*\]/y)) {
      type = { kind: 'list', element: field('element', type) };
    }
    return type;
  }

  end(): void {
    if (this.#at < this.text.length) this.#fail();
  }

  #base(): LogicalType {
    const word = this.#match(/"NULL"|timestamp with time zone|time with time zone|double precision|character varying|[a-z_]+[a-z0-9_]*/iy)?.toLowerCase();
    if (!word) return this.#fail();
    if (word === 'struct') return { kind: 'struct', fields: this.#fields() };
    if (word === 'map') {
      this.#expect('(');
      const key = this.type();
      this.#expect(',');
      const value = this.type();
      this.#expect(')');
      return { kind: 'map', key: field('key', key, { required: true }), value: field('value', value) };
    }
    if (word === 'decimal' || word === 'numeric') {
      const sizes = /^\s*\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\)/.exec(this.text.slice(this.#at));
      if (!sizes) return { kind: 'decimal', precision: 18, scale: 3 };
      this.#at += sizes[0].length;
      return { kind: 'decimal', precision: Number(sizes[1]), scale: Number(sizes[2] ?? 0) };
    }
    if (TEXTS_OF_LENGTH.has(word)) {
      this.#match(/\s*\(\s*\d+\s*\)/y);
      return { kind: 'string' };
    }
    if (word === 'fixed') {
      const length = /^\s*\(\s*(\d+)\s*\)/.exec(this.text.slice(this.#at));
      if (!length) return this.#fail();
      this.#at += length[0].length;
      return { kind: 'fixed', length: Number(length[1]) };
    }
    if (word === 'enum') {
      const close = this.text.indexOf(')', this.#at);
      this.#at = close + 1;
      return { kind: 'string' };
    }
    const known = (Object.keys(NAMES) as PrimitiveKind[]).find((kind) => NAMES[kind] === word);
    if (known) return { kind: known };
    return ALIASES[word] ?? this.#fail();
  }

  #fields(): Field[] {
    this.#expect('(');
    const fields: Field[] = [];
    do {
      const name = this.#match(/"(?:[^"]|"")*"|[^\s"(),]+/y);
      if (!name) return this.#fail();
      this.#match(/\s+/y);
      const type = this.type();
      const required = this.#match(/\s+not\s+null\b/iy) !== undefined;
      const comment = /'(.*)'$/s.exec(this.#match(/\s+comment\s+'(?:[^']|'')*'/iy) ?? '')?.[1]?.replaceAll("''", "'");
      fields.push(field(name.startsWith('"') ? name.slice(1, -1).replaceAll('""', '"') : name, type, { required, ...(comment === undefined ? {} : { comment }) }));
    } while (this.#match(/\s*,\s*/y));
    this.#expect(')');
    return fields;
  }

  #match(pattern: RegExp): string | undefined {
    pattern.lastIndex = this.#at;
    const found = pattern.exec(this.text)?.[0];
    if (found !== undefined) this.#at += found.length;
    return found;
  }

  #expect(mark: string): void {
    this.#match(/\s+/y);
    if (this.text[this.#at] !== mark) this.#fail();
    this.#at++;
    this.#match(/\s+/y);
  }

  #fail(): never {
    throw new LakeError('unsupported', `The type "${this.text}" is not one this product knows (at character ${this.#at + 1}).`);
  }
}
