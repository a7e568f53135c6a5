import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { parseTypeName, typeName } from './type-names';
import { field, sameType, type LogicalType } from './types';

const primitive = fc.constantFrom<LogicalType>(...(['boolean', 'byte', 'short', 'int', 'long', 'float', 'double', 'date', 'time', 'timestamp', 'timestamptz', 'timestamp_ns', 'string', 'binary', 'uuid'] as const).map((kind) => ({ kind })));
const anyType = fc.letrec<{ type: LogicalType }>((tie) => ({
  type: fc.oneof(
    { depthSize: 'small' }, primitive,
    fc.tuple(fc.integer({ min: 1, max: 38 }), fc.nat(10)).map(([precision, scale]): LogicalType => ({ kind: 'decimal', precision, scale: Math.min(scale, precision) })),
    fc.array(fc.tuple(fc.string({ minLength: 1 }), tie('type')), { minLength: 1, maxLength: 3 }).map((all): LogicalType => ({ kind: 'struct', fields: all.map(([name, type]) => field(name, type)) })),
    tie('type').map((type): LogicalType => ({ kind: 'list', element: field('element', type) })),
    fc.tuple(primitive, tie('type')).map(([key, value]): LogicalType => ({ kind: 'map', key: field('key', key, { required: true }), value: field('value', value) })),
  ),
})).type;

describe('type names', () => {
  it('say any type, nested with any names, and are read back', () => {
    fc.assert(fc.property(anyType, (type) => sameType(parseTypeName(typeName(type)), type)), { seed: 6, numRuns: 500 });
  });

  it.each([['DECIMAL(10,2)[]', 'decimal(10,2)[]'], ['DECIMAL(5)', 'decimal(5,0)'], ['CHAR(3)', 'varchar'], ['character varying(20)[]', 'varchar[]'], ['double precision', 'double'], ['TIMESTAMP WITH TIME ZONE', 'timestamptz'], ['STRUCT("Lat" DOUBLE, b INTEGER[])', 'struct("Lat" double, b integer[])'], ['MAP(VARCHAR, STRUCT(x BIGINT))', 'map(varchar, struct(x bigint))'], ["ENUM('a', 'b')", 'varchar']])('read the engine\'s own: %s', (engine, ours) => {
    expect(typeName(parseTypeName(engine))).toBe(ours);
  });

  it('say where a type is not understood', () => {
    expect(() => parseTypeName('struct(a geometry)')).toThrow('"struct(a geometry)" is not one this product knows');
  });

  it('quotes names that are words of the grammar', () => {
    expect(typeName(parseTypeName('struct("at" struct(lat double), "or" integer)'))).toBe('struct("at" struct(lat double), "or" integer)');
  });
});
