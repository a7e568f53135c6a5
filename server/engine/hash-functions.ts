/** What the engine lacks for partition transforms, for SQL of ours; user SQL cannot name it (`core/sql/allowed-functions`). */
import { BIGINT, BLOB, DuckDBScalarFunction, INTEGER, type DuckDBBlobValue, type DuckDBConnection, type DuckDBType, VARCHAR } from '@duckdb/node-api';
import { murmur3 } from '../../core/iceberg/hash';
import { decimalBytes } from '../../core/iceberg/single-value';
import { floorDiv } from '../../core/values/value';

export const HASH = { long: '__hash_long', bytes: '__hash_bytes', decimal: '__hash_decimal' } as const;

/** Of a decimal as text and a width: the unscaled number cut down to a multiple of it, as text, since it may be too wide for the column's own type. */
export const TRUNCATE_DECIMAL = '__truncate_decimal';

const eight = new Uint8Array(8);
const view = new DataView(eight.buffer);

export function registerHashes(connection: DuckDBConnection): void {
  register<bigint>(connection, HASH.long, BIGINT, (value) => {
    view.setBigInt64(0, value, true);
    return murmur3(eight);
  });
  register<string>(connection, HASH.decimal, VARCHAR, (text) => murmur3(decimalBytes(BigInt(text.replace('.', '')))));
  connection.registerScalarFunction(DuckDBScalarFunction.create({
    name: TRUNCATE_DECIMAL, parameterTypes: [VARCHAR, INTEGER], returnType: VARCHAR,
    mainFunction: (_info, chunk, output) => {
      const [texts, widths] = [chunk.getColumnVector(0), chunk.getColumnVector(1)];
      for (let row = 0; row < chunk.rowCount; row++) {
        const text = texts.getItem(row) as string | null;
        const width = BigInt(widths.getItem(row) as number);
        output.setItem(row, text === null ? null : String(floorDiv(BigInt(text.replace('.', '')), width) * width));
      }
      output.flush();
    },
  }));
  register<DuckDBBlobValue>(connection, HASH.bytes, BLOB, ({ bytes }) => murmur3(bytes));
}

function register<T>(connection: DuckDBConnection, name: string, type: DuckDBType, hash: (value: T) => number): void {
  connection.registerScalarFunction(DuckDBScalarFunction.create({
    name, parameterTypes: [type], returnType: INTEGER,
    mainFunction: (_info, chunk, output) => {
      const column = chunk.getColumnVector(0);
      for (let row = 0; row < chunk.rowCount; row++) {
        const value = column.getItem(row) as T | null;
        output.setItem(row, value === null ? null : hash(value));
      }
      output.flush();
    },
  }));
}
