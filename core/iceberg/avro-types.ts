/** Ways through bytes of Avro by their schema, for those who look at few of the values. */
import type { AvroCursor, AvroSchema } from './avro';

/** `row`: which record it is, for those who keep what they find in columns. */
export type Step = (at: AvroCursor, row: number) => void;
export type AvroType = string | AvroSchema | AvroType[] | { type: unknown; items?: AvroType; values?: AvroType; size?: number; symbols?: string[] };

/** The types of one schema; those with names may be named again after they were told. */
export class AvroTypes {
  readonly #named = new Map<string, AvroSchema>();

  record(schema: AvroSchema, stepOf: (id: number, type: AvroType) => Step | undefined): Step {
    this.#note(schema);
    const steps = (schema.fields ?? []).map((field) => stepOf(field['field-id'] ?? -1, field.type as AvroType) ?? this.skip(field.type as AvroType));
    return (at, row) => {
      for (const step of steps) step(at, row);
    };
  }

  union(type: AvroType, stepOf: (branch: AvroType) => Step | undefined): Step {
    if (!Array.isArray(type)) return stepOf(type) ?? this.skip(type);
    const steps = type.map((branch) => stepOf(branch) ?? this.skip(branch));
    return (at, row) => {
      const step = steps[at.long()];
      if (!step) throw new Error(`a value is of none of its types, before byte ${at.at} of its block`);
      step(at, row);
    };
  }

  skip(type: AvroType): Step {
    if (Array.isArray(type)) return this.union(type, () => undefined);
    switch (this.kind(type)) {
      case 'null':
        return () => undefined;
      case 'boolean':
        return (at) => at.skip(1);
      case 'int':
      case 'long':
      case 'enum':
        return (at) => at.skipLong();
      case 'float':
        return (at) => at.skip(4);
      case 'double':
        return (at) => at.skip(8);
      case 'string':
      case 'bytes':
        return (at) => at.skip(at.long());
      case 'fixed': {
        const { size } = this.resolved(type) as { size: number };
        return (at) => at.skip(size);
      }
      case 'record':
        return this.record(this.resolved(type) as AvroSchema, () => undefined);
      case 'array':
      case 'map': {
        const pairs = this.#pairsOf(type);
        if (pairs) return pairs === 'numbers' ? (at) => at.skipNumberPairs() : (at) => at.skipBytesPairs();
        const { items, values } = this.resolved(type) as { items?: AvroType; values?: AvroType };
        const key: Step = values === undefined ? () => undefined : (at) => at.skip(at.long());
        const item = this.skip((values ?? items)!);
        return (at, row) => {
          for (let count = at.long(); count !== 0; count = at.long()) {
            // A negative count is followed by the size of the block, which lets it be skipped whole.
            if (count < 0) at.skip(at.long());
            else {
              for (let i = 0; i < count; i++) {
                key(at, row);
                item(at, row);
              }
            }
          }
        };
      }
      default:
        throw new Error(`its schema has a type that Avro does not know: ${JSON.stringify(type).slice(0, 80)}`);
    }
  }

  /** Whether a list is one of records of a number, and a number or bytes: as metrics are, which are most of a manifest. */
  #pairsOf(type: AvroType): 'numbers' | 'bytes' | undefined {
    const { items } = this.resolved(type) as { items?: AvroType };
    const record = items === undefined ? undefined : (this.resolved(items) as AvroSchema);
    if (record?.type !== 'record' || record.fields?.length !== 2) return undefined;
    this.#note(record);
    const [key, value] = record.fields.map((field) => this.kind(field.type as AvroType));
    const isNumber = (kind: string | undefined) => kind === 'int' || kind === 'long';
    return !isNumber(key) ? undefined : isNumber(value) ? 'numbers' : value === 'bytes' ? 'bytes' : undefined;
  }

  branches(type: AvroType): AvroType[] {
    return (Array.isArray(type) ? type : [type]).map((each) => this.resolved(each));
  }

  resolved(type: AvroType): AvroType {
    if (typeof type === 'string') return this.#named.get(type) ?? type;
    if (Array.isArray(type)) return type;
    const { type: inner } = type;
    // `{ "type": { "type": "record", … } }` and `{ "type": "int", "logicalType": … }` are both legal.
    if (typeof inner !== 'string') return this.resolved(inner as AvroType);
    this.#note(type as AvroSchema);
    return type;
  }

  kind(type: AvroType): string {
    const resolved = this.resolved(type);
    if (typeof resolved === 'string') return resolved;
    return Array.isArray(resolved) ? 'union' : String(resolved.type);
  }

  #note(schema: AvroSchema): void {
    if (schema.name) this.#named.set(schema.name, schema);
  }
}
