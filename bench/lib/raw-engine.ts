/** The engine by itself, as a person would use it by hand: the reference for queries. */
import { DuckDBInstance, type DuckDBConnection } from '@duckdb/node-api';
import os from 'node:os';

export async function rawEngine(): Promise<DuckDBConnection> {
  const instance = await DuckDBInstance.create(':memory:', { threads: String(os.availableParallelism()), memory_limit: '2GB' });
  const connection = await instance.connect();
  await connection.run("SET TimeZone = 'UTC'");
  return connection;
}

export function fileList(files: readonly string[]): string {
  return `read_parquet([${files.map((file) => `'${file.replaceAll("'", "''")}'`).join(', ')}])`;
}
