import avro from 'avsc';

/** 64-bit numbers as bigint: ids of 63 bits do not fit a double. */
export const AVRO_LONG = avro.types.LongType.__with({
  fromBuffer: (buffer: Buffer) => buffer.readBigInt64LE(),
  toBuffer: (value: bigint) => {
    const buffer = Buffer.alloc(8);
    buffer.writeBigInt64LE(value);
    return buffer;
  },
  fromJSON: BigInt,
  toJSON: Number,
  isValid: (value: unknown) => typeof value === 'bigint',
  compare: (a: bigint, b: bigint) => (a === b ? 0 : a < b ? -1 : 1),
});
